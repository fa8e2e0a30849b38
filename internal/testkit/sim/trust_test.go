package sim_test

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"tidepull/internal/client"
	"tidepull/internal/engine"
	"tidepull/internal/engine/machine"
	"tidepull/internal/engine/poll"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
	"tidepull/internal/testkit/sim"
	"tidepull/internal/trial/language"
	"tidepull/internal/wire"
)

// harbour is a trial of 20 clients with some steps after entering.
func harbour(steps string) string {
	return `
trial "t" { prompt = "200ms" }
target "board" { websocket = "ws://127.0.0.1:7411/live" }
session "s" {
  connect {}
  enter { room = "lock-1" }
` + steps + `
}
crew "pilots" {
  clients = 20
  session = session.s
}
tide {
  flood "100%" { over = "1s" }
  slack { lasts = "6s" }
  ebb { over = "500ms" }
}`
}

const wireTime = 6 * time.Millisecond // to the stand-in and on to a member

// TestDueWhenTheScriptSaysIt: what a script waits for by itself is nobody's
// latency: a pause before a message, a turn that takes longer than its interval,
// jitter of more than half of it. It is counted apart.
func TestDueWhenTheScriptSaysIt(t *testing.T) {
	const say = `say { body = { kind = "notice", room = room, text = mark } }`
	for name, tc := range map[string]struct {
		steps  string
		pushed bool
	}{
		"a pause":    {"repeat {\n every = \"1s\"\n pause { lasts = \"500ms\" }\n " + say + "\n}", false},
		"an overrun": {"repeat {\n every = \"200ms\"\n pause { lasts = \"500ms\" }\n " + say + "\n}", true},
		"jitter":     {"repeat {\n every = \"300ms\"\n jitter = \"100%\"\n " + say + "\n}", false},
		"between bursts": {"repeat {\n every = \"500ms\"\n burst = 3\n pause { lasts = \"50ms\" }\n " + say + "\n}",
			false},
		"behind an ask": {"repeat {\n every = \"500ms\"\n ask \"who\" {\n send = { kind = \"members\", room = " +
			"room }\n when = msg.kind == \"members\"\n }\n " + say + "\n}", false},
	} {
		p := playWith(t, harbour(tc.steps), standin.Config{}, board.Switches{})
		f := p.window.Fanout()
		if f.Count() < 1000 || f.Min() != wireTime || f.Max() != wireTime || p.window.Total.Late > 0 ||
			p.window.Times[logbook.ScheduleLag].Max() > time.Millisecond {
			t.Errorf("%s: %d latencies from %v to %v, schedule lag up to %v", name, f.Count(), f.Min(), f.Max(),
				p.window.Times[logbook.ScheduleLag].Max())
		}
		if pushed := p.window.Times[logbook.PushedBack].Quantile(0.5) > 100*time.Millisecond; pushed != tc.pushed {
			t.Errorf("%s: %d turns were pushed back, by %v in the middle", name,
				p.window.Times[logbook.PushedBack].Count(),
				p.window.Times[logbook.PushedBack].Quantile(0.5))
		}
	}
}

// TestSlowReaders: what piles up while a client reads slowly is its own affair,
// and once it reads on it is a client like any other.
func TestSlowReaders(t *testing.T) {
	p := playWith(t, harbour(`
  when {
    that = n < 5
    read_slowly { bytes_per_second = 50 }
    pause { lasts = "2s" }
    read_slowly { bytes_per_second = 0 }
  }
  repeat {
    every = "300ms"
    say { body = { kind = "notice", room = room, text = mark } }
  }`), standin.Config{}, board.Switches{})
	w := p.window
	if w.Total.Lost > 0 || w.Total.Late > 0 || w.Counts.Piled == 0 || w.Fanout().Max() != wireTime ||
		w.Imbalance() != "" {
		t.Errorf("%+v, %d piled up, longest %v, %s", w.Total, w.Counts.Piled, w.Fanout().Max(), w.Imbalance())
	}
	lossy := playWith(t, harbour(`
  when {
    that = n < 5
    read_slowly { bytes_per_second = 500 }
    pause { lasts = "500ms" }
    read_slowly { bytes_per_second = 0 }
  }
  pause { lasts = "2s" }
  repeat {
    every = "300ms"
    say { body = { kind = "notice", room = room, text = mark } }
  }`), standin.Config{}, board.Switches{Seed: 3, Lose: 0.05})
	if l := lossy.window.Total; l.Lost == 0 || l.Excused > l.Lost/5 {
		t.Errorf("what is lost long after is %d lost, %d excused", l.Lost, l.Excused)
	}
}

