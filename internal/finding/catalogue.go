package finding

// A Question groups weaknesses by what a developer asks.
type Question string

// The questions.
const (
	WhoGetsIt    Question = "who gets it?"
	HowSoon      Question = "how soon?"
	WhoIsThere   Question = "who is there?"
	WhenItBreaks Question = "what happens when it breaks?"
	WhatItBears  Question = "what does it bear?"
)

// Questions are all of them, in the order in which they are shown.
var Questions = []Question{WhoGetsIt, HowSoon, WhoIsThere, WhenItBreaks, WhatItBears}

// A Weakness is a way in which servers that push messages fail.
type Weakness struct {
	Number   int      `json:"number"`
	Question Question `json:"question"`
	Title    string   `json:"title"`
	// Usually says what makes servers do this, and where to look.
	Usually string `json:"usually"`
	// Experiment says how to confirm it.
	Experiment string `json:"experiment"`
}

// Catalogue is all weaknesses, by number.
var Catalogue = []*Weakness{
	&crowdRace, &wrongEcho, &leak, &leakedWhisper, &ghost, // 1 to 5
	&noEviction, &hastyEviction, &badHeartbeat, &stalledRoom, &slowStore,
	&brokenHistory, &nothingOnReturn, &doubledOnReturn, &reordered, &differentOrder, // 11 to 15
	&alteredPayload, &sizeLimited, &anyOrigin, &noWay, &lossAtSwitch,
	&slowReturned, &rudeGoodbye, &leftover, &openedDoor, &gapBetweenNodes, // 21 to 25
	&crookedGrowth, &wrongPresence, &lenientProtocol, &endlessQueue, &verbatimMarkup,
	&identityClash, &burstLoss, &lostInStore, &forgetfulRestart, &lateHandled, // 31 to 35
	&deafMember, &stays, &twice, &silent, &naiveFraming,
	&stalled, &fragileServer, // 41, 42
}

// none is what was seen and is none of those.
var none = Weakness{}

func byNumber(n int) *Weakness {
	if n < 1 || n > len(Catalogue) {
		return &none
	}
	return Catalogue[n-1]
}

// Those whose rules are short.
var (
	rudeGoodbye = Weakness{Number: 22, Question: WhenItBreaks, Title: "rude goodbye",
		Usually: "The process ends while connections are open, without a close frame. Look at what the server " +
			"does on SIGTERM: stop accepting, send 1001 to each connection, wait for the answers, then end.",
		Experiment: "the server is told to end while clients are connected: how does each connection end?"}
	lenientProtocol = Weakness{Number: 28, Question: WhatItBears, Title: "lenient or brittle protocol",
		Usually: "Frames are taken as they come: no check of masks, reserved bits, UTF-8 or fragments. Most " +
			"libraries do this right; look at what is done by hand, or switched off for speed.",
		Experiment: "each malformed frame once: the server has to close with the right code, and others must " +
			"not notice"}
	endlessQueue = Weakness{Number: 29, Question: WhatItBears, Title: "endless queue",
		Usually: "What a slow reader has not read is kept in memory without a bound. Look for the queue of " +
			"each connection: it needs a limit, and something that happens at it.",
		Experiment: "one client stops reading while its room goes on: how does the server's memory grow?"}
	verbatimMarkup = Weakness{Number: 30, Question: WhoGetsIt, Title: "verbatim markup",
		Usually: "The server relays what looks like a script as it is. That is right if clients show it as " +
			"text, and wrong if they put it into a page.",
		Experiment: "payloads with markup: what comes of them at the others?"}
)
