package survey

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"tidepull/internal/trial"
	"tidepull/internal/trial/language"
)

// recipes are the experiments, the gentle ones first. In them CONNECT, SAY, WHISPER and so on stand for the trial's own
// steps, SAY[...] for one that says more, and ROOM for the name that the experiment's rooms begin with.
var recipes = []recipe{
	{name: "steady", rows: []int{2, 3, 10, 14, 15, 16, 27, 41}, of: Deliveries, clients: 20,
		lasts: 20 * time.Second,
		needs: needsSay,
		shows: "who gets what is said in four rooms at a steady rate, how soon, and in which order", session: `
  CONNECT
  enter { room = "ROOM-${n % 4}" }
  repeat {
    every = "1s"
    times = 24
    SAY
  }`},
	{name: "one by one", rows: []int{36}, of: Entries, clients: 16, needs: needsSay,
		shows: "whether each client that enters by itself and only listens gets what others say", session: `
  CONNECT
  enter { room = "ROOM-${n % 2}" }
  when {
    that = n < 2
    repeat {
      every = "250ms"
      times = 60
      SAY
    }
  }
  otherwise {
    pause { lasts = "12s" }
  }`},
	{name: "crowd", rows: []int{1}, of: Entries, clients: 40, needs: needsSay,
		shows: "whether clients that enter rooms at the same moment all get what is said there", session: `
  AT_THE_GATE
  enter { room = "ROOM-${n % 4}" }
  pause { lasts = "1s" }
  repeat {
    every = "2s"
    times = 5
    SAY
  }`},
	{name: "nodes", rows: []int{25}, of: Deliveries, clients: 16, needs: needsNodes,
		shows: "whether members of one room hear each other that are connected to different nodes", session: `
  CONNECT
  enter { room = "ROOM-${floor(n / 8)}" }
  barrier "all there" { within = "20s" }
  repeat {
    every = "500ms"
    times = 20
    SAY
  }`},
	{name: "whispers", rows: []int{4}, of: Messages, clients: 20, needs: needsWhisper,
		shows: "whether private messages reach the one that they are for, and nobody else", session: `
  CONNECT
  enter { room = "ROOM-${n % 2}" }
  barrier "all there" { within = "20s" }
  repeat {
    every = "1s"
    times = 10
    WHISPER
  }`},
	{name: "at once", rows: []int{35}, of: Messages, clients: 20, needs: needsSay,
		shows: "whether what a client says at once after it has entered arrives", session: `
  CONNECT
  enter { room = "ROOM" }
  SAY
  SAY
  repeat {
    every = "1s"
    times = 10
    SAY
  }`},
	{name: "leaving", rows: []int{37, 39}, of: Deliveries, clients: 16, patient: true, needs: needsLeave,
		shows: "whether who leaves a room gets nothing more of it, and the others are told", session: whileOthersSpeak(`
    pause {
      lasts = "1s"
      most  = "4s"
    }
    leave {}
    pause { lasts = "7s" }`)},
	{name: "twice", rows: []int{38}, of: Deliveries, clients: 16, needs: needsLeave,
		shows: "whether who enters a room again, with and without leaving it before, gets each message once",
		session: whileOthersSpeak(`
    pause { lasts = "1s" }
    when {
      that = n % 4 == 1
      leave {}
    }
    enter { room = "ROOM" }
    pause { lasts = "9s" }`)},
	{name: "bursts", rows: []int{14, 15, 32}, of: Messages, clients: 16, lasts: 17 * time.Second, harsh: true,
		harm:  "48 messages come at once",
		needs: needsSay,
		shows: "whether messages that are said at the same moment all arrive, and in order", session: `
  CONNECT
  enter { room = "ROOM" }
  repeat {
    every = "1s"
    times = 7
    SAY
  }
  barrier "first burst" { within = "20s" }
  SAY
  SAY
  SAY
  pause { lasts = "2s" }
  barrier "second burst" { within = "20s" }
  SAY
  SAY
  pause { lasts = "2s" }
  barrier "third burst" { within = "20s" }
  SAY
  SAY
  pause { lasts = "7s" }`},
	{name: "ceiling", ownRooms: true, rows: []int{10}, of: Messages, clients: 20, least: 12, needs: needsSay,
		lasts: 19 * time.Second,
		shows: "how soon after one another messages come that are said at once, in a small room and in a large one " +
			"by turns", session: inBursts(5)},
	{name: "vanishing", rows: []int{5, 39}, of: Entries, clients: 24, patient: true, needs: needsSay,
		shows: "whether clients that go without a word are taken out of their rooms, and numbers are right for who " +
			"comes after it", session: `
  when {
    that = n % 3 == 2
    pause {
      lasts = "7s"
      most  = "9s"
    }
  }
  CONNECT
  enter { room = "ROOM" }
  when {
    that = n % 3 == 0
    repeat {
      every = "400ms"
      times = 30
      SAY
    }
  }
  when {
    that = n % 3 == 1
    pause {
      lasts = "2s"
      most  = "4s"
    }
    vanish {}
  }
  pause { lasts = "10m" }`},
	{name: "late comers", ownRooms: true, rows: []int{11}, of: Entries, clients: 24, needs: needsHistory,
		shows: "whether who comes late gets the history that is promised, and what goes on joins it", session: `
  CONNECT
  when {
    that = n < 4
    enter { room = "ROOM" }
    repeat {
      every = "400ms"
      times = 32
      SAY
    }
  }
  otherwise {
    pause {
      lasts = "3s"
      most  = "7s"
    }
    enter {
      room    = "ROOM"
      history = HISTORY
    }
    pause { lasts = "4s" }
  }`},
	{name: "signs of life", rows: []int{6, 7, 8}, of: Entries, clients: 20, needs: needsPromise,
		shows: "whether clients that give no sign of life are closed by the deadline, and the others are not",
		session: `
  CONNECT
  enter { room = "ROOM" }
  pause { lasts = "10m" }`, crew: `
  misbehave {
    do    = "silent"
    share = "40%"
    after = "1s"
  }`, slack: func(t *trial.Trial) time.Duration {
			p := t.Target.Promise
			return max(slackOf, p.Deadline+3*p.Every+4*time.Second)
		}},
	{name: "kept", ownRooms: true, rows: []int{33}, of: Entries, clients: 16, needs: needsHistory,
		shows: "whether who comes once all is quiet gets all that was said before, as it was kept", session: `
  CONNECT
  when {
    that = n < 4
    enter { room = "ROOM" }
    repeat {
      every = "200ms"
      times = 20
      SAY
    }
    pause { lasts = "10m" }
  }
  otherwise {
    pause {
      lasts = "7s"
      most  = "9s"
    }
    enter {
      room    = "ROOM"
      history = HISTORY
    }
    pause { lasts = "10m" }
  }`},
	{name: "one name", rows: []int{31}, of: Deliveries, clients: 16, who: "${floor(n / 2)}", needs: needsNames,
		shows: "whether of two connections under one name, if the server lets both in, each gets what is for it",
		session: `
  CONNECT
  enter { room = "ROOM-${floor(n / 2) % 2}" }
  pause { lasts = "2s" }
  repeat {
    every = "1s"
    times = 10
    SAY
  }`},
	{name: "doors", asItIs: true, rows: []int{18, 24}, of: Refusals, needs: func(_ *trial.Trial,
		p *language.Parts) string {
		return unless(p.Doors != "", "the trial does not say what the server has to refuse: connect { origin, refused "+
			"= true }, enter { denied = true } or say { refused = ... } would allow it")
	}, shows: "whether what the trial says must be refused is refused",
		whole: func(_ *trial.Trial, p *language.Parts) string { return p.Doors }},
	{name: "texts", rows: []int{16}, of: Deliveries, clients: 12, needs: needsText,
		shows: "whether texts of every kind arrive as they were said", session: `
  CONNECT
  enter { room = "ROOM-${n % 2}" }
  repeat {
    every = "1s"
    times = 14
    SAY[${awkward(pick(0, 2, 3, 4))}]
  }`},
	{name: "markup", rows: []int{30}, of: Deliveries, clients: 8, relays: true, needs: needsText,
		shows: "what becomes of a text that would be a script if it was put into a page", session: `
  CONNECT
  enter { room = "ROOM" }
  repeat {
    every = "1s"
    times = 6
    SAY[${awkward(1)}]
  }`, lasts: 9 * time.Second},
	{name: "sizes", rows: []int{17}, of: Messages, clients: 8, needs: needsMore, lasts: 20 * time.Second, harsh: true,
		harm:  "messages of up to 1 MB are said",
		shows: "up to which size messages arrive, and whether who says a larger one is told", session: `
  CONNECT
  enter { room = "ROOM" }
  when {
    that = n < 4
    repeat {
      every = "1s"
      times = 18
      SAY[` + ladder + `]
    }
    pause { lasts = "10m" }
  }
  otherwise {
    pause { lasts = "10m" }
  }`},
	{name: "growth", ownRooms: true, rows: []int{26}, of: Deliveries, clients: 124, least: 124, needs: needsSay,
		lasts: 20 * time.Second,
		shows: "how latency grows with the size of the room: in rooms of 4, 8, 16, 32 and 64 at once, with one " +
			"speaker each", session: `
  CONNECT
  enter { room = "ROOM-${n < 4 ? 0 : n < 12 ? 1 : n < 28 ? 2 : n < 60 ? 3 : 4}" }
  when {
    that = n == 0 || n == 4 || n == 12 || n == 28 || n == 60
    repeat {
      every = "130ms"
      times = 150
      SAY
    }
    pause { lasts = "10m" }
  }
  otherwise {
    pause { lasts = "10m" }
  }`},
	{name: "texts that double", ownRooms: true, rows: []int{26}, of: Deliveries, clients: 8, needs: needsMore,
		lasts: 20 * time.Second,
		shows: "how latency grows with the size of what is said: messages of 256 bytes to 16 KB by turns, of one " +
			"speaker", session: `
  CONNECT
  enter { room = "ROOM" }
  when {
    that = n == 0
    repeat {
      every = "130ms"
      times = 140
      SAY[` + doubling + `]
    }
    pause { lasts = "10m" }
  }
  otherwise {
    pause { lasts = "10m" }
  }`},
	{name: "transports", rows: []int{19, 20}, of: Deliveries, needs: needsRoutes, lasts: 16 * time.Second,
		shows: "whether each transport works alone, and nothing is lost while a client changes from one to the other",
		whole: func(t *trial.Trial, _ *language.Parts) string {
			text := `session "survey" {
  CONNECT
  enter { room = "ROOM" }
  repeat {
    every = "50ms"
    times = 280
    SAY
  }
}

session "climbing" {
  CONNECT
  enter { room = "ROOM" }
  pause { lasts = "10m" }
}
UPGRADES_FAIL
crew "climbing" {
  clients = 40
  session = session.climbing
  name    = "ROOM-climbing-${n}"
  CLIMBING
}
`
			// Those that climb come to be on the last route first, and change while others speak.
			fails, climbing := "", "promote = true"
			if t.Target.Route(0).Kind == trial.WebSocket {
				fails, climbing = `
fault "no upgrades" {
  do     = "answer"
  at     = "0s"
  lasts  = "5s"
  crew   = "climbing"
  status = 503
}
`, `retry   = "1s"`
			}
			text = strings.NewReplacer("UPGRADES_FAIL", fails, "CLIMBING", climbing).Replace(text)
			for i := range t.Target.Routes {
				text += fmt.Sprintf(`
crew "%[1]s" {
  clients = 4
  session = session.survey
  name    = "ROOM-%[1]s-${n}"
  routes  = ["%[1]s"]
}
`, t.Target.Route(i).Name)
			}
			return text
		}},
	{name: "cut and glued", rows: []int{40}, of: Deliveries, clients: 12, needs: needsStream,
		lasts: 20 * time.Second,
		shows: "whether messages arrive that the network cuts into pieces, or sends several of together", session: `
  CONNECT
  enter { room = "ROOM-${n % 2}" }
  repeat {
    every = "150ms"
    times = 75
    SAY
  }
  pause { lasts = "10m" }`, more: func(*trial.Trial, *language.Parts) string {
			return `
fault "cut" {
  do        = "split"
  at        = "4s"
  lasts     = "3s"
  direction = "up"
  bytes     = 7
}

fault "glued" {
  do        = "join"
  at        = "9s"
  lasts     = "3s"
  direction = "up"
  by        = "400ms"
}
`
		}},
	{name: "returning", rows: []int{12, 13}, of: Deliveries, clients: 20, needs: needsReturn,
		lasts: 20 * time.Second,
		shows: "whether who comes back gets what was said meanwhile, and gets it once", session: `
  CONNECT
  enter { room = "ROOM-${n % 2}" }
  repeat {
    every = "500ms"
    times = 28
    SAY
  }
  pause { lasts = "10m" }`, crew: "\n  RECONNECT", more: func(*trial.Trial, *language.Parts) string {
			return cutting("a few", "6s", "1s", "30%") + cutting("and others", "11s", "1s", "50%")
		}},
	{name: "crowd returning", rows: []int{21}, of: Entries, clients: 40, needs: needsSay, lasts: 24 * time.Second,
		harsh: true, harm: "all connections break at once, twice", shows: "how soon a crowd is back whose " +
			"connections broke at once, against two clients",
		session: `
  CONNECT
  enter { room = "ROOM-${n % 4}" }
  repeat {
    every = "2s"
    times = 10
    SAY
  }
  pause { lasts = "10m" }`, crew: `
  reconnect {
    first  = "50ms"
    factor = 1
    jitter = "none"
  }`, more: func(*trial.Trial, *language.Parts) string {
			return cutting("two", "4s", "100ms", "5%") + cutting("all", "8s", "100ms", "100%") +
				cutting("two again", "17s", "100ms", "5%") + cutting("all again", "20s", "100ms", "100%")
		}},
	{name: "comings and goings", rows: []int{23}, of: Entries, clients: 40, needs: needsServer,
		shows: "what the server has left of clients that have come and gone", session: `
  repeat {
    every = "2s"
    times = 5
    CONNECT
    enter { room = "ROOM-${n % 4}" }
    pause { lasts = "500ms" }
    close {}
  }`},
	{name: "slow reader", ownRooms: true, rows: []int{9, 29}, of: Deliveries, clients: 20, needs: needsMore,
		lasts: 42 * time.Second, harsh: true, harm: "one client reads slowly, of up to 1 MB a second",
		shows: "whether one client that reads slowly, by turns with not, holds up the others in its room, or in " +
			"another", session: `
  CONNECT
  enter { room = "ROOM-${n % 2}" }
  barrier "all there" { within = "20s" }
  when {
    that = n == 0
    pause { lasts = "8s" }
    SLOWLY
    pause { lasts = "10m" }
  }
  otherwise {
    repeat {
      every = "400ms"
      times = 108
      SAY[${base64(random_bytes(22500))}]
    }
    pause { lasts = "10m" }
  }`},
	{name: "restart", rows: []int{22, 34}, of: Entries, clients: 20, needs: needsRestart, lasts: 20 * time.Second,
		harsh: true, harm: "it is restarted, once", shows: "how clients are let go when the server begins anew, and " +
			"what it still knows then",
		session: `
  CONNECT
  enter { room = "ROOM" }
  barrier "all there" { within = "20s" }
  RESTARTING
  when {
    that = n % 2 == 0
    BYE
    pause { lasts = "10m" }
  }
  otherwise {
    repeat {
      every = "500ms"
      times = 34
      SAY
    }
    pause { lasts = "10m" }
  }`, crew: `
  reconnect {
    first = "500ms"
  }`, more: func(t *trial.Trial, p *language.Parts) string {
			if p.Restart != "" {
				return ""
			}
			return "\nfault \"restart\" {\n  do    = \"restart\"\n  at    = \"9s\"\n  lasts = \"1s\"\n}\n"
		}},
	{name: "bad messages", rows: []int{42}, of: Messages, clients: 16, harsh: true, harm: "eight messages come that " +
		"mean nothing", needs: needsSay,
		shows: "whether a message that means nothing to the server harms anybody but who sends it", session: `
  CONNECT
  enter { room = "ROOM" }
  barrier "all there" { within = "20s" }
  when {
    that = n < 8
    repeat {
      every = "500ms"
      times = 24
      SAY
    }
    pause { lasts = "10m" }
  }
  otherwise {
BADLY
  }`},
	{name: "bad frames", rows: []int{28, 42}, of: Entries, clients: 16, harsh: true, harm: "some clients break the " +
		"protocol", needs: needsWebSocket,
		shows: "whether clients that break the protocol are closed with the right code, and the others notice " +
			"nothing",
		session: `
  CONNECT
  enter { room = "ROOM" }
  barrier "all there" { within = "20s" }
  when {
    that = n % 2 == 0
    pause { lasts = "10m" }
  }
  otherwise {
    pause {
      lasts = "1s"
      most  = "8s"
    }
    choose {
      option {
        malformed {
          what   = "reserved bits"
          within = "3s"
        }
      }
      option {
        malformed {
          what   = "bad text"
          within = "3s"
        }
      }
      option {
        malformed {
          what   = "stray fragment"
          within = "3s"
        }
      }
    }
  }`},
	{name: "rates that double", rows: []int{10}, of: Messages, clients: 16, least: 16, needs: needsSay,
		lasts:   17 * time.Second,
		shows:   "how latency grows with how much is said: 2, 4, 8 and 16 of the clients speak, by turns",
		session: doublingRates()},
}

