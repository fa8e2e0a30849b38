package sim_test

import (
	"regexp"
	"strings"
	"testing"

	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
)

const everything = `
trial "everything" { seed = 3 }
variable "boats" { default = 12 }
target "board" { websocket = "ws://127.0.0.1:7411/live" }

# In by form and cookie, in by token, and as a guest; each speaks over both wires.
session "log in" {
  request "log in" {
    path    = "/login"
    form    = { user = name, password = "low-water" }
    status  = 200
    capture = { user = msg.user, cookie = cookie("berth"), kind = header("content-type"),
      mine = name }
  }
  connect {}
  enter { room = "lock-1" }
  when {
    that = my.user != name || my.mine != name || my.kind != "application/json" || length(my.cookie) < 10
    vanish {}
  }
  barrier "everybody" {}
  say { body = { kind = "notice", room = room, text = "all together ${mark}" } }
  pause { lasts = "10s" }
}
session "token" {
  request "token" {
    path    = "/token"
    json    = { user = "clerk ${n}", password = "low-water" }
    capture = { token = msg.token, short = match(text, "\"token\": *\"([0-9a-f]{4})", 1) }
  }
  set {
    again = "${my.short}/${upper(my.token)}"
  }
  connect { bearer = my.token }
  enter { room = "lock-1" }
  barrier "everybody" {}
  repeat {
    every = "1s"
    times = 4
    request "publish" {
      path    = "/publish"
      bearer  = my.token
      json    = { room = "lock-1", text = "berth ${n} is free ${mark}", again = my.again }
      reaches = "room"
      room    = "lock-1"
      when    = msg.seq > 0
    }
  }
  pause { lasts = "4s" }
}
session "handover" {
  request "come as a guest" { path = "/guest" }
  connect {}
  enter { room = "tow-${group}" }
  barrier "both are here" { among = "group" }
  choose {
    option {
      weight = 0
      vanish {}
    }
    option {
      weight = 2
      when {
        that = place == 0
        say { body = { kind = "notice", room = room, text = "take over the tow ${mark}" } }
        expect "the answer" { when = msg.kind == "notice" && contains(msg.text, "taken over") }
      }
      otherwise {
        expect "the call" {
          when    = msg.kind == "notice" && contains(msg.text, "take over")
          capture = { caller = msg.from }
        }
        whisper {
          to   = my.caller
          body = { kind = "whisper", to = to, text = "coming ${mark}" }
        }
        say { body = { kind = "notice", room = room, text = "taken over ${mark}" } }
      }
    }
  }
  ask "who is here" {
    send    = { kind = "members", room = room }
    when    = msg.kind == "members"
    capture = { members = msg.members }
  }
  expect "nothing else" {
    when   = msg.kind == "reading"
    within = "1s"
    never  = true
  }
  close {
    code   = 4001
    reason = "relieved"
  }
  connect {}
  enter { room = "after-${my.members}" }
}
session "rude" {
  request "come as a guest" { path = "/guest" }
  connect {}
  enter { room = "quay" }
  malformed { what = "unmasked" }
  connect {}
  malformed { what = "reserved bits" }
  connect {}
  malformed { what = "reserved opcode" }
  connect {}
  malformed { what = "bad text" }
  connect {}
  malformed { what = "stray fragment" }
  connect {}
  malformed { what = "long control" }
  connect {}
  malformed { what = "wrong length" }
  connect {}
  read_slowly { bytes_per_second = 20 }
  enter { room = "quay" }
  send { hex = "00 ff 10" }
  pause { lasts = "3s" }
}
session "busy" {
  request "come as a guest" { path = "/guest" }
  connect {}
  enter { room = "busy-${n % 2}" }
  repeat {
    rate    = "8/s"
    per     = "crew"
    pattern = "poisson"
    times   = 10
    say { body = { kind = "notice", room = room, text = "${uuid()} ${timestamp()} ${mark}" } }
  }
  repeat {
    every = "1s"
    burst = 5
    times = 10
    say { body = { kind = "notice", room = room, text = "${base64(hmac_sha256("key", room))} ${mark}" } }
  }
  repeat {
    closed = true
    times  = 6
    say { body = { kind = "notice", room = room, text = "${name} closed ${mark}" } }
    expect "own echo" { when = msg.kind == "notice" && msg.from == name }
  }
}
crew "planners" {
  clients = 3
  session = session["log in"]
}
crew "clerks" {
  clients = 3
  session = session.token
}
crew "tugs" {
  clients   = var.boats
  groups_of = 2
  session   = session.handover
}
crew "vandals" {
  clients = 2
  session = session.rude
}
crew "keepers" {
  clients = 8
  session = session.busy
  tide {
    flood "50%" { arrivals = "4/s" }
    spike "100%" { lasts = "20s" }
    wave {
      to     = "40%"
      period = "4s"
      times  = 1
    }
    ebb {
      over  = "2s"
      steps = 2
    }
  }
}
tide {
  flood "100%" { over = "2s" }
  slack { lasts = "20s" }
  ebb { over = "1s" }
}
`

