package sim_test

import (
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tidepull/internal/measure/logbook"
	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
)

// A weakness is a trial that shows it, the stand-in's switch, and the figure
// that must be 0 without it and more with it.
type weakness struct {
	config   standin.Config
	switches board.Switches
	session  string
	crew     string // more of the crew block
	top      string // more blocks
	figure   string
	reason   string // a part of one of the reasons, if the figure is of checks
}

const talk = `
  connect {}
  enter { room = "lock-${n % 2}" }
  repeat {
    every = "500ms"
    times = 12
    say { body = { kind = "notice", room = room, text = "${name} stands by ${mark}" } }
  }
`

// lateForHistory has all but four clients enter late, and get what was said before.
const lateForHistory = `
  connect {}
  when {
    that = n < 4
    enter { room = "lock-1" }
  }
  otherwise {
    pause {
      lasts = "4s"
      most  = "12s"
    }
    enter {
      room    = "lock-1"
      history = 20
    }
  }
  repeat {
    every = "700ms"
    times = 20
    say { body = { kind = "notice", room = room, text = "${mark}" } }
  }
`

var weaknesses = map[string]weakness{
	"2 wrong echo": {switches: board.Switches{WrongEcho: 0.2}, session: talk, figure: "ledger.lost"},
	"2 wrong echo, of who is left out": {config: standin.Config{LeaveOut: true},
		switches: board.Switches{WrongEcho: 0.2},
		session:  strings.Replace(talk, "text =", "text =", 1), figure: "ledger.stray"},
	"3 room leak": {switches: board.Switches{Leak: 0.1}, session: talk, figure: "ledger.stray"},
	"4 whisper leak": {switches: board.Switches{Overhear: 0.3}, figure: "ledger.stray", session: `
  connect {}
  enter { room = "lock-1" }
  barrier "all there" {}
  repeat {
    every = "1s"
    times = 6
    whisper {
      to   = "pilot-${(n + 1) % 20}"
      body = { kind = "whisper", to = to, text = "your berth is free ${mark}" }
    }
  }
`},
	"11 history": {switches: board.Switches{History: 0.5}, figure: "checks.failed",
		reason: "the history of late comers", session: lateForHistory},
	"11 history, after the confirmation": {switches: board.Switches{History: 0.5}, figure: "checks.failed",
		config: standin.Config{Manners: standin.Manners{Manners: board.Manners{After: true}}},
		reason: "the history of late comers", session: lateForHistory},
	"14 reordering": {switches: board.Switches{Reorder: 0.2}, session: strings.Replace(talk, "500ms", "100ms", 1),
		figure: "ledger.reordered"},
	"15 order": {switches: board.Switches{Disorder: 0.05}, session: strings.Replace(talk, "500ms", "200ms", 1),
		figure: "ledger.disagreed"},
	"16 altered": {switches: board.Switches{Alter: 0.1}, figure: "ledger.altered", session: `
  connect {}
  enter { room = "lock-1" }
  repeat {
    every = "500ms"
    times = 8
    say {
      payload = "${awkward(round)}"
      body    = { kind = "notice", room = room, ref = mark, text = payload }
    }
  }
`},
	"16 altered, binary": {switches: board.Switches{Alter: 0.1}, figure: "ledger.altered", session: `
  connect {}
  enter { room = "lock-1" }
  repeat {
    every = "500ms"
    times = 8
    say {
      payload = "${random_bytes(n == 0 && round == 1 ? 1048576 : pick(0, 1, 300, 65536))}"
      body    = "${payload}${mark_bytes}"
      binary  = true
    }
  }
`},
	"17 size": {switches: board.Switches{TooBig: 5000}, figure: "ledger.lost", session: `
  connect {}
  enter { room = "lock-1" }
  repeat {
    every = "1s"
    times = 6
    say {
      payload = "${mark} ${filler(n == 0 && round == 1 ? 300000 : pick(10, 1000, 16384))}"
      body    = { kind = "notice", room = room, text = payload }
    }
  }
`},
	"24 open door, before the name": {switches: board.Switches{OpenDoor: 1}, figure: "checks.failed",
		reason: "must be refused", session: `
  when {
    that = n < 10
    connect {}
    enter { room = "lock-1" }
    pause { lasts = "8s" }
  }
  otherwise {
    pause { lasts = "3s" }
    connect {
      nameless = true
      early    = { kind = "notice", room = "lock-1", text = "too early ${mark}" }
    }
    say {
      body    = { kind = "notice", room = "lock-1", text = "without a name ${mark}" }
      refused = msg.kind == "refused" && msg.what == "notice"
    }
  }
`},
	"24 open door, a room for others": {switches: board.Switches{OpenDoor: 1}, figure: "checks.failed",
		reason: "must be denied", session: `
  connect {}
  enter {
    room   = "harbour-office"
    denied = true
    within = "2s"
  }
`},
	"24 open door, speaking before entering": {switches: board.Switches{OpenDoor: 1}, figure: "ledger.stray", session: `
  connect {}
  when {
    that = n < 10
    enter { room = "lock-1" }
    pause { lasts = "8s" }
  }
  otherwise {
    pause { lasts = "3s" }
    say {
      room    = "lock-1"
      body    = { kind = "notice", room = "lock-1", text = "from outside ${mark}" }
      refused = msg.kind == "refused"
    }
  }
`},
	"24 open door, without credentials": {config: standin.Config{Login: true}, switches: board.Switches{OpenDoor: 1},
		figure: "checks.failed", session: `
  request "the door" {
    path   = "/live"
    status = 401
  }
`},
	"27 presence": {switches: board.Switches{Presence: 0.3}, session: talk, figure: "checks.failed",
		reason: "the number of members"},
	"27 enter and leave notices": {config: standin.Config{Notices: true}, switches: board.Switches{Lose: 0.02},
		figure: "ledger.lost", session: `
  connect {}
  enter { room = "lock-1" }
  pause {
    lasts = "1s"
    most  = "6s"
  }
  choose {
    option {
      leave {}
    }
    option {
      vanish {}
    }
    option {
      close {}
    }
  }
`},
	"31 identity clash": {config: standin.Config{Share: true}, switches: board.Switches{Clash: 0.5}, session: talk,
		crew: `name = "pilot-${floor(n / 2)}"`, figure: "ledger.lost"},
	"31 identity clash, whispers": {config: standin.Config{Share: true}, switches: board.Switches{Clash: 0.5},
		crew: `name = "pilot-${floor(n / 2)}"`, figure: "ledger.lost", session: `
  connect {}
  enter { room = "lock-1" }
  barrier "all there" {}
  repeat {
    every = "1s"
    times = 4
    whisper {
      to   = "pilot-${(n + 1) % 10}"
      body = { kind = "whisper", to = to, text = "${mark}" }
    }
  }
`},
	"self-pushing: holes": {switches: board.Switches{Lose: 0.2}, session: gauge, figure: "checks.failed",
		reason: "nothing of it came for too long", top: `
feed "tide gauges" {
  when  = msg.kind == "reading"
  key   = msg.gauge
  every = "1s"
}
`},
	"self-pushing: not the same": {switches: board.Switches{Alter: 0.2}, session: `
  connect {}
  enter { room = "lock-1" }
  repeat {
    every = "1s"
    times = 5
    say {
      payload = "berth ${n} is free"
      body    = { kind = "notice", room = room, ref = mark, text = payload }
    }
  }
`, figure: "checks.failed",
		reason: "another client was given something else", top: `
feed "notices" {
  when = msg.kind == "notice"
  key  = msg.room
  seq  = msg.seq
  same = true
}
`},
	"self-pushing: not the same, without numbers": {switches: board.Switches{Lose: 0.2}, session: gauge,
		figure: "checks.failed", reason: "another client was given something else", top: `
feed "tide gauges" {
  when  = msg.kind == "reading"
  key   = msg.gauge
  value = msg.level
  same  = true
}
`},
	"self-pushing: gaps": {switches: board.Switches{Lose: 0.05}, session: gauge, top: feed, figure: "feed.gaps"},
	"self-pushing: doubles": {switches: board.Switches{Double: 0.05}, session: gauge, top: feed,
		figure: "feed.repeats"},
	"self-pushing: order": {switches: board.Switches{Disorder: 0.05},
		config: standin.Config{Gauge: 200 * time.Millisecond}, session: gauge, top: feed, figure: "feed.backward"},
	"self-pushing: age": {switches: board.Switches{Hold: 700 * time.Millisecond}, session: gauge, top: feed,
		figure: "feed.stale"},
	"1 crowd race": {switches: board.Switches{Load: board.Load{CrowdRace: 0.3}}, figure: "ledger.lost",
		session: strings.Replace(talk, "enter {", "barrier \"at the gate\" {}\n  enter {", 1)},
	"9 slow reader stalls its room": {switches: board.Switches{Load: board.Load{StallRoom: 1}}, figure: "ledger.late",
		session: strings.Replace(strings.Replace(talk, "repeat {", "when {\n    that = n == 0\n    read_slowly { "+
			"bytes_per_second = 500 }\n  }\n  repeat {", 1), "stands by ${mark}",
			"stands by ${mark} ${filler(4000)}", 1)},
	"10 slow store": {switches: board.Switches{Load: board.Load{SlowStore: 40 * time.Millisecond}},
		session: talk, figure: "ledger.late"},
	"41 stalls": {switches: board.Switches{Load: board.Load{Standstill: 1500 * time.Millisecond}},
		session: talk + "  pause { lasts = \"9s\" }\n", figure: "ledger.late"},
	"12 nothing on return": {switches: board.Switches{Load: board.Load{NoReturn: 0.5}},
		session: talk + "  pause { lasts = \"9s\" }\n", top: cutThem,
		crew: backAgain, figure: "ledger.lost", config: standin.Config{History: 200}},
	"13 doubled on return": {switches: board.Switches{Load: board.Load{DoubleReturn: 0.5}}, session: talk, top: cutThem,
		crew: backAgain, figure: "ledger.duplicate", config: standin.Config{History: 200}},
	"26 crooked growth": {switches: board.Switches{Load: board.Load{Crooked: 20 * time.Millisecond}}, session: talk,
		figure: "ledger.late"},
	"32 burst loss": {switches: board.Switches{Load: board.Load{BurstLoss: 5}}, figure: "ledger.lost",
		session: `
  connect {}
  enter { room = "lock-1" }
  barrier "all there" {}
  say { body = { kind = "notice", room = room, text = "${name} stands by ${mark}" } }
  pause { lasts = "8s" }
`},
	"22 rude goodbye": {switches: board.Switches{Load: board.Load{RudeGoodbye: 0.5}}, figure: "checks.failed",
		reason: "goodbye", session: restartAt + `
  }
  expect_close "goodbye" {
    code   = 1012
    within = "15s"
  }
`},
	"28 brittle": {switches: board.Switches{Load: board.Load{Brittle: 1}}, figure: "clients.broken", session: `
  connect {}
  enter { room = "lock-1" }
  when {
    that = n == 7
    pause { lasts = "5s" }
    malformed { what = "bad text" }
  }
  otherwise {
    pause { lasts = "12s" }
  }
`},
	"28 lenient": {switches: board.Switches{Load: board.Load{Lenient: 0.5}}, figure: "checks.failed",
		reason: "closes who breaks the protocol", session: `
  connect {}
  enter { room = "lock-1" }
  pause { lasts = "1s" }
  malformed {
    what   = "any"
    within = "2s"
  }
`},
	"29 endless queue": {switches: board.Switches{Load: board.Load{EndlessQueue: 1}}, figure: "checks.failed",
		config: standin.Config{MaxQueue: 64 << 10}, reason: "a slow reader is evicted", session: `
  connect {}
  enter { room = "lock-1" }
  barrier "all there" {}
  when {
    that = n == 3
    read_slowly {
      bytes_per_second = 20000
      evicted_within   = "10s"
    }
    pause { lasts = "12s" }
  }
  otherwise {
    repeat {
      every = "200ms"
      times = 25
      say { body = { kind = "notice", room = room, text = "${filler(1000)} ${mark}" } }
    }
  }
`},
	"34 forgetful restart": {config: standin.Config{Store: "board.db"}, crew: backAgainAnew,
		figure:   "returns.renumbered",
		switches: board.Switches{Load: board.Load{Forgetful: 1}}, session: restartAt + `
    pause { lasts = "12s" }
  }
  otherwise {
    repeat {
      every = "500ms"
      times = 30
      say { body = { kind = "notice", room = room, text = "${mark}" } }
    }
  }
`},
	"silent clients": {config: standin.Config{PongWithin: 30 * time.Second},
		session: "\n  connect {}\n  enter { room = \"lock-1\" }\n  fall_silent { evicted_within = \"17s\" }\n",
		figure:  "checks.failed"},
}

