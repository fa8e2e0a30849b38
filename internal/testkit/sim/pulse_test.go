package sim_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"tidepull/internal/measure/logbook"
	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
	"tidepull/internal/trial/language"
)

const heartbeats = `
trial "t" { seed = %d }
target "board" {
  websocket = "ws://127.0.0.1:7411/live"
  dialect   = "board"
  promise {
    from     = %q
    every    = "1s"
    deadline = "2s"
  }
}
dialect "board" {
  name {
    send      = { kind = "name", name = name }
    confirmed = msg.kind == "named"
  }
  enter {
    send      = { kind = "enter", room = room }
    confirmed = msg.kind == "entered" && msg.room == room
  }
  presence {
    when    = msg.kind == "presence"
    room    = msg.room
    members = msg.members
  }
  gone {
    when = msg.kind == "gone"
    room = msg.room
    name = msg.name
  }
}
session "watch" {
  connect {}
  enter { room = "basin" }
  repeat {
    every = "3s"
    say { body = { kind = "notice", room = room, text = "berth ${n} ${mark}" } }
  }
}
crew "pilots" {
  clients = 60
  session = session.watch
  %s
}
tide {
  flood "100%%" { over = "1s" }
  slack { lasts = "20s" }
  ebb { over = "1s" }
}`

const misbehaving = `
  misbehave {
    do    = "silent"
    share = "20%"
    after = "5s"
  }
  misbehave {
    do    = "late"
    by    = "500ms"
    share = "10%"
  }
  misbehave {
    do    = "late"
    by    = "3s"
    share = "10%"
    after = "2s"
  }
  misbehave {
    do    = "wrong"
    share = "10%"
  }
  misbehave {
    do    = "fast"
    every = "50ms"
    share = "10%"
  }
  misbehave {
    do    = "frozen"
    share = "10%"
    after = "4s"
  }
  misbehave {
    do    = "unplugged"
    share = "10%"
    after = "3s"
  }
`

// TestBothWays: server and clients each send heartbeats by themselves, and answer none: those of the
// server are no answers.
func TestBothWays(t *testing.T) {
	source := strings.Replace(fmt.Sprintf(heartbeats, 3, "both", ""), "  gone {", `  beat {
    when  = msg.kind == "are you there"
    every = "800ms"
    send  = { kind = "here" }
  }
  gone {`, 1)
	cfg := standin.Config{PingEvery: time.Second, PongWithin: 2 * time.Second, Notices: true,
		Manners: standin.Manners{Beat: true}}
	p := playWith(t, source, cfg, board.Switches{})
	c := &p.window.Counts.Pulse
	if c.Heard < 60*15 || c.Missing+c.Late+c.Early+c.Unheard+c.Asked+c.Evicted != 0 || p.window.Counts.Broken != 0 {
		t.Errorf("%+v; %v", *c, p.reasons)
	}
	p = playWith(t, source, cfg, board.Switches{Seed: 3, Beats: board.Beats{MissBeat: 0.1}})
	if c := &p.window.Counts.Pulse; c.Missing == 0 {
		t.Errorf("of a server that leaves some out: %+v; %v", *c, p.reasons)
	}
}

// TestPulse: clients misbehave about signs of life in every way, in one share or several. Who
// must be evicted is, after exactly the deadline; nobody else is; the others are told; the
// intervals are the promised ones, and nothing else is wrong with the run.
func TestPulse(t *testing.T) {
	t.Parallel()
	for seed := range seeds(6) {
		tr, err := language.Parse(fmt.Appendf(nil, heartbeats, seed, "server", misbehaving), "t.trial.hcl",
			language.Options{})
		if err != nil {
			t.Fatal(err)
		}
		cfg := standin.Config{PingEvery: time.Second, PongWithin: 2 * time.Second, Notices: true}
		p := playShared(t, tr, cfg, board.Switches{}, 0, 1+seed%3)
		c, h := &p.window.Counts.Pulse, &p.window.Times
		if c.Misbehave != 48 || c.Evicted != 30 || p.truth.Evicted != 30 ||
			c.TooLate+c.Kept+c.Hasty+c.Missing+c.Late+c.Early != 0 {
			t.Errorf("seed %d: %+v\nin truth %+v; %v", seed, *c, p.truth, p.reasons)
		}
		// 12 silent, 6 late, 6 frozen, 6 unplugged; of those that do not read it is known to within an interval
		if n := h[logbook.ToEvict].Count(); n != 30 || h[logbook.ToEvict].Quantile(0.5) < 1990*time.Millisecond ||
			h[logbook.ToEvict].Quantile(0.7) > 2010*time.Millisecond ||
			h[logbook.ToEvict].Max() > 2250*time.Millisecond {
			t.Errorf("seed %d: %d evicted after %v to %v", seed, n, h[logbook.ToEvict].Min(), h[logbook.ToEvict].Max())
		}
		if m := h[logbook.BeatInterval].Quantile(0.5); m < 990*time.Millisecond ||
			h[logbook.BeatInterval].Max() > 1010*time.Millisecond || c.Heard < 500 {
			t.Errorf("seed %d: %d heartbeats, up to %v apart", seed, c.Heard, h[logbook.BeatInterval].Max())
		}
		// everybody in the room is told of the evictions, also of those who do not see theirs
		if n := h[logbook.ToTell].Count(); n < 30*30 || h[logbook.ToTell].Max() > 10*time.Millisecond {
			t.Errorf("seed %d: told %d times, up to %v after", seed, n, h[logbook.ToTell].Max())
		}
		if l := p.window.Total; p.window.Imbalance() != "" || l.Open() != 0 ||
			l.Lost+l.Stray+l.Duplicate+l.Late != 0 || p.window.ChecksFailed() != 0 ||
			p.window.Counts.Broken+p.window.Counts.StrayNews != 0 || p.window.Counts.Evicted != 30 {
			t.Errorf("seed %d: %s %+v\n%+v; %v", seed, p.window.Imbalance(), l, p.window.Counts, p.reasons)
		}
	}
}

