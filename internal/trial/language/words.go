package language

import "github.com/hashicorp/hcl/v2"

// A word is one attribute of the language.
type word struct {
	name     string
	form     string // what is written there
	required bool
	doc      string
}

// A blockWord is one block of the language. The reader makes its schemas out
// of this table, so what is described here is what is read.
type blockWord struct {
	label  string // what its label is; "" for none
	attrs  []word
	blocks []string
	free   bool // it takes any attributes
	doc    string
}

// routeWords are what a target, and each further route to it, says of a transport.
func routeWords(first string) []word {
	return []word{
		{"websocket", formText, false, "a ws:// or wss:// address" + first},
		{"deflate", formYes, false, "with websocket: offer to compress messages (permessage-deflate), in which each " +
			"may refer to those before it"},
		{"deflate_fresh", formYes, false, "with deflate: each message stands for itself (no context takeover)"},
		{"deflate_window", formNumber, false, "with deflate: how far back messages refer, 2 to the power of 8 to 15"},
		{"events", formText, false, "instead: an http:// address that is answered with an event stream (Server-Sent " +
			"Events); what clients say is posted; a stream that ends is asked for again after the time that the " +
			"server's retry says, or a second if it says none"},
		{"stream", formText, false, "instead: an http:// address whose answer does not end; messages in it end as " +
			"ended_by or prefix says, and are lines if neither does; what clients say is posted"},
		{"polling", formText, false, "instead: an http:// address that is asked again and again, and answers once it " +
			"has something (long polling), or at once if there is every; an answer is a message, or lines of them if " +
			"its type is application/x-ndjson, or as ended_by or prefix says; what clients say is posted"},
		{"lines", formText, false, "instead: a tcp:// address; each message is a line of text"},
		{"tcp", formText, false,
			"instead: a tcp:// address; messages end as ended_by or prefix says, and are lines if " +
				"neither does"},
		{"udp", formText, false, "instead: a udp:// address; each datagram is a message, or holds messages that end " +
			"as ended_by or prefix says"},
		{"urgent", formText, false, "with websocket, lines or tcp: a udp:// address beside it, that what a session " +
			"says with urgent = true goes to in datagrams; what comes may come over either"},
		{"urgent_framed", formYes, false, "with urgent: messages in datagrams end as ended_by or prefix says, too; " +
			"else a datagram is a message"},
		{"ended_by", formText, false,
			"with tcp, udp, stream or polling: the bytes that end each message, such as \"\\r\\n\" or \"\\u001e\""},
		{"prefix", `"1", "2", "4", "2le", "4le" or "varint"`, false,
			"with tcp, udp, stream or polling: how the length in front of each message is written: in so many bytes, " +
				"the high one first or (le) the low one, or in groups of seven bits"},
		{"every", formDuration, false, "with polling: ask at this pace, whether there is something or not"},
		{"method", `"GET" or "POST"`, false, "with events, stream or polling: how messages are asked for; \"GET\" if " +
			"it is not given"},
		{"post", formText, false, "with events, stream or polling: the path that what a client says is posted to, " +
			"such as \"/say?name=${name}\"; the path that is asked if it is not given"},
		{"post_type", formText, false, `the type of what is posted; "application/json" if it is not given`},
		{"post_end", formYes, false, "a client that closes says so with DELETE, on the path that it asked"},
		{"first_within", formDuration, false, "with events, stream or udp: how soon something must come after it " +
			"was asked for, or the socket was there; without it, nothing need"},
	}
}

var steps = []string{"connect", "request", "enter", "say", "whisper", "send", "ask", "expect", "leave", "pause", "stay",
	"repeat", "choose", "when", "otherwise", "set", "barrier",
	"close", "vanish", "fall_silent", "misbehave", "read_slowly", "malformed", "expect_close", "assert"}

const (
	formText      = "text"
	formNumber    = "number"
	formYes       = "true or false"
	formDuration  = `duration, such as "5s"`
	formShare     = `share, such as "20%"`
	formTemplate  = "text with ${...}"
	formCondition = "condition on msg"
	formValue     = "expression on msg"
	formFinal     = "condition on msg, text, status and figures"
	formBody      = "object (becomes JSON) or text with ${...}"
	formFields    = "object of texts with ${...}"
	formCapture   = "object of names and expressions"
	formLimit     = "duration or number"
)

var exchange = []word{
	{"send", formBody, false, "what the client sends; nothing if it is not given: it happens by itself"},
	{"confirmed", formCondition, false, "recognises the confirmation; nothing is waited for if it is not given"},
	{"refused", formCondition, false, "recognises the refusal"},
	{"why", formValue, false, "the server's reason for a refusal; without it, its field reason, error, message, " +
		"text, detail, why or description, or all of it"},
}