// whileOthersSpeak has every other client of a room speak, and the rest do something else.
func whileOthersSpeak(steps string) string {
	return `
  CONNECT
  enter { room = "ROOM" }
  barrier "all there" { within = "20s" }
  when {
    that = n % 2 == 0
    repeat {
      every = "400ms"
      times = 30
      SAY
    }
  }
  otherwise {` + steps + `
  }`
}

// inBursts has the members of a small room and of a large one speak at once, by turns.
func inBursts(times int) string {
	text := `
  CONNECT
  enter { room = "ROOM-${n < 4 ? 0 : 1}" }`
	for i := range times {
		text += fmt.Sprintf(`
  barrier "small %[1]d" { within = "20s" }
  when {
    that = n < 4
    SAY
    SAY
  }
  pause { lasts = "1500ms" }
  barrier "large %[1]d" { within = "20s" }
  when {
    that = n >= 4
    SAY
  }
  pause { lasts = "1500ms" }`, i+1)
	}
	return text
}

// doublingRates has twice as many clients of one room speak at each turn, each as often as in the turn before.
func doublingRates() string {
	text := `
  CONNECT
  enter { room = "ROOM" }
  barrier "all there" { within = "20s" }
  pause {
    lasts = "1ms"
    most  = "130ms"
  }
  repeat {
    every = "7800ms"
    times = 2`
	for speak := 2; speak <= 16; speak *= 2 {
		text += fmt.Sprintf(`
    when {
      that = n < %d
      repeat {
        every = "130ms"
        times = 15
        SAY
      }
    }
    otherwise {
      pause { lasts = "1950ms" }
    }`, speak)
	}
	return text + `
  }
  pause { lasts = "10m" }`
}

