package sim_test

import (
	"cmp"
	"strings"
	"testing"
	"time"

	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
	"tidepull/internal/trial/language"
)

// A manner is a server that speaks otherwise than the harbour board, and the dialect that
// says so.
type manner struct {
	config  standin.Config
	dialect string // instead of all of the board's, or in its place
	session string
	told    bool   // who enters and leaves is announced
	name    string // of the clients; "": each has its own
}

const boardsName = `
  name {
    send      = { kind = "name", name = name }
    confirmed = msg.kind == "named"
  }
`

const boardsHeard = `
  heard {
    when    = msg.kind == "notice"
    room    = msg.room
    seq     = msg.seq
    payload = msg.text
  }
`

const boardsPresence = `
  presence {
    when    = msg.kind == "presence"
    room    = msg.room
    members = msg.members
  }
`

const boardsWords = boardsName + boardsHeard + boardsPresence + `
  enter {
    send      = { kind = "enter", room = room }
    confirmed = msg.kind == "entered" && msg.room == room
  }
  leave {
    send      = { kind = "leave", room = room }
    confirmed = msg.kind == "left"
  }
`

const told = `
  joined {
    when = msg.kind == "joined"
    room = msg.room
    name = msg.name
  }
  gone {
    when = msg.kind == "gone"
    room = msg.room
    name = msg.name
  }
`

const chatty = `
  connect {}
  enter { room = "lock-${n % 2}" }
  pause { lasts = "2s" }
  repeat {
    every = "400ms"
    times = 5
    say { body = { kind = "notice", room = room, text = "${name} stands by ${mark}" } }
    whisper {
      to   = "pilot-${(n + 1) % 20}"
      body = { kind = "whisper", to = to, text = "come in ${mark}" }
    }
  }
  pause { lasts = "1m" }
`

const moored = `
  connect {}
  enter { room = "quay" }
  pause { lasts = "2s" }
  repeat {
    every = "400ms"
    times = 5
    say { body = { kind = "notice", room = "quay", text = "${name} stands by ${mark}" } }
  }
  pause { lasts = "1m" }
`

var roomless = strings.NewReplacer(`enter { room = "quay" }`, "", "say {", "say {\n      reaches = \"everyone\"\n     ",
	`${mark}" } }`, "${mark}\" }\n    }").Replace(moored)

var mooring = standin.Manners{Manners: board.Manners{Moor: "quay"}}