// content is how a message's content can be given.
var content = []word{
	{"body", formBody, false, "the message"},
	{"hex", "hexadecimal digits", false, "instead: bytes, sent as a binary message"},
	{"file", "path", false, "instead: what is in a file, sent as a binary message"},
	{"binary", formYes, false, "send the body as a binary message"},
	{"urgent", formYes, false, "send it in a datagram, to the target's urgent address"},
}

// marked is content that is accounted for.
var marked = append([]word{
	{"payload", formTemplate, false, "what recipients must find, byte for byte, where the dialect says; it stands " +
		"as ${payload} in the body"},
}, append([]word{
	{"body", formBody, false, "the message, with ${mark} somewhere in it, or ${mark_bytes}"},
	{"hex", "hexadecimal digits", false, "instead: bytes, sent as a binary message with the mark behind them"},
	{"file", "path", false, "instead: what is in a file, sent as a binary message with the mark behind it"},
}, content[3:]...)...)

// knownBy and knownFrom are of messages in place of which the server says something of its own.
var (
	knownBy = word{"known_by", formCondition, false, "instead of ${mark}, if the server says something of its own: " +
		"recognises a delivery, at its recipient. It counts as one of the oldest such message that the recipient " +
		"waits for; if two are under way at a time it is open which, and their latencies have two ends"}
	knownFrom = word{"known_from", formValue, false, "with known_by: the name of who said it, if it says so, such as " +
		"msg.name: then one of each sender can be under way"}
)

var capture = word{"capture", formCapture, false, "what to remember of it, as my.NAME"}

func within(what string) word { return word{"within", formDuration, false, what} }

func attrs(lists ...[]word) (all []word) {
	for _, l := range lists {
		all = append(all, l...)
	}
	return all
}

