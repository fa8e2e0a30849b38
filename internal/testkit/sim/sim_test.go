package sim_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"testing"
	"time"

	"tidepull/internal/client"
	"tidepull/internal/engine"
	"tidepull/internal/engine/account"
	"tidepull/internal/engine/impair"
	"tidepull/internal/engine/machine"
	"tidepull/internal/engine/poll"
	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
	"tidepull/internal/testkit/sim"
	"tidepull/internal/trial"
	"tidepull/internal/trial/language"
	"tidepull/internal/wire"
	"tidepull/trials"
)

// played is a run in virtual time.
type played struct {
	window  *logbook.Window
	record  string // all of it
	truth   board.Totals
	reasons []string
	last    account.Report
	lanes   []lane.Record
	trial   *trial.Trial
	events  []logbook.Event
	bodies  []lane.Body
	entries []*logbook.Entry
	differ  []account.Difference
}

// play runs a trial against the stand-in in virtual time.
func play(t *testing.T, source string, switches board.Switches) (*logbook.Window, string, board.Totals) {
	t.Helper()
	p := playWith(t, source, standin.Config{}, switches)
	return p.window, p.record, p.truth
}

func playWith(t *testing.T, source string, cfg standin.Config, switches board.Switches) played {
	t.Helper()
	tr, err := language.Parse([]byte(source), "sim.trial.hcl", language.Options{})
	if err != nil {
		t.Fatal(err)
	}
	return playTrial(t, tr, cfg, switches)
}

func playTrial(t *testing.T, tr *trial.Trial, cfg standin.Config, switches board.Switches) played {
	t.Helper()
	return playBehind(t, tr, cfg, switches, 0)
}

// playBehind is playTrial with a tool that reads at the multiples of a time alone.
func playBehind(t *testing.T, tr *trial.Trial, cfg standin.Config, switches board.Switches, join time.Duration) played {
	t.Helper()
	return playShared(t, tr, cfg, switches, join, 1)
}

// playShared is playBehind with the clients in several shares.
func playShared(t *testing.T, tr *trial.Trial, cfg standin.Config, switches board.Switches, join time.Duration,
	shares int) played {
	t.Helper()
	listening, dialling := sim.NewShared(3*time.Millisecond, join, shares)
	cfg.Switches = switches
	return playOn(t, tr, cfg, listening, dialling)
}

// playOn plays a trial on given drivers, with what else is to be so in the engine.
func playOn(t *testing.T, tr *trial.Trial, cfg standin.Config, listening poll.Driver, dialling []poll.Driver,
	also ...func(*engine.Config)) played {
	t.Helper()
	server, err := standin.Listen(cfg, listening)
	if err != nil {
		t.Fatal(err)
	}
	go server.Serve()
	to := netip.MustParseAddrPort("127.0.0.1:7411")
	places := client.At(wire.Endpoint{Addr: to}, "sim", "/live")
	for range tr.Target.Routes[1:] {
		places = append(places, places[0])
	}
	if nodes := tr.Target.Nodes; len(nodes) > 0 { // of one board, which tells them apart by their addresses
		places[0] = nil
		for _, address := range nodes {
			at, err := wire.ParseAddress(address)
			if err != nil {
				t.Fatal(err)
			}
			places[0] = append(places[0], client.Place{To: wire.Endpoint{Addr: to}, Host: "sim", Path: at.Path})
		}
	}
	var paths []*impair.Driver
	if tr.HasPath() {
		for i := range dialling {
			paths = append(paths, impair.New(dialling[i].(poll.Wire), tr.Seed+uint64(i)))
			dialling[i] = paths[i]
		}
	}
	how := engine.Config{Trial: tr, Drivers: dialling, Paths: paths, Places: places,
		Web: wire.Endpoint{Addr: to}, WebHost: "sim", Run: 77,
		Encoded: len(dialling) > 1 && tr.Seed%4 == 0, // a quarter of the time of these tests, if all are
		Verify:  true,
		Use:     func() (none machine.Use) { return }}
	for _, f := range also {
		f(&how)
	}
	loop := engine.New(how)
	failed := make(chan error, 1)
	go func() { failed <- loop.Run(context.Background()) }()
	p := played{trial: tr}
	var entries []*logbook.Entry
	for r := range loop.Reports() {
		entries = append(entries, r.Closed...)
		p.lanes, p.bodies = append(p.lanes, r.Lanes...), append(p.bodies, r.Bodies...)
		p.differ = append(p.differ, r.Differences...)
		p.last = r
		p.events = append(p.events, r.Events...)
	}
	if err := <-failed; err != nil {
		t.Fatal(err)
	}
	if err := server.Stop(); err != nil {
		t.Fatal(err)
	}
	if p.window, err = logbook.Sum(entries, nil); err != nil {
		t.Fatal(err)
	}
	p.entries = entries
	for _, e := range entries {
		e.Health = logbook.Health{} // it is of real time
	}
	record, err := json.Marshal([]any{entries, p.last.Kept, p.last.Reasons})
	if err != nil {
		t.Fatal(err)
	}
	p.record, p.truth = string(record), server.Summary().Totals
	for why, n := range p.last.Reasons {
		p.reasons = append(p.reasons, fmt.Sprintf("%s (%d)", why, n))
	}
	return p
}

