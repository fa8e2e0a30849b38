package sim_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
	"tidepull/internal/trial/language"
)

const impaired = `
trial "t" {
  seed   = %d
  grace  = "8s"
  prompt = "2s"
}
target "board" { %s }
session "watch" {
  connect {}
  enter { room = "lock-${n %% 3}" }
  pause { lasts = "1s" }
  repeat {
    every = "400ms"
    times = 24
    say { body = { kind = "notice", room = room, text = "berth ${n} ${mark}" } }
  }
  pause { lasts = "1m" }
}
crew "pilots" {
  clients = 24
  session = session.watch
  reconnect {
    first = "100ms"
    most  = "1s"
  }
}
tide {
  flood "100%%" { over = "1s" }
  slack { lasts = "28s" }
  ebb { over = "1s" }
}
%s`

// onPath are faults on the path of clients that lose nothing for good: %d is a second.
var onPath = []string{
	`do = "freeze"
  lasts = "900ms"`,
	`do = "freeze"
  direction = "up"
  lasts = "1500ms"`,
	`do = "delay"
  by = "120ms"
  jitter = "80ms"
  lasts = "3s"`,
	`do = "delay"
  by = "20ms"
  jitter = "40ms"
  spread = "exponential"
  direction = "down"
  lasts = "3s"`,
	`do = "bandwidth"
  bytes_per_second = 20000
  lasts = "2s"`,
	`do = "split"
  bytes = 7
  lasts = "3s"`,
	`do = "join"
  by = "250ms"
  direction = "down"
  lasts = "3s"`,
	`do = "refuse"
  lasts = "2s"`,
	`do = "stall"
  lasts = "2s"`,
	`do = "cut"`,
	`do = "cut"
  reset = true
  lasts = "1s"`,
	`do = "cut_idle"
  by = "150ms"
  lasts = "500ms"`,
	`do = "answer"
  lasts = "2s"`,
	`do = "strip"
  lasts = "2s"`,
}

// TestFaults: faults of every kind on the path of some clients, one over the other, in one
// share or several. Nothing is lost that is not the fault's own doing, everybody is back, and
// the books are those of a healthy server.
func TestFaults(t *testing.T) {
	t.Parallel()
	for seed := range seeds(10) {
		r := rand.New(rand.NewPCG(uint64(seed), 9))
		faults := ""
		for k := range 6 {
			what := onPath[r.IntN(len(onPath))]
			faults += fmt.Sprintf("fault \"f%d\" {\n  %s\n  at = \"%dms\"\n  share = \"%d%%\"\n}\n", k, what,
				2000+r.IntN(8000), 10+r.IntN(60))
		}
		source := fmt.Sprintf(impaired, seed, `websocket = "ws://127.0.0.1:7411/live"`, faults)
		tr, err := language.Parse([]byte(source), "t.trial.hcl", language.Options{})
		if err != nil {
			t.Fatal(err)
		}
		p := playShared(t, tr, standin.Config{History: -1}, board.Switches{}, 0, 1+seed%3)
		c, l := &p.window.Counts, p.window.Total
		if p.window.Imbalance() != "" || l.Open() != 0 || l.Stray+l.Duplicate+l.Lost != 0 || l.Delivered < 1000 ||
			l.Owed != l.Delivered+l.Late+l.Excused || l.Reordered+l.Disagreed+l.Altered != 0 {
			t.Errorf("seed %d: %s %+v\n%v\n%s", seed, p.window.Imbalance(), l, p.reasons, faults)
		}
		if ret := &c.Returns; ret.Back != ret.Broke || ret.GaveUp+ret.StillAway+ret.NoTime+ret.Unprovoked != 0 ||
			c.Finished != 24 ||
			c.Broken+c.Denied+c.Refused+c.Malformed != 0 || c.Path.Clients == 0 && strings.Count(faults, "cut\"") < 6 {
			t.Errorf("seed %d: %+v\n%+v\n%v\n%s", seed, *ret, c.Path, p.reasons, faults)
		}
	}
}