// TestPulsePath: heartbeats that a fault on a client's path keeps back or loses are not the server's
// doing, and neither is it that the server closes who cannot answer for longer than its deadline;
// those with nothing on their path are judged as ever.
func TestPulsePath(t *testing.T) {
	t.Parallel()
	for name, f := range map[string]struct {
		fault string
		evict bool
	}{
		"freeze":  {"do = \"freeze\"\n lasts = \"1500ms\"", false},
		"long":    {"do = \"freeze\"\n lasts = \"6s\"", true},
		"unplug":  {"do = \"unplug\"\n lasts = \"6s\"", true},
		"delay":   {"do = \"delay\"\n by = \"400ms\"\n jitter = \"300ms\"\n lasts = \"5s\"", false},
		"corrupt": {"do = \"corrupt\"\n chance = \"20%\"\n lasts = \"5s\"", true},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			for seed := range seeds(4) {
				returns := []string{"", "reconnect { first = \"300ms\" }"}[seed/2%2]
				source := fmt.Sprintf(heartbeats, seed, []string{"server", "both"}[seed%2], returns) +
					fmt.Sprintf("\nfault \"f\" {\n at = \"6s\"\n share = \"30%%\"\n %s\n}\n", f.fault)
				tr, err := language.Parse([]byte(source), "t.trial.hcl", language.Options{})
				if err != nil {
					t.Fatal(err)
				}
				cfg := standin.Config{PingEvery: time.Second, PongWithin: 2 * time.Second, Notices: true, History: -1}
				p := playShared(t, tr, cfg, board.Switches{}, 0, 1+seed%3)
				c, l := &p.window.Counts, p.window.Total
				u := &c.Pulse
				evicted := f.evict && !(name == "unplug" && seed%2 == 1) // whose own pings go through
				if u.Missing+u.Late+u.Early+u.Hasty+u.Unheard+c.Broken+c.Malformed != 0 || p.window.Imbalance() != "" ||
					l.Lost+l.Stray+l.Duplicate != 0 || p.window.ChecksFailed() != 0 || u.Heard < 42*18 ||
					evicted != (c.Returns.Broke > 0) || c.StrayNews != 0 {
					t.Errorf("seed %d: %+v\nfinished %d stray news %d broken %d returns %+v\n%+v %s; %v", seed, *u,
						c.Finished,
						c.StrayNews, c.Broken, c.Returns, l, p.window.Imbalance(), p.reasons)
				}
			}
		})
	}
}

// TestPulseWeaknesses: each thing that a server can do wrong about heartbeats shows in its
// figure, and does not without the switch.
func TestPulseWeaknesses(t *testing.T) {
	t.Parallel()
	silent := "misbehave {\n do = \"silent\"\n share = \"20%\"\n after = \"5s\"\n}"
	for _, w := range []struct {
		name, figure, from, crew string
		switches                 board.Beats
		least                    float64 // without the switch it is at most this, with it more
	}{
		{"5 ghosts", "checks.failed", "server", silent, board.Beats{Ghost: 0.5}, 0},
		{"6 no eviction", "pulse.not_evicted", "server", silent, board.Beats{NoEviction: 0.5}, 0},
		{"7 hasty eviction", "pulse.hasty", "server", "", board.Beats{Hasty: 0.2}, 0},
		{"8 missing", "pulse.missing", "server", "", board.Beats{MissBeat: 0.1}, 0},
		{"8 uneven, late", "pulse.late", "server", "", board.Beats{Uneven: 0.4}, 0},
		{"8 twice as often", "pulse.too_often", "server", "", board.Beats{Drift: -0.5}, 0},
		{"8 uneven, early", "pulse.early", "server", "", board.Beats{Uneven: 0.4}, 0},
		{"8 drift", "pulse.drift", "server", "", board.Beats{Drift: 0.02}, 1},
		{"8 bunched", "pulse.bunched", "server", "", board.Beats{Bunch: 1}, 20},
	} {
		t.Run(w.name, func(t *testing.T) {
			t.Parallel()
			cfg := standin.Config{PingEvery: time.Second, PongWithin: 2 * time.Second, Notices: true}
			source := fmt.Sprintf(heartbeats, 3, w.from, w.crew)
			good := playWith(t, source, cfg, board.Switches{})
			if v := figure(t, good.window, w.figure); v > w.least || good.window.Counts.Pulse.Hasty != 0 {
				t.Errorf("without the switch %s is %v: %+v; %v", w.figure, v, good.window.Counts.Pulse, good.reasons)
			}
			bad := playWith(t, source, cfg, board.Switches{Seed: 2, Beats: w.switches})
			if v := figure(t, bad.window, w.figure); v <= w.least {
				t.Errorf("with the switch %s is %v: %+v; %v", w.figure, v, bad.window.Counts.Pulse, bad.reasons)
			}
		})
	}
	// a server that answers its clients' heartbeats: the round trip is twice the way
	p := playWith(t, fmt.Sprintf(heartbeats, 3, "client", ""), standin.Config{}, board.Switches{})
	if c, h := p.window.Counts.Pulse, p.window.Times[logbook.RoundTrip]; c.Asked < 1000 || c.Answered < c.Asked-60 ||
		c.Unheard+c.Hasty != 0 || h.Min() < 5900*time.Microsecond || h.Max() > 6100*time.Microsecond {
		t.Errorf("%+v; %v to %v", c, h.Min(), h.Max())
	}
}