const cutThem = `
fault "a quay loses power" {
  do    = "cut"
  at    = "5s"
  lasts = "1s"
  share = "30%"
}
`

const backAgain = `
  name = "pilot-${n}"
  reconnect {
    first    = "500ms"
    catch_up = true
  }
`

const backAgainAnew = `
  name = "pilot-${n}"
  reconnect { first = "500ms" }
`

// restartAt has one client end the board after a while, which is back a second later.
const restartAt = `
  connect {}
  enter { room = "lock-1" }
  barrier "all there" {}
  when {
    that = n == 0
    pause { lasts = "6s" }
    request "restart" {
      method = "POST"
      path   = "/restart?down=1s"
      status = 204
    }`

const gauge = `
  connect {}
  enter { room = "gauge-north" }
  enter { room = "gauge-south" }
  pause { lasts = "12s" }
`

const feed = `
feed "tide gauges" {
  when  = msg.kind == "reading"
  key   = msg.gauge
  seq   = msg.seq
  time  = msg.at
  fresh = "500ms"
}
`

func (w *weakness) trial(name string) string {
	crew := w.crew
	if crew == "" {
		crew = `name = "pilot-${n}"`
	}
	reaches := ""
	if w.config.LeaveOut {
		reaches = "\n      reaches = \"others\"\n"
	}
	session := strings.Replace(w.session, "    say { body = { kind = \"notice\", room = room, text = \"${name} "+
		"stands by ${mark}\" } }",
		"    say {\n      body = { kind = \"notice\", room = room, text = \"${name} stands by ${mark}\" }"+reaches+
			"\n    }", 1)
	return `
trial "` + name + `" { seed = 5 }
target "board" {
  websocket = "ws://127.0.0.1:7411/live"
  order     = "same"
  dialect   = "board"
}
dialect "board" {
  name {
    send      = { kind = "name", name = name }
    confirmed = msg.kind == "named"
  }
  enter {
    send      = { kind = "enter", room = room }
    confirmed = msg.kind == "entered" && msg.room == room
    refused   = msg.kind == "refused" && msg.what == "enter"
  }
  leave {
    send      = { kind = "leave", room = room }
    confirmed = msg.kind == "left"
  }
  past {
    when = msg.kind == "past"
    seq  = msg.seq
  }
  heard {
    when    = msg.kind == "notice"
    room    = msg.room
    seq     = msg.seq
    payload = msg.text
  }
  presence {
    when    = msg.kind == "presence"
    room    = msg.room
    members = msg.members
  }
` + map[bool]string{true: `
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
`}[w.config.Notices] + `}
` + w.top + `
session "s" {` + session + `}
crew "pilots" {
  clients = 20
  session = session.s
  ` + crew + `
}
tide {
  flood "100%" { over = "3s" }
  slack { lasts = "20s" }
  ebb { over = "3s" }
}
`
}