var manners = map[string]manner{
	"several messages in a frame, in lines": {config: standin.Config{Notices: true,
		Manners: standin.Manners{Pack: "lines"}}, dialect: `split = "\n"` + boardsWords + told, session: chatty,
		told: true},
	"several messages in a frame, as a list": {config: standin.Config{Notices: true,
		Manners: standin.Manners{Pack: "list"}}, dialect: `each = msg.items` + boardsWords + told, session: chatty,
		told: true},
	"messages that go on in the next frame, ended by a byte": {config: standin.Config{Notices: true,
		Manners: standin.Manners{Pack: "records"}}, dialect: "split = \"\\u0000\"\n  across = true" + boardsWords +
		told, session: chatty, told: true},
	"messages that go on in the next frame, behind their length": {config: standin.Config{Notices: true,
		Manners: standin.Manners{Pack: "sized"}}, dialect: "length = 2 + unuint16(text)\n  json = substr(text, 2)" +
		boardsWords + told, session: chatty, told: true},
	"naming is entering": {config: standin.Config{Notices: true, Manners: mooring}, session: moored, told: true,
		dialect: boardsName + boardsHeard + boardsPresence + told + "  enter {}\n"},
	"no rooms, and notices all the same": {config: standin.Config{Notices: true, Manners: mooring}, told: true,
		session: roomless, dialect: boardsName + boardsHeard + strings.ReplaceAll(told, "room = msg.room", "")},
	"no rooms, all but the sender": {config: standin.Config{LeaveOut: true, Manners: mooring},
		session: strings.Replace(roomless, `"everyone"`, `"others"`, 1), dialect: boardsName + boardsHeard},
	"a number of members of all": {config: standin.Config{Manners: mooring}, session: roomless,
		dialect: boardsName + strings.Replace(boardsPresence, "room    = msg.room", "", 1)},
	"a confirmation with the history in it": {config: standin.Config{
		Manners: standin.Manners{Manners: board.Manners{Whole: true}}},
		dialect: boardsWords + `
  past {
    when = msg.kind == "entered"
    each = msg.history
    seq  = msg.seq
  }
`, session: lateComers},
	"history after the confirmation": {config: standin.Config{
		Manners: standin.Manners{Manners: board.Manners{After: true}}},
		dialect: boardsWords + `
  past {
    when = msg.kind == "past"
    seq  = msg.seq
  }
`, session: lateComers},
	"history as live messages": {config: standin.Config{
		Manners: standin.Manners{Manners: board.Manners{After: true, Live: true}}},
		dialect: boardsWords + "  past { live = true }\n",
		session: strings.Replace(lateComers, "    history = 20\n", "", 1)},
	"a confirmation with the names of the members": {config: standin.Config{
		Manners: standin.Manners{Manners: board.Manners{Whole: true}}}, session: chatty,
		dialect: boardsName + boardsHeard + `
  presence {
    when  = msg.kind == "entered"
    room  = msg.room
    names = msg.names
  }
  past {
    when = msg.kind == "entered"
    each = msg.history
    seq  = msg.seq
  }
` + boardsWords[strings.Index(boardsWords, "  enter {"):]},
	"members, to nobody but who enters": {session: chatty, dialect: boardsName + boardsHeard + `
  presence {
    when    = msg.kind == "entered"
    room    = room
    members = msg.members
  }
  other { when = msg.kind == "presence" }
` + boardsWords[strings.Index(boardsWords, "  enter {"):]},
	"guests under one name": {config: standin.Config{Notices: true, Share: true}, told: true,
		dialect: boardsWords + told, name: "guest-${n % 5}",
		session: strings.NewReplacer(`room = "quay" }`, `room = "lock-${n % 2}" }`, `room = "quay"`,
			`room = room`).Replace(moored)},
	"an echo beside the delivery": {config: standin.Config{Manners: standin.Manners{Manners: board.Manners{Ack: true}}},
		dialect: boardsWords + "  echo { when = msg.kind == \"ack\" }\n", session: chatty},
}

// lateComers enter at different times, and are promised the last 20 messages.
var lateComers = strings.Replace(chatty, `enter { room = "lock-${n % 2}" }`, `
  pause {
    lasts = "100ms"
    most  = "3s"
  }
  enter {
    room    = "lock-${n % 2}"
    history = 20
  }`, 1)

// TestManners plays trials against servers of other manners: nothing is reported of an
// honest one, and of one that loses exactly what it lost.
func TestManners(t *testing.T) {
	for name, m := range manners {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			source := `
trial "` + name + `" { seed = 5 }
target "board" {
  websocket = "ws://127.0.0.1:7411/live"
  dialect   = "other"
}
dialect "other" {
` + m.dialect + `}
session "s" {` + m.session + `}
crew "pilots" {
  clients = 20
  session = session.s
  name    = "` + cmp.Or(m.name, "pilot-${n}") + `"
}
tide {
  flood "100%" { over = "1s" }
  slack { lasts = "9s" }
  ebb { over = "2s" }
}
`
			good := playWith(t, source, m.config, board.Switches{})
			clean(t, good)
			if n := figure(t, good.window, "announcements.stray"); n != 0 || good.window.Total.Said == 0 && m.told {
				t.Errorf("%v stray announcements, %d said; %v", n, good.window.Total.Said, good.reasons)
			}
			if good.window.Total.Said == 0 {
				return
			}
			bad := playWith(t, source, m.config, board.Switches{Seed: 3, Lose: 0.05})
			lost := int64(0)
			for c, tally := range bad.window.Cells {
				if c.Kind.Said() { // the truth does not count announcements
					lost += tally.Lost
				}
			}
			if lost == 0 || lost != bad.truth.Lost || m.told != (lost < bad.window.Total.Lost) {
				t.Errorf("lost %d, in truth %d: %+v", lost, bad.truth.Lost, bad.window.Total)
			}
			if m.config.Manners.Pack != "" && good.window.Counts.Arrivals <= good.window.Counts.Marked {
				t.Errorf("%d messages, %d with a mark", good.window.Counts.Arrivals, good.window.Counts.Marked)
			}
		})
	}
}

