package sim_test

import (
	"testing"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/engine"
	"tidepull/internal/engine/poll"
	"tidepull/internal/engine/pressure"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/standin"
	"tidepull/internal/testkit/sim"
	"tidepull/internal/trial"
	"tidepull/internal/trial/language"
)

const loaded = `
trial "t" { grace = "2s" }
target "board" { websocket = "ws://127.0.0.1:7411/live" }
session "watch" {
  connect {}
  enter { room = "lock-${n}" }
  repeat {
    every = "100ms"
    say { body = { kind = "notice", room = room, text = mark } }
  }
}
crew "pilots" {
  clients = 20
  session = session.watch
}
tide {
  flood "50%" { over = "1ms" }
  slack { lasts = "3500ms" }
  spike "100%" { lasts = "1500ms" }
  ebb { over = "1ms" }
}
`

// A sleepy driver does not wake its loop for a while, whatever its loop has to do.
type sleepy struct {
	poll.Driver
	from, to mono.Time
}

func (d *sleepy) Wait(until mono.Time, h poll.Handler) error {
	if now := d.Now(); now >= d.from && now < d.to {
		until = max(until, d.to)
	}
	return d.Driver.Wait(until, h)
}

// TestLoad: how much of the planned load there was is known to the message: of a loop that
// sleeps for two seconds and a half, while more clients are to set out and all are to leave,
// every message that was due is said; those that came more than a second late are counted, and
// by how much clients set out late.
func TestLoad(t *testing.T) {
	tr := parsed(t, loaded)
	on := func(sleeps time.Duration) (*logbook.Window, *logbook.LoadCounts) {
		listening, dialling := sim.NewShared(3*time.Millisecond, 0, 1)
		from := dialling[0].Now().Add(3 * time.Second)
		dialling[0] = &sleepy{dialling[0], from, from.Add(sleeps)}
		w := playOn(t, tr, standin.Config{PingEvery: time.Hour}, listening, dialling).window
		return w, &w.Counts.Load
	}
	w, well := on(0)
	if said, due := well.Messages(); said != 1 || !due || well.Behind != 0 || well.Waited != 0 || well.AtOnce != 0 ||
		well.OnTime != w.Counts.Sent || well.Planned < 64*time.Second || well.Planned > 66*time.Second {
		t.Errorf("%+v", *well)
	}
	late, behind := on(2500 * time.Millisecond)
	due := well.OnTime - behind.OnTime - behind.Late
	if behind.Late != 100 || due < 0 || due > 150 || late.Counts.Sent != behind.OnTime+behind.Late {
		t.Errorf("ten clients say 100 messages in the second that is slept through: %+v, %d in all", *behind,
			late.Counts.Sent)
	}
	// Ten clients were to set out half a second into the sleep: each is two seconds late.
	if behind.Behind < 19900*time.Millisecond || behind.Behind > 20*time.Second || late.Counts.Started != 20 {
		t.Errorf("%+v, %d set out", *behind, late.Counts.Started)
	}
}

// TestCrowd: clients that are to set out at one moment do so as fast as the loop sends them,
// and that is said; so is what hangs.
func TestCrowd(t *testing.T) {
	tr := parsed(t, loaded)
	tr.Crews[0].Clients = 200
	listening, dialling := sim.NewShared(3*time.Millisecond, 0, 1)
	l := playOn(t, tr, standin.Config{}, listening, dialling).window.Counts.Load
	if l.AtOnce != 200 || l.Apart != 0 || l.Worst <= 0 || l.Worst > 10*time.Millisecond {
		t.Errorf("%+v", l)
	}
	listening, dialling = sim.NewShared(2*time.Second, 0, 1) // it takes two of them to connect
	l = playOn(t, tr, standin.Config{}, listening, dialling).window.Counts.Load
	if share, _ := l.Offered(); l.Waited < 400*time.Second || share > 0.5 {
		t.Errorf("%+v", l)
	}
}

// TestDoubt: what did not come is the server's doing unless the tool or its machine was behind by a
// quarter of the time that was waited, or starved for half of it.
func TestDoubt(t *testing.T) {
	tr := parsed(t, `
trial "t" { grace = "2s" }
target "board" {
  websocket = "ws://127.0.0.1:7411/live"
  promise {
    every    = "1s"
    deadline = "2s"
  }
}
session "watch" {
  connect {}
  expect "a boat" {
    when   = msg.kind == "boat"
    within = "2s"
  }
  pause { lasts = "1m" }
}
crew "pilots" {
  clients = 20
  session = session.watch
}
tide {
  flood "100%" { over = "1ms" }
  slack { lasts = "8s" }
}
`)
	for name, tc := range map[string]struct {
		pressure.Pressure
		doubt bool
	}{
		"calm":                    {pressure.Pressure{Known: true, Longest: 3 * time.Millisecond}, false},
		"kept for a little while": {pressure.Pressure{Known: true, Longest: 490 * time.Millisecond}, false},
		"kept for long":           {pressure.Pressure{Known: true, Longest: 510 * time.Millisecond}, true},
		"starved for a while":     {pressure.Pressure{Known: true, Starved: 900 * time.Millisecond}, false},
		"starved":                 {pressure.Pressure{Known: true, Starved: 1100 * time.Millisecond}, true},
		"nothing ran":             {pressure.Pressure{Known: true, Stood: 600 * time.Millisecond}, true},
	} {
		listening, dialling := sim.NewShared(3*time.Millisecond, 0, 1)
		cfg := standin.Config{PingEvery: time.Second, PongWithin: 2 * time.Second}
		cfg.Switches.Hasty = 1
		c := playOn(t, tr, cfg, listening, dialling, func(e *engine.Config) {
			e.Pressure = func(_, _ mono.Time) pressure.Pressure { return tc.Pressure }
		}).window.Counts
		want := logbook.DoubtCounts{}
		if tc.doubt {
			want = logbook.DoubtCounts{Missed: 20, Failed: 20, Broken: 20, Hasty: 20}
		}
		if c.Missed != 20 || c.Broken != 20 || c.Pulse.Hasty != 20 || c.Doubt != want {
			t.Errorf("%s: %+v of %d, %d and %d", name, c.Doubt, c.Missed, c.Broken, c.Pulse.Hasty)
		}
	}
}

func parsed(t *testing.T, source string) *trial.Trial {
	t.Helper()
	tr, err := language.Parse([]byte(source), "load.trial.hcl", language.Options{})
	if err != nil {
		t.Fatal(err)
	}
	return tr
}