// TestDatagramFaults: what a fault loses of datagrams is nobody's fault, nor is what it has
// come twice.
func TestDatagramFaults(t *testing.T) {
	t.Parallel()
	for seed := range seeds(6) {
		faults := ""
		for _, f := range []string{"lose", "double", "reorder"} {
			faults += fmt.Sprintf("fault %q {\n do = %q\n chance = \"20%%\"\n at = \"3s\"\n lasts = \"6s\"\n "+
				"direction = %q\n}\n",
				f, f, []string{"both", "down", "up"}[seed%3])
		}
		source := fmt.Sprintf(impaired, seed, `udp = "udp://127.0.0.1:7411"`, faults)
		tr, err := language.Parse([]byte(source), "t.trial.hcl", language.Options{})
		if err != nil {
			t.Fatal(err)
		}
		p := playShared(t, tr, standin.Config{History: -1}, board.Switches{}, 0, 1+seed%3)
		l, path := p.window.Total, &p.window.Counts.Path
		if p.window.Imbalance() != "" || l.Open() != 0 || l.Lost+l.Stray+l.Late+l.Duplicate != 0 || path.Lost < 30 ||
			path.Doubled < 30 || path.Reordered < 30 || seed%3 < 2 && (l.Allowed == 0 || l.Excused == 0) {
			t.Errorf("seed %d: %s %+v\n%+v %v", seed, p.window.Imbalance(), l, *path, p.reasons)
		}
	}
}

// TestDelayIsExact: what a fault adds to a path is what deliveries take longer, and only
// while it lasts.
func TestDelayIsExact(t *testing.T) {
	t.Parallel()
	source := fmt.Sprintf(impaired, 1, `websocket = "ws://127.0.0.1:7411/live"`, `fault "far away" {
  do        = "delay"
  by        = "100ms"
  direction = "down"
  at        = "5s"
  lasts     = "3s"
}`)
	p := playWith(t, source, standin.Config{History: -1}, board.Switches{})
	for _, e := range p.entries {
		want := 6 * time.Millisecond
		if e.At >= 5 && e.At < 8 {
			want += 100 * time.Millisecond
		}
		for _, s := range e.Latency {
			w := &p.window.First
			w.Reset()
			if err := w.MergePacked(s.Latency); err != nil {
				t.Fatal(err)
			}
			// what is said just before the end is on its way when it ends
			if w.Max() > want+time.Millisecond || e.At != 7 && w.Min() < want-time.Millisecond {
				t.Errorf("second %d: deliveries took %v to %v, want %v", e.At, w.Min(), w.Max(), want)
			}
		}
	}
}

// TestCorrupted: what a fault changes on the way of some clients is nobody's fault: neither what
// they say from then on, nor what they hear or miss, nor that the server closes them; and of the
// others nothing is missed. The same without the fault's excuses would be full of altered and lost
// messages, and of broken connections: some must be there to be excused.
func TestCorrupted(t *testing.T) {
	t.Parallel()
	corrupted, excused, broke := int64(0), int64(0), int64(0)
	for seed := range seeds(5) {
		fault := fmt.Sprintf("fault \"noise\" {\n do = \"corrupt\"\n chance = \"10%%\"\n at = \"3s\"\n lasts = "+
			"\"6s\"\n "+
			"share = \"25%%\"\n direction = %q\n}\n", []string{"both", "down", "up"}[seed%3])
		over := []string{`websocket = "ws://127.0.0.1:7411/live"`, `lines = "tcp://127.0.0.1:7411"`,
			`events = "http://127.0.0.1:7411/events?client=${name}"`}[seed/3%3]
		source := strings.Replace(fmt.Sprintf(impaired, seed, over, fault),
			`say { body = { kind = "notice", room = room, text = "berth ${n} ${mark}" } }`,
			"say {\n payload = \"berth ${n} ${mark}\"\n body = { kind = \"notice\", room = room, text = "+
				"\"${payload}\" }\n}", 1)
		tr, err := language.Parse([]byte(source), "t.trial.hcl", language.Options{})
		if err != nil {
			t.Fatal(err, source)
		}
		p := playShared(t, tr, standin.Config{History: -1}, board.Switches{}, 0, 1+seed%3)
		c, l := &p.window.Counts, p.window.Total
		if p.window.Imbalance() != "" || l.Open() != 0 || l.Stray+l.Duplicate+l.Lost+l.Late != 0 ||
			l.Delivered < 1000 ||
			l.Reordered+l.Disagreed+l.Altered != 0 || c.Broken+c.Denied+c.Refused+c.Malformed != 0 ||
			p.window.ChecksFailed() != 0 {
			t.Errorf("seed %d: %s %+v\n%+v\n%v\n%s", seed, p.window.Imbalance(), l, *c, p.reasons, fault)
		}
		corrupted, excused, broke = corrupted+c.Path.Corrupted, excused+l.Excused+l.Allowed, broke+c.Returns.Broke
	}
	if corrupted == 0 || excused == 0 || broke == 0 {
		t.Errorf("%d pieces changed, %d deliveries excused, %d connections broke", corrupted, excused, broke)
	}
}