// TestEnds: connections that must be refused, closes that must come and how, and what was
// waited for when a connection broke: they hold or fail as checks do.
func TestEnds(t *testing.T) {
	const open = "\n  connect {}\n  enter { room = \"lock-1\" }\n"
	for name, tc := range map[string]struct {
		steps string
		login bool
		wrong string // "": every check holds
	}{
		"refused": {login: true, steps: `
  connect {
    refused = true
    status  = 401
  }`},
		"refused, with words in the body": {login: true, steps: `
  connect {
    refused = true
    status  = 401
    words   = "log in"
  }`},
		"refused, in other words": {login: true, wrong: "it was refused with other words", steps: `
  connect {
    refused = true
    words   = "low water"
  }`},
		"refused, with another status": {login: true, wrong: "it was refused with status 401", steps: `
  connect {
    refused = true
    status  = 403
  }`},
		"let in": {wrong: "it was let in", steps: "\n  connect { refused = true }"},
		"closed": {steps: open + `
  send { body = { kind = "log off" } }
  expect_close "off" {
    code   = 4000
    reason = "logged"
  }
  connect {}
  enter { room = "lock-2" }`},
		"closed with another code": {wrong: "closed with code 4000", steps: open + `
  send { body = { kind = "log off" } }
  expect_close "off" { code = 1000 }`},
		"not closed": {wrong: "the connection is still open", steps: open + `
  expect_close "off" { within = "1s" }`},
		"hung up": {steps: open + `
  send { body = { kind = "hang up" } }
  expect_close "off" { abrupt = true }`},
		"hung up, and a code was wanted": {wrong: "it ended without a close frame", steps: open + `
  send { body = { kind = "hang up" } }
  expect_close "off" { code = 4000 }`},
		"closed, and no frame was wanted": {wrong: "it ended with a close frame", steps: open + `
  send { body = { kind = "log off" } }
  expect_close "off" { abrupt = true }`},
		"waiting when it broke": {wrong: "the connection broke before it came", steps: open + `
  ask "for nothing" {
    send = { kind = "log off" }
    when = msg.kind == "nothing"
  }`},
		"asserted": {steps: `
  set { berth = n + 1 }
  assert "a berth" { that = my.berth > 0 }` + open},
		"asserted wrongly": {wrong: "it does not hold", steps: `
  set { berth = n + 1 }
  assert "a berth" { that = my.berth < 0 }` + open},
		"asserted of the run": {steps: figured + `
  assert "what was measured" { that = messages.sent == 4 && ledger.delivered == 16 && clients.open >= n + 1 }
  assert "later" { that = messages.arrivals >= 16 }`},
		"asserted wrongly of the run": {wrong: "it does not hold; messages.sent is 4", steps: figured + `
  assert "what was measured" { that = messages.sent > 4 }`},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := playWith(t, harbourOf(tc.steps), standin.Config{Login: tc.login}, board.Switches{})
			held, failed, said := p.window.ChecksHeld(), p.window.ChecksFailed(), ""
			for _, e := range p.events {
				said += e.Detail + "\n"
			}
			if (tc.wrong == "") != (failed == 0 && held > 0) || !strings.Contains(said, tc.wrong) ||
				p.window.Imbalance() != "" {
				t.Errorf("%d held, %d failed: %s\n%v", held, failed, said, p.reasons)
			}
			if c := p.window.Counts; tc.wrong == "" && c.Broken+c.Refused+c.Denied > 0 {
				t.Errorf("%+v", c)
			}
		})
	}
}

// figured has four clients say something, and get it, before anything else.
const figured = `
  connect {}
  enter { room = "lock-1" }
  barrier "all" {}
  pause { lasts = "10ms" } # in virtual time the last one enters and the first one speaks at one instant
  say { body = { kind = "notice", room = room, text = "${name} ${mark}" } }
  pause { lasts = "500ms" }
`

// harbourOf is a trial of four clients that take some steps.
func harbourOf(steps string) string {
	return `
trial "ends" {}
target "board" { websocket = "ws://127.0.0.1:7411/live" }
session "s" {` + steps + `
}
crew "pilots" {
  clients = 4
  session = session.s
}
tide {
  flood "100%" { over = "100ms" }
  slack { lasts = "4s" }
  ebb { over = "100ms" }
}
`
}