// cutting is a fault that cuts connections.
func cutting(name, at, away, share string) string {
	return fmt.Sprintf(`
fault "%s" {
  do    = "cut"
  at    = "%s"
  lasts = "%s"
  share = "%s"
}
`, name, at, away, share)
}

// slowly has a client read slowly: as the trial does, if the server must close it for that; or, without a word on what
// the server must do about it, twice, by turns with reading as fast as it can.
func slowly(p *language.Parts) string {
	return cmp.Or(p.SlowReader, `read_slowly { bytes_per_second = 2000 }
    pause { lasts = "12s" }
    read_slowly { bytes_per_second = 0 }
    pause { lasts = "7s" }
    read_slowly { bytes_per_second = 2000 }
    pause { lasts = "12s" }
    read_slowly { bytes_per_second = 0 }`)
}

// gate has all clients go on at the same moment to what lets them into a room: their own words for it, or, if there are
// none, the connection.
func gate(t *trial.Trial, p *language.Parts) string {
	const barrier = "barrier \"at the gate\" { within = \"20s\" }"
	if t.Dialect.Enter.Send == nil {
		return barrier + "\n  " + p.Connect
	}
	return p.Connect + "\n  " + barrier
}

// restarting has one client ask the server to begin anew, in the trial's own words.
func restarting(p *language.Parts) string {
	if p.Restart == "" {
		return ""
	}
	return "when {\n    that = n == 0\n    pause { lasts = \"6s\" }\n    " + p.Restart +
		"\n    pause { lasts = \"10m\" }\n  }"
}