// TestTwoUnplugs: of two faults about the same clients the end of one does not undo the other.
func TestTwoUnplugs(t *testing.T) {
	tr := parsed(t, `
trial "two" { grace = "4s" }
target "board" { websocket = "ws://127.0.0.1:7411/live" }
session "watch" {
  connect {}
  enter { room = "lock-1" }
  repeat {
    every = "200ms"
    say { body = { kind = "notice", room = room, text = mark } }
  }
}
crew "pilots" {
  clients = 6
  session = session.watch
}
fault "long" {
  do    = "unplug"
  at    = "2500ms"
  lasts = "5s"
  share = "50%"
}
fault "short" {
  do    = "unplug"
  at    = "3500ms"
  lasts = "1s"
}
tide {
  flood "100%" { over = "500ms" }
  slack { lasts = "10s" }
  ebb { over = "500ms" }
}
`)
	p := playTrial(t, tr, standin.Config{}, board.Switches{})
	came := func(second int) int64 { return p.entries[second].Counts.Arrivals }
	// All of them are unplugged until 4.5 s, and half of them after that.
	if all, half := came(1), came(6); half == 0 || half > all*2/3 || came(10) < all*2/3 {
		t.Errorf("%d came in a second, %d while half were unplugged", all, half)
	}
	if l := p.window.Total; l.Lost+l.Stray+l.Duplicate != 0 || l.Excused == 0 {
		t.Errorf("%+v; %v", l, p.reasons)
	}
}

// TestKeptOut: who sets out while a fault of the trial refuses connections was not refused by the server,
// and comes in once that is over.
func TestKeptOut(t *testing.T) {
	const source = `
trial "kept out" {}
target "board" { websocket = "ws://127.0.0.1:7411/live" }
session "watch" {
  connect {}
  enter { room = "lock-1" }
  say { body = { kind = "notice", room = room, text = mark } }
  pause { lasts = "1m" }
}
crew "pilots" {
  clients = 6
  session = session.watch
}
fault "shut" {
  do    = %q
  at    = "0s"
  lasts = "3s"
}
tide {
  flood "100%%" { over = "1s" }
  slack { lasts = "10s" }
  ebb { over = "500ms" }
}
`
	p := playTrial(t, parsed(t, fmt.Sprintf(source, "refuse")), standin.Config{}, board.Switches{})
	c, l := &p.window.Counts, p.window.Total
	if c.Refused != 0 || c.Opened != 6 || l.Said != 6 || l.Lost != 0 || c.Finished != 6 {
		t.Errorf("%+v\n%+v; %v", *c, l, p.reasons)
	}
}

// TestPartners: of two that wait for each other's word one may have gone home: what had not come by then
// is missed by nobody.
func TestPartners(t *testing.T) {
	p := playTrial(t, parsed(t, `
trial "partners" {}
target "board" { websocket = "ws://127.0.0.1:7411/live" }
session "handover" {
  connect {}
  enter { room = "lock-1" }
  repeat {
    every = "100ms"
    say { body = { kind = "notice", room = room, text = mark } }
    expect "the others" {
      when   = msg.kind == "notice" && msg.from != name
      within = "1500ms"
    }
  }
}
crew "tugs" {
  clients   = 2
  session   = session.handover
}
tide {
  flood "100%" { over = "100ms" }
  slack { lasts = "4s" }
  ebb { over = "3s" }
}
`), standin.Config{}, board.Switches{})
	c := &p.window.Counts
	if c.Missed != 0 || p.window.ChecksFailed() != 0 || !strings.Contains(fmt.Sprint(p.reasons), "not judged") {
		t.Errorf("%d missed, %d failed; %v", c.Missed, p.window.ChecksFailed(), p.reasons)
	}
}