// TestEverything plays a trial that uses nearly all the language has, in
// virtual time, against a stand-in that lets nobody in without credentials.
func TestEverything(t *testing.T) {
	p := playWith(t, everything, standin.Config{Login: true}, board.Switches{})
	w := p.window
	for name, want := range map[string]float64{
		"ledger.lost": 0, "ledger.stray": 0, "ledger.duplicate": 0, "ledger.late": 0, "checks.failed": 0,
		"clients.refused": 0, "clients.denied": 0, "messages.unsent": 0, "clients.broken": 0,
	} {
		if got := figure(t, w, name); got != want {
			t.Errorf("%s is %v, want %v", name, got, want)
		}
	}
	if t.Failed() {
		t.Fatalf("%v", p.reasons)
	}
	// 3 speak together, 3 publish 4 each, 6 pairs say 3 each, 8 keepers come in
	// twice or less: the wave closes some in between.
	held := map[string]int64{}
	for i, c := range w.Checks {
		held[p.trial.Checks[i].Kind+" "+p.trial.Checks[i].Name] = c.Held
	}
	for name, want := range map[string]int64{
		"request log in": 3, "request token": 3, "request publish": 12, "barrier everybody": 6,
		"barrier both are here": 12, "expect the answer": 6, "expect the call": 6,
		"ask who is here": 12, "expect nothing else": 12, "malformed closes at unmasked": 2,
		"malformed closes at wrong length": 2,
	} {
		if held[name] != want {
			t.Errorf("%q held %d times, want %d", name, held[name], want)
		}
	}
	if n := held["expect own echo"]; n < 48 {
		t.Errorf("own echo %d times", n)
	}
	rooms := strings.Join(p.last.Rooms, " ")
	for _, room := range []string{"tow-0", "tow-5", "after-2", "busy-1", "quay"} {
		if !strings.Contains(rooms, room) {
			t.Errorf("nobody was in %s: %s", room, rooms)
		}
	}
	// All who waited speak at the same instant.
	var at []int64
	for _, r := range p.lanes {
		if r.What == lane.Said && int(r.Client) < 3 {
			at = append(at, int64(r.At))
		}
	}
	if len(at) != 3 || at[0] != at[1] || at[1] != at[2] {
		t.Errorf("after the barrier they speak at %v", at)
	}
	if !p.trial.ClosedLoop {
		t.Error("the closed loop is not marked so")
	}
}