// TestWeaknesses plays a trial for each weakness in virtual time, with the
// stand-in's switch off and on: without it nothing at all is wrong, with it the
// figure tells.
func TestWeaknesses(t *testing.T) {
	for name, w := range weaknesses {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			stored := w.config.Store != ""
			if stored {
				w.config.Store = filepath.Join(t.TempDir(), "good.db")
			}
			good := playWith(t, w.trial(name), w.config, board.Switches{})
			if stored {
				w.config.Store = filepath.Join(t.TempDir(), "bad.db")
			}
			clean(t, good)
			bad := playWith(t, w.trial(name), w.config, w.switches)
			if strings.HasPrefix(name, "silent") {
				good, bad = playWith(t, w.trial(name), standin.Config{}, board.Switches{}), good
				clean(t, good)
			}
			if n := figure(t, bad.window, w.figure); n == 0 {
				t.Errorf("with the switch %s is %v\n%+v\n%v", w.figure, n, bad.window.Total, bad.reasons)
			}
			if w.reason != "" && !strings.Contains(strings.Join(bad.reasons, "\n"), w.reason) {
				t.Errorf("with the switch the reasons are %q", bad.reasons)
			}
			if why := bad.window.Imbalance(); why != "" {
				t.Errorf("with the switch, %s: %+v %+v", why, bad.window.Total, bad.window.Counts)
			}
		})
	}
}