// TestSameSeedSameRun plays the demo twice in virtual time: the two runs are
// the same to the last byte, and other seeds give other runs.
func TestSameSeedSameRun(t *testing.T) {
	source := strings.Replace(string(trials.Demo), `slack { lasts = "60s" }`, `slack { lasts = "5s" }`, 1)
	switches := board.Switches{Lose: 0.001, Double: 0.001, Misdirect: 0.001}
	w, first, truth := play(t, source, switches)
	_, second, _ := play(t, source, switches)
	if first != second {
		t.Error("two runs with the same seed differ")
	}
	if _, other, _ := play(t, strings.Replace(source, "seed = 7", "seed = 8", 1), switches); other == first {
		t.Error("a run with another seed is the same")
	}
	l := w.Total
	if l.Lost == 0 || l.Lost > truth.Lost || l.Duplicate != truth.Doubled || l.Stray == 0 ||
		l.Stray > truth.Misdirected {
		t.Errorf("ledger %+v\ntruth %+v", l, truth)
	}
	if w.Imbalance() != "" || l.Open() != 0 || w.Counts.Opened != 400 || w.Counts.Finished != 400 ||
		w.Counts.Broken != 0 {
		t.Errorf("%s: %+v\n%+v", w.Imbalance(), l, w.Counts)
	}
	// The wire takes 3 ms each way; nothing else takes time here.
	if f := w.Fanout(); f.Min() != 6*time.Millisecond || f.Max() != 6*time.Millisecond {
		t.Errorf("fan-out latency from %v to %v, want 6 ms", f.Min(), f.Max())
	}
}

// speakInSlack has everybody enter before anybody speaks, and stop speaking
// before anybody leaves.
const speakInSlack = `
trial "t" {}
target "board" { websocket = "ws://127.0.0.1:7411/live" }
session "watch" {
  connect {}
  enter { room = "lock-${n % 3}" }
  pause { lasts = "2s" }
  repeat {
    every = "300ms"
    times = 4
    say { body = { kind = "notice", room = room, text = "berth ${n} ${mark}" } }
    whisper {
      to   = "tugs-${(n + round) % 20}"
      body = { kind = "whisper", to = to, text = mark }
    }
  }
  pause { lasts = "1m" }
}
crew "pilots" {
  clients = 40
  session = session.watch
}
crew "tugs" {
  clients = 20
  session = session.watch
}
tide {
  flood "100%" { over = "1s" }
  slack { lasts = "12s" }
  ebb { over = "1s" }
}`

// TestSwitches throws each switch by itself: the ledger equals the stand-in's
// truth to the last delivery, and nothing else is reported.
func TestSwitches(t *testing.T) {
	for name, s := range map[string]board.Switches{
		"none":      {},
		"hold":      {Hold: 150 * time.Millisecond},
		"lose":      {Seed: 5, Lose: 0.03},
		"double":    {Seed: 6, Double: 0.04},
		"misdirect": {Seed: 7, Misdirect: 0.002},
		"all":       {Seed: 8, Hold: 50 * time.Millisecond, Lose: 0.02, Double: 0.02, Misdirect: 0.02},
	} {
		w, _, tr := play(t, speakInSlack, s)
		l := w.Total
		if l.Said != 480 || l.Owed != tr.Due || l.Delivered != tr.Written || l.Lost != tr.Lost ||
			l.Excused+l.Allowed+l.Overdue+l.Late != 0 {
			t.Errorf("%s: ledger %+v\ntruth %+v", name, l, tr)
		}
		// An outsider may be sent the same message instead of two members: the
		// second time it is a duplicate to him.
		if l.Duplicate+l.Stray != tr.Doubled+tr.Misdirected || l.Stray > tr.Misdirected || name != "all" &&
			l.Duplicate != tr.Doubled {
			t.Errorf("%s: ledger %+v\ntruth %+v", name, l, tr)
		}
		if (l.Lost > 0) != (s.Lose+s.Misdirect > 0) || (l.Duplicate > 0) != (s.Double > 0) ||
			(l.Stray > 0) != (s.Misdirect > 0) {
			t.Errorf("%s: ledger %+v", name, l)
		}
		if want := 6*time.Millisecond + s.Hold; w.Fanout().Min() != want {
			t.Errorf("%s: the quickest took %v, want %v", name, w.Fanout().Min(), want)
		}
	}
}

// TestNoFalseAlarm plays clean runs in which everybody comes and goes while
// others speak: nothing may be reported.
func TestNoFalseAlarm(t *testing.T) {
	runs := seeds(50)
	if underRace {
		runs = 15 // the same code, ten times as slow
	}
	source := strings.NewReplacer("240", "24", "136", "12", "= 24\n", "= 6\n", "% 8", "% 3", `"5s"`, `"700ms"`, `"60s"`,
		`"2s"`, `"20s"`, `"3s"`, `"10s"`, `"3s"`).Replace(string(trials.Demo))
	for seed := range runs {
		w, _, _ := play(t, strings.Replace(source, "seed = 7", "seed = "+strconv.Itoa(seed), 1), board.Switches{})
		l := w.Total
		if l.Owed == 0 || l.Lost != 0 || l.Late != 0 || l.Duplicate != 0 || l.Stray != 0 || l.Overdue != 0 ||
			l.Open() != 0 || w.Foreign != 0 || w.Imbalance() != "" {
			t.Errorf("seed %d: %+v", seed, l)
		}
	}
}
