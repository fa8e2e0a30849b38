package sim_test

import (
	"strings"
	"testing"
	"time"

	"tidepull/internal/measure/logbook"
	"tidepull/internal/run"
	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
	"tidepull/internal/trial"
	"tidepull/internal/trial/language"
)

// busyRooms has each client get many messages within a few milliseconds.
const busyRooms = `
trial "t" {
  prompt = "8ms"
  grace  = "2s"
}
target "board" { websocket = "ws://127.0.0.1:7411/live" }
session "watch" {
  connect {}
  enter { room = "lock-${n % 2}" }
  repeat {
    every = "25ms"
    say { body = { kind = "notice", room = room, text = "berth ${n} ${mark}" } }
  }
}
crew "pilots" {
  clients = 40
  session = session.watch
}
tide {
  flood "100%" { over = "200ms" }
  slack { lasts = "3s" }
}
limit "soon" {
  of    = fanout.p99
  below = "9ms"
}
limit "sooner" {
  of    = spread.last.p50
  below = "5ms"
}
`

// TestBehind: a tool that reads late, and so gets several messages with one stamp,
// says of each latency between what it lies, and the truth, 6 ms, is in there. A
// limit in between is not proven.
func TestBehind(t *testing.T) {
	tr, err := language.Parse([]byte(busyRooms), "behind.trial.hcl", language.Options{})
	if err != nil {
		t.Fatal(err)
	}
	exact := playBehind(t, tr, standin.Config{}, board.Switches{}, 0).window
	if f := exact.Fanout(); f != nil && (f.Min() != 6*time.Millisecond || f.Max() != 6*time.Millisecond) ||
		exact.Total.Late != 0 || exact.FanoutEarly().Min() != 6*time.Millisecond {
		t.Fatalf("%v to %v, %+v", exact.Fanout().Min(), exact.Fanout().Max(), exact.Total)
	}
	w := playBehind(t, tr, standin.Config{}, board.Switches{}, 20*time.Millisecond).window
	if w.Imbalance() != "" || w.Total.Lost != 0 || w.Counts.Coarse < w.Total.Owed/2 {
		t.Fatalf("%s %+v, %d share a stamp", w.Imbalance(), w.Total, w.Counts.Coarse)
	}
	const truth = 6 * time.Millisecond
	late, early := w.Fanout(), w.FanoutEarly()
	if late.Count() != early.Count() || late.Quantile(0.5) <= truth+time.Millisecond {
		t.Errorf("%d and %d, p50 %v", late.Count(), early.Count(), late.Quantile(0.5))
	}
	for name, h := range map[string][2]interface{ Quantile(float64) time.Duration }{
		"fan-out": {early, late}, "first": {w.FirstEarly(), &w.First}, "median": {w.MedianEarly(), &w.Median},
		"last": {w.LastEarly(), &w.Last}} {
		for _, q := range []float64{0.001, 0.1, 0.5, 0.9, 0.99, 1} {
			if from, to := h[0].Quantile(q), h[1].Quantile(q); from > truth+10*time.Microsecond || to < truth {
				t.Errorf("%s at %v: from %v to %v, and in truth %v", name, q, from, to, truth)
			}
		}
	}
	if w.Total.Late == 0 || w.Total.MaybeLate != w.Total.Late {
		t.Errorf("%d late, %d of them perhaps not; in truth none", w.Total.Late, w.Total.MaybeLate)
	}
	for _, j := range run.Judge(append(tr.Limits, trial.Limit{Name: "none late", Figure: "ledger.late",
		Rule: trial.AtMost}), run.EvidenceOf(w)) {
		if j.Verdict != run.NotProven || !strings.Contains(j.Why, "read together: it lies between ") {
			t.Errorf("%s is %s, %s", j.Limit.Name, j.Verdict, j.Why)
		}
	}
	if f := logbook.FigureNamed("fanout.p99"); f.Early(exact) != 6000 {
		t.Errorf("exactly known, and early it is %v", f.Early(exact))
	}
}