// TestLoadSwitches: a board that lets in so many clients a second does so to the instant, and one
// that hoards keeps as much of each client as it is told; without the switches nobody waits, and
// nothing is kept.
func TestLoadSwitches(t *testing.T) {
	t.Parallel()
	w := weakness{session: "\n  connect {}\n  pause { lasts = \"8s\" }\n"}
	source := strings.Replace(w.trial("load"), `over = "3s"`, `over = "200ms"`, 1)
	good := playWith(t, source, standin.Config{}, board.Switches{})
	clean(t, good)
	if most := figure(t, good.window, "connect.max"); most > 13_000 || good.truth.Hoarded != 0 {
		t.Errorf("without the switches the last is let in after %v us, %d bytes are kept", most, good.truth.Hoarded)
	}
	bad := playWith(t, source, standin.Config{}, board.Switches{Load: board.Load{SlowAccept: 10, Hoard: 5000}})
	clean(t, bad)
	// the twentieth is let in 1.9 s after the first, and was there up to 0.2 s later
	if most := figure(t, bad.window, "connect.max"); most < 1_650_000 || most > 1_950_000 ||
		bad.truth.Hoarded != 20*5000 {
		t.Errorf("with the switches the last is let in after %v us, %d bytes are kept", most, bad.truth.Hoarded)
	}
}