// vocabulary is the whole language. "" is the file itself.
var vocabulary = map[string]*blockWord{
	"": {blocks: []string{"trial", "import", "variable", "secret", "data", "target", "dialect", "feed", "session",
		"crew", "tide", "limit", "final_check", "on", "server", "fault"}},
	"trial": {label: "name", doc: "names the experiment", attrs: []word{
		{"seed", formNumber, false, "what all random choices follow from; 1 if it is not given"},
		{"prompt", formDuration, false, `a delivery later than this is late; "1s" if it is not given`},
		{"grace", formDuration, false, `a message may arrive this long after it was sent; "5s" if it is not given`},
		{"path", `"own" or "kernel"`, false, "what does faults on the path of clients: the tool itself, or, as far " +
			"as it can (freeze, delay, bandwidth, lose, reorder, corrupt), the system's traffic control, in a " +
			"network namespace of its own: to whole packets, of TCP as well, which sends again what is lost. " +
			`That takes Linux, root and iproute2; "own" if it is not given`},
		{"loops", formNumber, false, "how many event loops serve the clients, each on a thread of its own; one for " +
			"each core that the machine has beyond two if it is not given, and at least one"},
	}},
	"import": {label: "path", doc: "takes in the blocks of another file; what stands in this one goes before its " +
		"trial, target and tide"},
	"variable": {label: "name", doc: "a value that --set NAME=VALUE on the command line changes; it is var.NAME",
		attrs: []word{
			{"default", "number, text, true or false", true, "its value if it is not set"},
		}},
	"secret": {label: "name", doc: "a text that is in no file, store, log, screen or export; it is secret.NAME",
		attrs: []word{
			{"env", formText, false, "the environment variable that holds it"},
			{"file", "path", false, "instead: the file that holds it"},
			{"captured", formYes, false, "instead: it is what sessions capture, or set, as my.NAME. Cookies are " +
				"secret by themselves"},
		}},
	"data": {label: "name", doc: "rows that are dealt out to clients by their number; a column is data.NAME.COLUMN",
		attrs: []word{
			{"file", "path", true,
				"a .csv file whose first line names the columns, or a .json file with a list of objects"},
		}},
	"target": {label: "name", doc: "the server under test", blocks: []string{"target.route", "target.tls",
		"target.promise"},
		attrs: append(routeWords("; --target on the command line goes before it"),
			word{"nodes", "list of texts", false, "instead: the addresses of several servers, of one kind; clients " +
				"are dealt out to them in turn, and know theirs as node"},
			word{"http", formText, false, "an http:// address for requests; the host of the first route if it is not " +
				"given; a target over TCP needs it for requests"},
			word{"from", "list of texts", false, "addresses of this machine that clients connect from, dealt out in " +
				"turn, such as [\"127.0.0.2\", \"127.0.0.3\"]: each has local ports of its own for some 28,000 " +
				"clients"},
			word{"keepalive", formDuration, false, "the clients' system asks the server's for a sign of life when " +
				"nothing came for so long (TCP keepalive), and a connection breaks after three without an answer; it " +
				"does not if it is not given"},
			word{"proxy", formText, false, "an http:// address of a proxy that connects everything (CONNECT); a name " +
				"and a password before its host are for it"},
			word{"connect_to", formText, false, "where all addresses really are, such as \"127.0.0.1:8443\" or " +
				"\"unix:/run/board.sock\"; their names are sent all the same"},
			word{"remote", formText, false, "the name of a host that is not this machine and may be loaded"},
			word{"dialect", formText, false, `how its messages look; "plain-json" if it is not given`},
			word{"order", `"sender", "same" or "any"`, false,
				`what it promises of a room: each sender's messages in order, all in the same order for everybody, ` +
					`or nothing; "sender" if it is not given, "any" over UDP, which promises none`},
		)},
	"target.tls": {doc: "whom clients trust, and what they show of themselves; addresses that begin with wss://, " +
		"https:// or tls:// (lines and tcp) are encrypted", attrs: []word{
		{"ca", "path", false, "a file with the authorities in PEM that are trusted instead of the system's"},
		{"cert", "path", false, "a file with the clients' certificate in PEM, and those up to its authority"},
		{"key", "path", false, "with cert: a file with its key in PEM"},
		{"server_name", formText, false, "what the server must prove to be; the name in its address if it is not " +
			"given"},
		{"least", `"1.2" or "1.3"`, false, "the lowest version that is taken"},
		{"most", `"1.2" or "1.3"`, false, "the highest"},
		{"protocols", "list of texts", false, "what is offered to be spoken inside (ALPN); \"http/1.1\", or nothing " +
			"over TCP"},
		{"resume", formYes, false, "a client that comes back resumes its session, if the server lets it"},
		{"insecure", formYes, false, "take any certificate; this stands beside the target wherever it is shown"},
	}},
	"target.promise": {doc: "what the server and its clients have agreed on about heartbeats: everything is measured " +
		"against it. Heartbeats of the server are pings, messages that the dialect's beat recognises, comments of an " +
		"event stream, or empty lines; those of clients are pings, or what the dialect's beat sends", attrs: []word{
		{"from", `"server", "client" or "both"`, false, `who sends them; "server" if it is not given`},
		{"every", formDuration, true, "from one to the next"},
		{"deadline", formDuration, false, "within which the server closes a client that gives no sign of life, after " +
			"the first that it owed"},
		{"any_data", formYes, false, "whatever the server sends is as good as a heartbeat"},
		{"tolerance", formShare, false, `what part of the interval a heartbeat may come early or late, and a client ` +
			`be closed late; "25%" if it is not given`},
	}},
	"target.route": {label: "name", doc: "another way to the same server, for clients that cannot come over the one " +
		"before", attrs: routeWords("")},
	"dialect": {label: "name", doc: "how names, rooms and messages look for one family of servers", attrs: []word{
		{"split", formText, false, "what stands between messages that share a frame, such as \"\\n\""},
		{"across", formYes, false, "with split: what stands behind the last of them is the beginning of a message " +
			"that the next frame goes on with"},
		{"length", "expression on text", false, "instead of split: how many bytes the message at the beginning of " +
			"text has, such as 2 + unuint16(text), null as long as that cannot be said; messages share frames, and " +
			"go on in the next one"},
		{"binary", formYes, false, "what clients send is binary messages, if their step does not say otherwise"},
		{"json", "expression on text", false, "the part of a message that is JSON, which msg is about, such as " +
			"substr(text, 2); all of it if it is not given"},
		{"each", formValue, false,
			"the list in a message whose items are messages of their own, such as msg.items; a " +
				"message without such a list is one itself; a text in the list is a message with " +
				"its own JSON in it"},
	}, blocks: []string{"dialect.name", "dialect.enter", "dialect.leave", "dialect.past", "dialect.heard",
		"dialect.echo", "dialect.beat", "dialect.presence", "dialect.joined", "dialect.gone",
		"dialect.other", "dialect.switch", "dialect.goodbye"}},
	"dialect.goodbye": {doc: "what a client says last of all over UDP, if it goes in order: a server learns of it in " +
		"no other way", attrs: []word{
		{"send", formBody, true, "the message"},
	}},
	"dialect.switch": {doc: "how a client changes over to a better route, over the new connection", attrs: []word{
		{"send", formBody, false, "what the client asks there"},
		{"confirmed", formCondition, false, "recognises that the server is ready; if it is not given, that the " +
			"connection is open is enough"},
		{"then", formBody, false, "what the client says once nothing more comes over the old connection"},
	}},
	"dialect.name": {doc: "naming oneself, once the connection is open", attrs: attrs([]word{
		{"after", formCondition, false, "the greeting that comes before, and is waited for"},
		{"first", formBody, false, "what is sent before the name"},
		{"then", formCondition, false, "the answer to first, which is waited for before the name is sent"},
	}, exchange)},
	"dialect.beat": {doc: "signs of life in messages, apart from sessions; fall_silent ends them", attrs: []word{
		{"when", formCondition, false, "recognises one of the server's: a question, or an answer, or neither"},
		{"answer", formBody, false, "what it is answered; nothing if it is not given"},
		{"every", formDuration, false, "how often a client sends one unasked"},
		{"send", formBody, false, "what it sends then"},
	}},
	"dialect.enter": {doc: "entering a room; without send a client enters the room of its next enter step by naming " +
		"itself, or by connecting if it has no name", attrs: exchange},
	"dialect.leave": {doc: "leaving a room", attrs: exchange},
	"dialect.past": {doc: "messages that come as history", attrs: []word{
		{"when", formCondition, false, "recognises one"},
		{"live", formYes, false, "instead: they come as live messages do. What was said before a client asked to " +
			"enter is history then"},
		{"each", formValue, false, "the list of them, if one message holds several, such as msg.history; seq is then " +
			"about each of its items"},
		{"seq", formValue, false, "its number in its room"},
	}},
	"dialect.other": {doc: "what the server says besides, such as a greeting that nobody waits for: it means " +
		"nothing, and does not count as not recognised", attrs: []word{{"when", formCondition, true, "recognises it"}}},
	"dialect.echo": {doc: "what a client is given of its own message, with the mark, beside the delivery: it is " +
		"none, and no duplicate", attrs: []word{{"when", formCondition, true, "recognises it"}}},
	"dialect.heard": {doc: "live messages", attrs: []word{
		{"when", formCondition, false, "recognises one"}, {"room", formValue, false, "its room"},
		{"seq", formValue, false, "its number in its room"},
		{"payload", formValue, false, "what its sender wanted to say; the whole message if it is not given"},
		{"binary", formYes, false, "they may come as binary messages though they are said as text; otherwise that " +
			"breaks an implied limit"},
		{"decoded", formValue, false, "the text in which the mark is found, such as unbase64(msg.data)"},
	}},
	"dialect.presence": {doc: "how the server says how many members a room has; the number is checked", attrs: []word{
		{"when", formCondition, true, "recognises it"}, {"room", formValue, false,
			"the room; all who are named if it is not given. Write room = room if it is the one that the client is in"},
		{"members", formValue, false, "the number"},
		{"names", formValue, false, "the list of their names, such as msg.users: who must be in it, and who must not"},
		{"updates", formYes, false, "all members are told after each change. If it is not given, and the server was " +
			"never seen to tell anybody but who enters, nobody else's number is judged"},
		within(`how soon after a change it must be right; "2s" if it is not given`),
	}},
	"dialect.joined": {doc: "how the server announces who enters, to each of the others, once. Of clients " +
		"under one name it is judged how many announcements come", attrs: notice},
	"dialect.gone": {doc: "how the server announces who leaves, to each of the others, once. " +
		"When the tide falls to nothing one client in twenty (20 at most) stays for the grace time, " +
		"to see the others go",
		attrs: notice},
	"feed": {label: "name", doc: "what the server pushes by itself, judged by its own number, key and time",
		attrs: []word{
			{"when", formCondition, true, "recognises it"}, {"key", formValue, false, "what is numbered on its own"},
			{"seq", formValue, false, "its number, which rises by one"},
			{"time", formValue, false, "milliseconds since 1970; parse_time() makes them of a text"},
			{"value", formValue, false, "what it tells, such as msg.level: numbers are drawn against time"},
			{"fresh", formDuration, false, "how old it may be when it comes"},
			{"every", formDuration, false, "how often one of each key comes; a hole that is half as long again " +
				"fails. It needs no number"},
			{"same", formYes, false, "all clients must be given the same value (the whole message if it has none), " +
				"byte for byte, as the reading of a key and a number; without seq, what one is given must come to " +
				"all who follow the feed, within the grace time"},
		}},
	"session": {label: "name", doc: "the script that one client follows, step by step", blocks: steps},
	"connect": {doc: "connect and agree on WebSocket", attrs: []word{
		within(`how long that may take; "10s" if it is not given`),
		{"path", formTemplate, false, "the path and query; the target's if it is not given"},
		{"origin", formTemplate, false, "the Origin field, as a browser sends it"},
		{"headers", formFields, false, "more header fields; cookies that the client has are sent by themselves"},
		{"subprotocol", formTemplate, false, "what is offered, separated by commas"},
		{"bearer", formTemplate, false, "the token of an Authorization field"},
		{"early", formBody, false, "a message, with ${mark} in it, that is sent before the server has agreed: it " +
			"must reach nobody"},
		{"nameless", formYes, false, "do not say the client's name"},
		{"refused", formYes, false, "the connection must be refused; the session goes on without it"},
		{"malformed", `"any", or a case`, false, "the handshake breaks the protocol in this way, and " +
			`must be refused: the name of a case of tidepull conform, or "any": each client in another way`},
		{"status", formNumber, false, "with refused: the status that the answer must have"},
		{"words", formText, false, "with refused: what must stand in the reason, or in what comes with the answer"},
	}},
	"request": {label: "name", doc: "an HTTP request, with the client's cookies; with reaches it publishes a " +
		"message, whose latency counts from the call", attrs: []word{
		{"path", formTemplate, true, "of the target's http address"},
		{"method", formText, false, `"GET" if it is not given, "POST" if there is content`},
		{"query", formFields, false, "what is put behind the path"},
		{"headers", formFields, false, "header fields"},
		{"bearer", formTemplate, false, "the token of an Authorization field"},
		{"form", formFields, false, "content: a form"},
		{"json", formBody, false, "content: JSON"},
		{"body", formTemplate, false, "content: text"},
		{"type", formText, false, "the type of the content"},
		{"status", formNumber, false, "the status that the answer must have; any below 400 if it is not given"},
		{"when", formCondition, false, "what must hold of the answer, over msg, text, status, header() and cookie()"},
		{"redirects", formNumber, false, "how many are followed; 5 if it is not given"},
		{"reaches", `"room", "others" or "everyone"`, false, "it is a message for these, with ${mark} in its " +
			"content, path or query"},
		{"room", formTemplate, false, "the room it is for; the one entered last if it is not given"},
		knownBy, knownFrom,
		within(`how long the answer may take; "10s" if it is not given`),
		capture,
	}},
	"enter": {doc: "enter a room and wait for the confirmation", attrs: []word{
		{"room", formTemplate, true, "the room's name"},
		{"denied", formYes, false, "the entry must be refused"},
		{"history", formNumber, false, "so many messages of the past are promised: they must come, in order, and " +
			"join what is said from then on"},
		within(`how long to wait; "10s" if it is not given`),
		capture,
	}},
	"say": {doc: "say a message", attrs: attrs(marked, []word{
		{"reaches", `"room", "others", "everyone", "sender" or "nobody"`, false,
			`who should get it; "room" if it is not given`},
		{"room", formTemplate, false, "the room it is for; the one entered last if it is not given"},
		{"refused", formCondition, false, "the refusal that must come; the message must reach nobody"},
		within(`how long to wait for the refusal; "5s" if it is not given`), knownBy, knownFrom,
	})},
	"whisper": {doc: "say a message to one member",
		attrs: attrs([]word{{"to", formTemplate, true, "the name of the client it is for"}}, marked,
			[]word{knownBy, knownFrom})},
	"send": {doc: "send something that is not accounted for", attrs: append([]word{
		{"bad", formYes, false, "it is a bad message, on purpose: the server may end the connection of who sends it"},
	}, content...)},
	"ask": {label: "name", doc: "send something and wait for the answer, such as who is in the room", attrs: []word{
		{"send", formBody, true, "the question"}, {"when", formCondition, true, "recognises the answer"},
		{"binary", formYes, false, "the question is a binary message"},
		within(`how long to wait; "5s" if it is not given`), capture,
	}},
	"expect_close": {label: "name", doc: "wait for the server to close the connection; the session goes on",
		attrs: []word{
			{"code", formNumber, false, "the code that it must give; any if it is not given"},
			{"reason", formText, false, "what must stand in its reason"},
			{"abrupt", formYes, false, "it must end without a close frame"},
			within(`how soon; "5s" if it is not given`),
		}},
	"assert": {label: "name", doc: "a check of what the client knows, and of the run's figures, which are those of a " +
		"moment soon after the step", attrs: []word{
		{"that", "condition on the client's variables and figures", true, "what must hold"},
	}},
	"expect": {label: "name", doc: "wait for a message", attrs: []word{
		{"when", formCondition, true, "the message waited for"},
		within(`how long to wait; "5s" if it is not given`),
		{"never", formYes, false, "it must not come in that time"},
		{"already", formYes, false, "one that has come before the step, and that no other expect has seen, counts too"},
		capture,
	}},
	"leave": {doc: "leave a room and wait for the confirmation", attrs: []word{
		{"room", formTemplate, false, "the room's name; the one entered last if it is not given"},
		within(`how long to wait; "10s" if it is not given`),
	}},
	"pause": {doc: "wait", attrs: []word{
		{"lasts", formDuration, true, "for how long"}, {"most", formDuration, false, "up to this long, at random"},
	}},
	"stay": {doc: "listen until the tide falls; a session without anything to wait for at its end closes its " +
		"client's connection there"},
	"repeat": {doc: "do the steps inside again and again, on schedule; the first turn comes after a random part of " +
		"the interval", blocks: steps, attrs: []word{
		{"every", formDuration, false, "the interval from turn to turn"},
		{"rate", "rate, such as \"100/s\"", false, "instead: how many turns a second, or a minute (\"/m\")"},
		{"per", `"client", "crew" or "room"`, false, `whose rate or interval that is; "client" if it is not given`},
		{"pattern", `"steady" or "poisson"`, false,
			`"poisson": the intervals are random, as those of independent arrivals; "steady" if it is not given`},
		{"burst", formNumber, false, "so many turns come at once"},
		{"closed", formYes, false, "instead of an interval: as fast as answers come back; something inside must " +
			"wait for one"},
		{"jitter", formShare, false, "each turn comes up to this share of the interval early or late"},
		{"times", formNumber, false, "how many turns; until the tide falls if it is not given"},
	}},
	"choose": {doc: "do one of the options, by their weights", blocks: []string{"option"}},
	"option": {doc: "one of the choices", blocks: steps,
		attrs: []word{{"weight", formNumber, false, "1 if it is not given"}}},
	"when": {doc: "do the steps inside if something holds", blocks: steps, attrs: []word{
		{"that", "condition on the client's variables", true, "what must hold"},
	}},
	"otherwise": {doc: "behind a when: do the steps inside if it does not hold", blocks: steps},
	"set":       {doc: "remember values, as my.NAME", free: true},
	"barrier": {label: "name", doc: "wait until the others have come here too", attrs: []word{
		{"among", `"all", "crew" or "group"`, false, `who the others are; "all" if it is not given`},
		within(`how long to wait; "60s" if it is not given`),
	}},
	"close": {doc: "close the connection in order; the session goes on", attrs: []word{
		{"code", formNumber, false, "the close code; 1000 if it is not given"},
		{"reason", formText, false, "the reason"},
	}},
	"vanish": {doc: "cut the connection without a close frame; the session goes on"},
	"fall_silent": {doc: "answer no pings any more", attrs: []word{
		{"evicted_within", formDuration, false, "wait for the server to close the connection: it must in this time"},
	}},
	"misbehave": {doc: "misbehave about signs of life from now on; the session goes on", attrs: attrs(misdeedWords,
		[]word{
			{"evicted_within", formDuration, false, "wait for the server to close the connection: it must in this " +
				"time"},
		})},
	"crew.misbehave": {doc: "how a share of a crew's clients misbehaves about signs of life, once; those that are " +
		"silent, frozen or unplugged do nothing else from then on", attrs: attrs(misdeedWords, []word{
		{"share", formShare, false, "of the clients, spread evenly; all if it is not given"},
		{"after", formDuration, false, "how long after they are connected; at once if it is not given"},
	})},
	"read_slowly": {doc: "read only so fast from now on", attrs: []word{
		{"bytes_per_second", formNumber, true, "how fast; 0 ends it"},
		{"evicted_within", formDuration, false, "wait for the server to close the connection: it must in this time"},
	}},
	"malformed": {doc: "break the protocol; the server must close the connection", attrs: []word{
		{"what", "one of the wrongs below", true, "unmasked, reserved bits, reserved opcode, bad text, stray " +
			"fragment, long control, wrong length, the name of a case of tidepull conform, or \"any\": each " +
			"client in another way"},
		within(`how soon; "5s" if it is not given`),
	}},
	"crew": {label: "name", doc: "a group of clients that follow the same session", blocks: []string{"tide", "without",
		"reconnect", "crew.misbehave"},
		attrs: []word{
			{"clients", formNumber, true, "how many"},
			{"session", "session.NAME", true, "what they do"},
			{"name", formTemplate, false, `a client's name; the crew's name and "-${n}" if it is not given`},
			{"groups_of", formNumber, false,
				"deals the clients into groups of so many; they know their group and place"},
			{"routes", "list of texts", false, "the target's routes that they take, the best first; all of them, in " +
				"their order, if it is not given. A client takes the next one if one is refused, does not answer in " +
				"time, or breaks before it has settled"},
			{"promote", formYes, false, "they begin with the last route and change over to the best that they can " +
				"have"},
			{"settle", formDuration, false,
				`how long a connection must hold before a break is the server's to answer ` +
					`for, and not a reason to take the next route; "5s" if it is not given`},
			{"retry", formDuration, false, "how often a client tries whether it can have a better route than its " +
				"own; it does not if it is not given"},
		}},
	"server": {doc: "the process of the server under test: it is started before the clients set out and ended after " +
		"them, or it runs already; what it uses is watched", attrs: []word{
		{"command", "list of texts", false, "the program that starts it, and its arguments"},
		{"folder", "path", false, "where the command is started; here if it is not given"},
		{"pid", formNumber, false, "instead: the number of a process that runs"},
		{"metrics", formText, false, "the http:// address of its Prometheus page: what it uses is read there each " +
			"second, and not asked of the system"},
		{"connections", formText, false, "what the number of its connections is called on that page: what is left of " +
			"them when all clients have gone is a figure, and must be nothing"},
		{"members", formText, false, "the same for the members of its rooms"},
		{"presence", formText, false, "the same for those whom it announces as present"},
		{"ready", formText, false, "what stands in a line of its output once it is ready; if it is not given it is " +
			"ready once it accepts connections"},
		{"within", formDuration, false, `how soon it must be ready, and how long it may take to end; "10s" if it ` +
			`is not given`},
	}},
	"fault": {label: "name", doc: "something that the trial breaks on purpose", attrs: []word{
		{"do", "one of those below", true, "what happens to the server: restart, stop, or pause (its process stands " +
			"still). To clients: cut (their connections break). On the path of clients: unplug (nothing arrives, not " +
			"even at their system), freeze (nothing goes through, and comes once it is over), delay, bandwidth, " +
			"split (bytes go on in pieces), join (they go on together), corrupt (a byte is changed; from then on " +
			"nothing on that connection counts against the server); lose, double, reorder (datagrams); refuse, stall " +
			"(new connections); answer (an upgrade, with a status), strip (what asks for an upgrade is taken out), " +
			"cut_idle (connections over which nothing goes)"},
		{"at", formDuration, false, "when, since the start of the run; with during since the leg began"},
		{"during", `"flood", "slack" or "ebb"`, false, "when: during the first such leg of the tide"},
		{"lasts", formDuration, false, "how long it goes on, or the server is down; of cut: how long clients stay " +
			"away at least. If it is not given: as long as the leg that it happens during, or until the end"},
		{"every", formDuration, false, "again and again, at this distance"},
		{"times", formNumber, false, "with every: how often"},
		{"rude", formYes, false, "with restart or stop: the process is killed, and not asked to end"},
		{"share", formShare, false, "of the clients that it happens to, spread evenly; all if it is not given"},
		{"crew", formText, false, "it happens to clients of this crew"},
		{"room", formText, false, "it happens to clients that are in this room, having entered it last"},
		{"node", formNumber, false, "it happens to clients of this node of the target, counted from 0"},
		{"reset", formYes, false, "with cut: the server gets a reset, and not an end in order"},
		{"direction", `"both", "up" or "down"`, false, `up: to the server; "both" if it is not given`},
		{"by", formDuration, false, "with delay: by how long; with join: what comes within it goes on together; with " +
			"cut_idle: after how long"},
		{"jitter", formDuration, false, "with delay: by how much it varies"},
		{"spread", `"even", "normal" or "exponential"`, false,
			"with delay: how it varies: evenly by up to the jitter " +
				`either way, with the jitter as standard deviation, or by the jitter more on average; "even" if it ` +
				"is not given"},
		{"bytes_per_second", formNumber, false, "with bandwidth: how much goes through"},
		{"bytes", formNumber, false, "with split: how many go on at once"},
		{"chance", formShare, false, "with corrupt, lose, double or reorder: how many of the pieces, or datagrams"},
		{"status", formNumber, false, "with answer: 400 to 599; 503 if it is not given"},
	}},
	"reconnect": {doc: "how a crew's clients come back when their connection breaks: they connect, enter the rooms " +
		"that they were in, and go on where their session was", attrs: []word{
		{"first", formDuration, false, `how long a client waits before its first try; "500ms" if it is not given, ` +
			`"0s" is at once`},
		{"factor", formNumber, false, "how many times as long each further wait is, without chance; 2 if it is not " +
			"given, 1 is always the same"},
		{"most", formDuration, false, `the longest wait; "30s" if it is not given`},
		{"jitter", `"full", "equal", "decorrelated" or "none"`, false, `how chance comes into the waits: from 0 to ` +
			`the wait, from half of it on, from the first wait to three times the one before, or not at all; ` +
			`"full" if it is not given`},
		{"tries", formNumber, false, "after so many that failed a client gives up; without it, it does not"},
		{"budget", formDuration, false, "after so long without success it gives up"},
		{"within", formDuration, false, `how long a try may take to connect, and then to enter each room; "10s" if ` +
			`it is not given`},
		{"obey", formYes, false, "a client waits for as long as the server wants (Retry-After); true if it is not " +
			"given"},
		{"not_after", "list of numbers", false, "close codes after which clients do not come back, such as [1008]"},
		{"elsewhere", "list of numbers", false, "close codes after which clients go to the target's next node"},
		{"resume", formBody, false, "what a client says once it is connected again, instead of its name and the " +
			"rooms that it was in, such as { kind = \"resume\", token = my.token, after = last }"},
		{"resumed", formCondition, false, "with resume: recognises that the server has put it back"},
		{"catch_up", formYes, false, "the server promises that who comes back gets what was said meanwhile: it is " +
			"owed, and lost if it does not come within the grace time"},
		{"anew", formYes, false, "the session begins again behind its connect step, and not where it was"},
	}},
	"without": {label: "route", doc: "keeps a part of a crew from a route, as a network would that does not let it " +
		"through", attrs: []word{
		{"share", formShare, false, "of the clients, spread evenly; all if it is not given"},
	}},
	"tide": {doc: "how many clients there are over time", blocks: []string{"flood", "slack", "ebb", "wave", "spike"}},
	"flood": {label: "share", doc: "rises to a share of all clients", attrs: []word{
		{"over", formDuration, false, "how long that takes"},
		{"arrivals", `rate, such as "50/s"`, false, "instead: how many clients set out in a second"},
		{"steps", formNumber, false, "in so many steps, and not steadily"},
	}},
	"slack": {doc: "holds", attrs: []word{{"lasts", formDuration, true, "for how long"}}},
	"ebb": {doc: `falls, to nothing or to "to"`, attrs: []word{
		{"over", formDuration, true, "how long that takes"},
		{"to", formShare, false, "the share of clients at its end"},
		{"steps", formNumber, false, "in so many steps, and not steadily"},
	}},
	"wave": {doc: "falls and rises again and again between where it is and a lower share", attrs: []word{
		{"to", formShare, true, "the share at its lowest"}, {"period", formDuration, true, "from crest to crest"},
		{"times", formNumber, true, "how many crests"},
	}},
	"spike": {label: "share", doc: "rises to a share at once, and falls back", attrs: []word{
		{"lasts", formDuration, true, "how long it stays up"},
	}},
	"limit": {label: "name", doc: "a pass/fail rule on a figure; one of below, above, at_most, at_least, equals",
		attrs: []word{
			{"of", "figure, such as fanout.p99", true, "what is limited"},
			{"below", formLimit, false, "it must be less than this"},
			{"above", formLimit, false, "it must be more than this"},
			{"at_most", formLimit, false, "it must not be more than this"},
			{"at_least", formLimit, false, "it must not be less than this"},
			{"equals", formLimit, false, "it must be this"},
		}},
	"final_check": {label: "name", doc: "asks the server when all clients are gone, and compares the answer with " +
		"the run's own account", blocks: []string{"final_check.request"}, attrs: []word{
		{"command", "list of texts", false, "instead of a request: a program and its arguments; its output is the " +
			"answer"},
		{"holds", formFinal, true, "such as msg.notices == messages.notices"},
		within(`how long the answer may take; "10s" if it is not given`),
	}},
	"on": {label: "event", doc: "runs a command when something has happened: on \"broken\", at once, when a limit " +
		"is, once for each; on \"over\", when the run is. Its environment has TIDEPULL_TRIAL, TIDEPULL_TARGET, " +
		"TIDEPULL_AT, TIDEPULL_LIMIT (of a limit), TIDEPULL_VERDICT (of a run) and TIDEPULL_SAYS. What becomes of it " +
		"changes nothing of the run", attrs: []word{
		{"command", "list of texts", true, "a program and its arguments"},
		within(`how long it may take; "10s" if it is not given`),
	}},
	"final_check.request": {doc: "the question", attrs: []word{
		{"path", formTemplate, true, "of the target's http address"},
		{"method", formText, false, `"GET" if it is not given`},
		{"headers", formFields, false, "header fields"},
		{"body", formTemplate, false, "content"},
		{"type", formText, false, "its type"},
	}},
}

var notice = []word{
	{"when", formCondition, true, "recognises it"},
	{"room", formValue, false, "the room; all who are named are told if it is not given"},
	{"name", formValue, true, "who it is about"},
	{"not_itself", formYes, false, "the client that it is about must not be told; otherwise it may be, or not"},
}

// schema makes the library's schema for a block.
func (b *blockWord) schema() *hcl.BodySchema {
	s := &hcl.BodySchema{}
	for _, a := range b.attrs {
		s.Attributes = append(s.Attributes, hcl.AttributeSchema{Name: a.name, Required: a.required})
	}
	for _, name := range b.blocks {
		h := hcl.BlockHeaderSchema{Type: lastPart(name)}
		if label := vocabulary[name].label; label != "" {
			h.LabelNames = []string{label}
		}
		s.Blocks = append(s.Blocks, h)
	}
	return s
}