// TestIntroductions: a greeting that is waited for, and signs of life in messages.
func TestIntroductions(t *testing.T) {
	of := func(dialect string) string {
		return strings.Replace(harbourOf(talk), `{ websocket = "ws://127.0.0.1:7411/live" }`, `{
  websocket = "ws://127.0.0.1:7411/live"
  dialect   = "other"
}
dialect "other" {
`+dialect+"}", 1)
	}
	greeted := strings.Replace(boardsWords, "name {", "name {\n    after = msg.kind == \"welcome\"", 1)
	p := playWith(t, of(greeted), standin.Config{}, board.Switches{})
	if clean(t, p); p.window.Counts.Sent == 0 || p.window.Counts.Unknown != 0 {
		t.Errorf("%+v, %v", p.window.Counts, p.reasons)
	}
	p = playWith(t, of(strings.Replace(greeted, "welcome", "good morning", 1)), standin.Config{}, board.Switches{})
	if c := p.window.Counts; c.Denied != 4 || c.Entries != 0 {
		t.Errorf("without the greeting: %+v, %v", c, p.reasons)
	}
	beats := standin.Config{PingEvery: time.Second, PongWithin: 2 * time.Second, Manners: standin.Manners{Beat: true}}
	answered := `
  beat {
    when   = msg.kind == "are you there"
    answer = { kind = "here" }
  }
`
	quiet := strings.Replace(of(boardsWords+answered), `"4s" }`, `"9s" }`, 1)
	quiet = strings.Replace(quiet, talk,
		"\n  connect {}\n  enter { room = \"lock-1\" }\n  pause { lasts = \"1m\" }\n", 1)
	p = playWith(t, quiet, beats, board.Switches{})
	if clean(t, p); p.window.Counts.Pings < 4*5 {
		t.Errorf("%d beats answered", p.window.Counts.Pings)
	}
	p = playWith(t, strings.Replace(quiet, answered, "", 1), beats, board.Switches{})
	if p.window.Counts.Broken != 4 {
		t.Errorf("without an answer: %+v, %v", p.window.Counts, p.reasons)
	}
	unasked := strings.Replace(quiet, answered, `
  beat {
    every = "800ms"
    send  = { kind = "here" }
  }
`, 1)
	if p = playWith(t, unasked, beats, board.Switches{}); p.window.Counts.Broken != 0 {
		t.Errorf("with beats unasked: %+v, %v", p.window.Counts, p.reasons)
	}
	silent := strings.Replace(unasked, "pause { lasts = \"1m\" }", "fall_silent { evicted_within = \"6s\" }", 1)
	if p = playWith(t, silent, beats, board.Switches{}); p.window.Counts.Evicted != 4 || p.window.ChecksFailed() != 0 {
		t.Errorf("silent: %+v, %v", p.window.Counts, p.reasons)
	}
}

// TestDeaf: a dialect of another server's recognises nothing, and the reasons say what
// came and which rule is the nearest; a text that is none is not sent.
func TestDeaf(t *testing.T) {
	other := strings.NewReplacer("msg.kind ==", "msg.type ==").Replace(boardsWords)
	source := strings.Replace(harbourOf(talk), `{ websocket = "ws://127.0.0.1:7411/live" }`, `{
  websocket = "ws://127.0.0.1:7411/live"
  dialect   = "other"
}
dialect "other" {
`+other+"}", 1)
	p := playWith(t, source, standin.Config{}, board.Switches{})
	said := strings.Join(p.reasons, "\n")
	if c := p.window.Counts; c.Unknown != c.Arrivals || c.Arrivals == 0 || c.Denied != 4 ||
		!strings.Contains(said, `'{"kind":"named","name":"pilots-0"}'; the nearest rule is confirmed of name`) {
		t.Errorf("%+v\n%s", c, said)
	}
	noText := strings.Replace(harbourOf(talk), talk[strings.Index(talk, "say {"):],
		"say { body = \"${unhex(\"ff\")} ${mark}\" }\n  }\n", 1)
	p = playWith(t, noText, standin.Config{}, board.Switches{})
	if c := p.window.Counts; c.Sent != 0 || c.Unsent == 0 || p.window.Total.Owed != 0 || c.Broken != 0 ||
		!strings.Contains(strings.Join(p.reasons, "\n"), "no valid UTF-8") {
		t.Errorf("%+v\n%v", c, p.reasons)
	}
}