// badly has clients send a bad message each, one after another.
func badly() string {
	text := ""
	for i, bad := range []string{`"{"`, `"[1, 2, 3]"`, `"null"`, `"{\"no\":\"such message\"}"`,
		`"` + strings.Repeat("[", 300) + `"`, `"${filler(60000)}"`, `"{\"kind\":1e400}"`,
		`"{\"kind\":{\"kind\":[]}}"`} {
		text += fmt.Sprintf(`    when {
      that = n == %d
      pause { lasts = "%ds" }
      send {
        body = %s
        bad  = true
      }
      pause { lasts = "10m" }
    }
`, 8+i, 1+i, bad)
	}
	return text
}

// ladder is more text in each round, around the sizes at which lengths are written otherwise, and buffers end.
var ladder = byRound("round", 1, 60, 125, 126, 127, 500, 1000, 1024, 4000, 4096, 8192, 16000, 16384, 32000, 32768,
	65535, 65536, 262144, 1000000)

// doubling is text of sizes that double, by turns.
var doubling = byRound("round % 7", 0, 256, 512, 1024, 2048, 4096, 8192, 16384)

// byRound is text of another size in each round, from the one with a number on: the last size from then on.
func byRound(round string, from int, sizes ...int) string {
	text, last := "", len(sizes)-1
	for i, n := range sizes[:last] {
		text += fmt.Sprintf("%s <= %d ? %d : ", round, from+i, n)
	}
	return fmt.Sprintf("${filler(%s%d)}", text, sizes[last])
}