// TestRates: how many messages are said in ten seconds follows from the rate
// and from who shares it, and how they are spread over time from the pattern.
func TestRates(t *testing.T) {
	for name, tc := range map[string]struct {
		rate    string
		want    int64 // said by ten clients, five in each of two rooms
		spread  float64
		closest bool // bursts: many at the same instant
	}{
		"each client":   {`rate = "2/s"`, 200, 0.05, false},
		"the crew":      {"rate = \"20/s\"\n per = \"crew\"", 200, 0.1, false},
		"each room":     {"rate = \"10/s\"\n per = \"room\"", 200, 0.1, false},
		"a minute":      {`rate = "120/m"`, 200, 0.05, false},
		"poisson":       {"every = \"500ms\"\n pattern = \"poisson\"", 200, 0.2, false},
		"bursts":        {"every = \"2s\"\n burst = 4", 200, 0.1, true},
		"jitter":        {"every = \"500ms\"\n jitter = \"50%\"", 200, 0.05, false},
		"so many times": {"every = \"100ms\"\n times = 7", 70, 0, false},
	} {
		p := playWith(t, `
trial "rates" { seed = 11 }
target "board" { websocket = "ws://127.0.0.1:7411/live" }
session "s" {
  connect {}
  enter { room = "lock-${n % 2}" }
  barrier "all there" {}
  repeat {
    `+tc.rate+`
    say { body = { kind = "notice", room = room, text = "${mark}" } }
  }
}
crew "pilots" {
  clients = 10
  session = session.s
}
tide {
  flood "100%" { over = "100ms" }
  slack { lasts = "10s" }
}
`, standin.Config{}, board.Switches{})
		said := p.window.Counts.Sent
		if d := float64(said-tc.want) / float64(tc.want); d > tc.spread || d < -tc.spread {
			t.Errorf("%s: %d said, want %d", name, said, tc.want)
		}
		if p.window.Total.Lost != 0 || p.window.Times[logbook.ScheduleLag].Max() > 0 {
			t.Errorf("%s: %+v, late by %v", name, p.window.Total, p.window.Times[logbook.ScheduleLag].Max())
		}
		together := map[int64]int{}
		most := 0
		for _, r := range p.lanes {
			if r.What == lane.Said && r.Client == 0 {
				together[int64(r.At)]++
				most = max(most, together[int64(r.At)])
			}
		}
		if (most == 4) != tc.closest || most == 0 {
			t.Errorf("%s: one client says %d at an instant", name, most)
		}
	}
}

// TestIssued: what the server gives to a client as a secret is nowhere in what is kept: neither a token that
// the trial captures, nor a cookie, wherever the server says them again.
func TestIssued(t *testing.T) {
	const source = `
trial "issued" {}
secret "token" { captured = true }
target "board" { websocket = "ws://127.0.0.1:7411/live" }
session "s" {
  request "token" {
    path    = "/token"
    json    = { user = "clerk ${n}", password = "low-water" }
    capture = { token = msg.token }
  }
  connect { bearer = my.token }
  enter { room = "lock-1" }
  send { body = { kind = "what is this?", token = my.token } }
  say { body = { kind = "notice", room = room, text = "${my.token} ${mark}" } }
  assert "the token" { that = my.token == "another" }
  pause { lasts = "1m" }
}
crew "clerks" {
  clients = 3
  session = session.s
}
tide {
  flood "100%" { over = "1s" }
  slack { lasts = "3s" }
  ebb { over = "1s" }
}
`
	p := playWith(t, source, standin.Config{Login: true}, board.Switches{})
	if p.window.Counts.Sent != 3 || p.window.Counts.Opened != 3 {
		t.Fatalf("%+v; %v", p.window.Counts, p.reasons)
	}
	text := strings.Join(p.reasons, "\n")
	for _, e := range p.events {
		text += e.Detail + "\n"
	}
	for _, b := range p.bodies {
		text += string(b.Text) + "\n"
	}
	if !strings.Contains(text, "\u2022\u2022\u2022 tp") || tokenLike.MatchString(text) {
		t.Errorf("a token is in it, or nothing is hidden:\n%s", text)
	}
}

// tokenLike finds tokens of the stand-in.
var tokenLike = regexp.MustCompile(`[0-9a-f]{6,}\.[0-9a-f]{16}`)