// TestLoggedOff: the server ends connections at a client's wish and tells the others at once: they may hear
// it before the leaver's end is read.
func TestLoggedOff(t *testing.T) {
	source := strings.NewReplacer("clients = 4", "clients = 20", `{ websocket = "ws://127.0.0.1:7411/live" }`, `{
  websocket = "ws://127.0.0.1:7411/live"
  dialect   = "other"
}
dialect "other" {
`+boardsWords+told+"}").Replace(harbourOf(`
  connect {}
  enter { room = "lock-1" }
  pause {
    lasts = "1s"
    most  = "2s"
  }
  send { body = { kind = "log off" } }
  expect_close "off" { code = 4000 }
`))
	for shares, join := range []time.Duration{1: 0, 2: 50 * time.Millisecond, 3: 0} {
		if shares == 0 {
			continue
		}
		tr, err := language.Parse([]byte(source), "off.trial.hcl", language.Options{})
		if err != nil {
			t.Fatal(err)
		}
		p := playShared(t, tr, standin.Config{Notices: true}, board.Switches{}, join, shares)
		l := p.window.Total
		if l.Lost+l.Stray+l.Duplicate != 0 || l.Delivered < 300 || p.window.Counts.StrayNews != 0 {
			t.Errorf("%d shares: %+v, %d announced falsely\n%v", shares, l, p.window.Counts.StrayNews, p.reasons)
		}
	}
}

// TestHistoryAgain: clients that come back, or enter a room again without having left it, are given what
// they had before, as history or in the form of live messages: none of it came twice.
func TestHistoryAgain(t *testing.T) {
	for name, tc := range map[string]struct {
		manners board.Manners
		past    string
		more    string // of the crew
		after   string // the session's steps behind what it says first
	}{
		"back, as live messages": {board.Manners{After: true, Live: true}, "live = true", backAgainAnew, ""},
		"back, and catching up":  {board.Manners{After: true, Live: true}, "live = true", backAgain, ""},
		"in again, with the confirmation": {board.Manners{Whole: true},
			"when = msg.kind == \"entered\"\n    each = msg.history\n    seq = msg.seq", "\n  name = \"pilot-${n}\"\n",
			"enter { room = \"lock-1\" }\n  pause { lasts = \"1s\" }\n  enter { room = \"lock-1\" }"},
	} {
		source := `
trial "again" { grace = "4s" }
target "board" {
  websocket = "ws://127.0.0.1:7411/live"
  dialect   = "other"
}
dialect "other" {` + boardsName + boardsHeard + `
  enter {
    send      = { kind = "enter", room = room }
    confirmed = msg.kind == "entered" && msg.room == room
  }
  leave {
    send      = { kind = "leave", room = room }
    confirmed = msg.kind == "left"
  }
  past {
    ` + tc.past + `
  }
}
session "s" {
  connect {}
  enter { room = "lock-1" }
  repeat {
    every = "100ms"
    times = 30
    say { body = { kind = "notice", room = "lock-1", text = "${name} ${mark}" } }
  }
  ` + tc.after + `
  repeat {
    every = "100ms"
    times = 30
    say { body = { kind = "notice", room = "lock-1", text = "${name} ${mark}" } }
  }
  pause { lasts = "1m" }
}
crew "pilots" {
  clients = 8
  session = session.s` + tc.more + `}
`
		if strings.Contains(tc.more, "reconnect") {
			source += `
fault "cut" {
  do    = "cut"
  at    = "4s"
  share = "50%"
}
`
		}
		source += `
tide {
  flood "100%" { over = "1s" }
  slack { lasts = "12s" }
  ebb { over = "1s" }
}
`
		p := playWith(t, source, standin.Config{History: 200, Manners: standin.Manners{Manners: tc.manners}},
			board.Switches{})
		l := p.window.Total
		if l.Duplicate+l.Stray+l.Overdue != 0 || l.Past == 0 && l.CaughtUp == 0 || p.window.Imbalance() != "" {
			t.Errorf("%s: %+v; %v", name, l, p.reasons)
		}
	}
}
