package sim_test

import (
	"fmt"
	"testing"
	"time"

	"tidepull/internal/measure/logbook"
	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
	"tidepull/internal/trial/language"
)

const comingBack = `
trial "t" {
  seed  = %d
  grace = "2s"
}
target "board" { websocket = "ws://127.0.0.1:7411/live" }
session "watch" {
  connect {}
  enter { room = "basin" }
  enter { room = "lock-${n %% 3}" }
  pause { lasts = "1s" }
  repeat {
    every = "400ms"
    times = 6
    say { body = { kind = "notice", room = room, text = "berth ${n} ${mark}" } }
  }
  pause { lasts = "1m" }
}
crew "pilots" {
  clients = 24
  session = session.watch
  reconnect {
    first  = "100ms"
    most   = "1s"
    jitter = %q
    %s
  }
}
tide {
  flood "100%%" { over = "1s" }
  slack { lasts = "14s" }
  ebb { over = "1s" }
}`

// TestReturns: connections are cut in the middle of everything, and clients come back. Every
// break is counted once, every client is back, and the ledger is the truth: what was said
// while somebody was away is excused, and nothing is lost but what the board left out.
func TestReturns(t *testing.T) {
	t.Parallel()
	for seed := range seeds(8) {
		source := fmt.Sprintf(comingBack, seed, []string{"none", "full", "equal", "decorrelated"}[seed%4], "")
		tr, err := language.Parse([]byte(source), "t.trial.hcl", language.Options{})
		if err != nil {
			t.Fatal(err)
		}
		p := playShared(t, tr, standin.Config{History: -1}, board.Switches{Seed: uint64(seed),
			Ways: board.Ways{Cut: 0.05 * float64(1-seed/3%2),
				CutIdle: time.Duration(seed/3%2) * 1500 * time.Millisecond}, Lose: 0.02 * float64(seed%2)}, 0, 1+seed%3)
		c, l := &p.window.Counts, p.window.Total
		r := &c.Returns
		if p.window.Imbalance() != "" || l.Open() != 0 || l.Stray+l.Duplicate+l.Late != 0 || l.Delivered == 0 ||
			l.Lost > p.truth.Lost || l.Lost+l.Excused+p.truth.Due-l.Owed < p.truth.Lost ||
			l.Owed != l.Delivered+l.Lost+l.Excused {
			t.Errorf("seed %d: %s %+v\nin truth %+v; %v", seed, p.window.Imbalance(), l, p.truth, p.reasons)
		}
		cut := p.truth.CutOff + p.truth.Cut
		// A connection that is idle may be cut while its client closes it: that is no break.
		if n := cut - r.Broke - r.Failed; n < 0 || n > 0 && p.truth.Cut == 0 || n > 3 ||
			r.Back+r.NoTime != r.Broke || r.GaveUp+r.StillAway != 0 || r.Unprovoked != r.Broke ||
			r.Tries-r.Accepted > r.NoTime ||
			c.Broken+c.Denied+c.Refused+c.Missed != 0 || c.Finished != 24 || cut == 0 {
			t.Errorf("seed %d: %+v\n%+v; %d were cut; %v", seed, *r, *c, cut, p.reasons)
		}
		if b := &p.window.Times[logbook.ToReturn]; int64(b.Count()) != r.Back || b.Min() < 10*time.Millisecond ||
			b.Max() > 5*time.Second ||
			p.window.Times[logbook.ToReconnect].Max() > b.Max() {
			t.Errorf("seed %d: back after %v to %v", seed, b.Min(), b.Max())
		}
	}
}

// TestCatchUp: a server that promised that who comes back gets what it missed owes that: it
// is caught up on, or lost, to the last message.
func TestCatchUp(t *testing.T) {
	t.Parallel()
	for seed := range 6 {
		for _, history := range []int{200, -1} {
			tr, err := language.Parse([]byte(fmt.Sprintf(comingBack, seed, "none", "catch_up = true")), "t.trial.hcl",
				language.Options{})
			if err != nil {
				t.Fatal(err)
			}
			p := playShared(t, tr, standin.Config{History: history}, board.Switches{Seed: uint64(seed),
				Ways: board.Ways{Cut: 0.05}}, 0, 1+seed%3)
			l, r := p.window.Total, &p.window.Counts.Returns
			missed := l.Owed - l.Delivered - l.Late - l.Excused
			if p.window.Imbalance() != "" || l.Open() != 0 || r.Back != r.Broke || l.Stray+l.Duplicate != 0 ||
				missed == 0 ||
				history > 0 && (l.CaughtUp != missed || l.Lost != 0) || history < 0 &&
				(l.Lost+l.CaughtUp != missed || l.Lost == 0) {
				t.Errorf("seed %d, history %d: %s %+v\n%+v; %v", seed, history, p.window.Imbalance(), l, *r, p.reasons)
			}
		}
	}
}