// TestSlowForLong: of what a slow reader has not got in time, what the server left out is told from what
// waits to be read, by what is read after it.
func TestSlowForLong(t *testing.T) {
	const slow = `
  when {
    that = n < 5
    read_slowly { bytes_per_second = %d }
  }
  pause { lasts = "1s" }
  repeat {
    every = "300ms"
    times = 40
    say { body = { kind = "notice", room = room, text = mark } }
  }
  when {
    that = n < 5
    read_slowly { bytes_per_second = 0 }
  }
  stay {}`
	long := strings.NewReplacer(`lasts = "6s"`, `lasts = "60s"`, `{ prompt = "200ms" }`,
		"{\n prompt = \"200ms\"\n grace = \"2s\"\n}")
	for _, perSec := range []int{3000, 6000} {
		source := long.Replace(harbour(fmt.Sprintf(slow, perSec)))
		good := playWith(t, source, standin.Config{}, board.Switches{})
		if w := good.window; w.Total.Lost+w.Total.Late+w.Total.Excused > 0 || w.Counts.Piled < 3000 ||
			w.Imbalance() != "" {
			t.Errorf("%d bytes a second: %+v, %d piled up", perSec, w.Total, w.Counts.Piled)
		}
		for seed := range uint64(4) {
			bad := playWith(t, source, standin.Config{}, board.Switches{Seed: seed, Lose: 0.05})
			if l := bad.window.Total; l.Lost != bad.truth.Lost || l.Excused > 0 || bad.window.Imbalance() != "" {
				t.Errorf("%d bytes a second, seed %d: %d lost, in truth %d, %d excused", perSec, seed, l.Lost,
					bad.truth.Lost,
					l.Excused)
			}
		}
	}
}

// A poor driver has no more than so many local ports.
type poor struct {
	poll.Driver
	left int
}

func (p *poor) Dial(id int32, to wire.Endpoint) error {
	if p.left--; p.left < 0 {
		return &wire.Shortage{Lack: wire.NoPort, Err: errors.New("cannot assign requested address")}
	}
	return p.Driver.Dial(id, to)
}

// TestNoPort: clients for which this machine has no port are not refused, and
// the second says so.
func TestNoPort(t *testing.T) {
	tr, err := language.Parse([]byte(harbour("")), "t.trial.hcl", language.Options{})
	if err != nil {
		t.Fatal(err)
	}
	listening, dialling := sim.New(3 * time.Millisecond)
	server, err := standin.Listen(standin.Config{}, listening)
	if err != nil {
		t.Fatal(err)
	}
	go func() {
		sim.Begin(listening)
		server.Serve()
	}()
	to := netip.MustParseAddrPort("127.0.0.1:7411")
	loop := engine.New(engine.Config{Trial: tr, Drivers: []poll.Driver{&poor{dialling, 5}},
		Places: client.At(wire.Endpoint{Addr: to}, "sim", "/live"),
		Web:    wire.Endpoint{Addr: to}, WebHost: "sim", Run: 77,
		Use: func() (none machine.Use) { return }})
	failed := make(chan error, 1)
	go func() { failed <- loop.Run(context.Background()) }()
	var entries []*logbook.Entry
	reasons := map[string]int{}
	for r := range loop.Reports() {
		entries, reasons = append(entries, r.Closed...), r.Reasons
	}
	if err := errors.Join(<-failed, server.Stop()); err != nil {
		t.Fatal(err)
	}
	w, err := logbook.Sum(entries, nil)
	if err != nil {
		t.Fatal(err)
	}
	if w.Counts.Refused != 0 || w.Counts.Opened != 5 || w.Counts.Hindered != 15 || w.Why&logbook.NoPort == 0 ||
		!strings.Contains(w.Why.Words(), "no local port was free") ||
		reasons["not opened: no local port is free"] != 15 {
		t.Errorf("%+v, %s, %v", w.Counts, w.Why.Words(), reasons)
	}
}

// A cut is a driver on which each tenth message that is said meets a connection which
// is gone already.
type cut struct {
	poll.Driver
	said int
}

func (c *cut) Write(id int32, b []byte) bool {
	if len(b) > 100 && b[0] != 'G' { // longer than what enters and names, and no handshake
		if c.said++; c.said%10 == 0 {
			return false
		}
	}
	return c.Driver.Write(id, b)
}

// TestUnsent: what is said into a connection that is gone is not sent, and so not lost.
func TestUnsent(t *testing.T) {
	tr, err := language.Parse([]byte(harbour(`
  repeat {
    every = "300ms"
    times = 9
    say { body = { kind = "notice", room = room, text = "${filler(100)} ${mark}" } }
  }
`)), "t.trial.hcl", language.Options{})
	if err != nil {
		t.Fatal(err)
	}
	listening, dialling := sim.New(3 * time.Millisecond)
	p := playOn(t, tr, standin.Config{}, listening, []poll.Driver{&cut{Driver: dialling}})
	w := p.window
	if w.Counts.Unsent != 18 || w.Counts.Sent != 162 || w.Total.Said != 162 || w.Total.Lost != 0 ||
		w.Total.Stray != 0 || w.Imbalance() != "" || w.Total.Open() != 0 {
		t.Errorf("%s: %d sent, %d unsent, %+v", w.Imbalance(), w.Counts.Sent, w.Counts.Unsent, w.Total)
	}
}