func figure(t *testing.T, w *logbook.Window, name string) float64 {
	t.Helper()
	f := logbook.FigureNamed(name)
	if f == nil {
		t.Fatalf("there is no figure %q", name)
	}
	v, _ := f.Of(w)
	return v
}

// clean wants a run in which nothing is wrong.
func clean(t *testing.T, p played) {
	t.Helper()
	for _, name := range []string{"ledger.lost", "ledger.late", "ledger.duplicate", "ledger.stray", "ledger.reordered",
		"ledger.disagreed", "ledger.altered",
		"checks.failed", "feed.gaps", "feed.repeats", "feed.backward", "feed.stale", "clients.broken",
		"clients.refused", "clients.denied", "messages.unsent", "returns.unprovoked"} {
		if strings.HasPrefix(t.Name(), "TestWeaknesses/silent") && name == "checks.failed" {
			continue
		}
		if n := figure(t, p.window, name); n != 0 {
			t.Errorf("without the switch %s is %v\n%v", name, n, p.reasons)
		}
	}
	if why := p.window.Imbalance(); why != "" || p.window.Counts.Opened == 0 && p.window.Counts.Requests == 0 ||
		p.window.Total.Open() != 0 {
		t.Errorf("without the switch: %s, %+v, %+v", why, p.window.Total, p.window.Counts)
	}
}
