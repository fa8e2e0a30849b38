package run

import (
	"slices"
	"testing"
	"time"

	"tidepull/internal/logbook"
	"tidepull/internal/trial"
)

// second makes an entry with deliveries of one latency.
func second(at int, latency time.Duration, n int, overload logbook.Overload) *logbook.Entry {
	p := logbook.NewPage(at, 1)
	for range n {
		p.Delivery(0, n, latency)
	}
	p.Counts.Refused = 1
	e := p.Entry()
	e.Health.Overload = overload
	return e
}

// TestJudgeLimits: a limit on a latency is held against the seconds in which
// the tool was not the bottleneck; one that holds in spite of many such seconds
// is not proven; a broken one is broken.
func TestJudgeLimits(t *testing.T) {
	prompt := trial.Limit{Name: "prompt", Figure: "fanout.p99", Rule: trial.Below, Value: 10_000}
	few := trial.Limit{Name: "few refusals", Figure: "clients.refused", Rule: trial.AtMost, Value: 100}
	lag := trial.Limit{Name: "own lag", Figure: "self.overloaded", Rule: trial.AtMost, Value: 50}
	unmeasured := trial.Limit{Name: "entering", Figure: "enter.p50", Rule: trial.Below, Value: 1}
	run := func(clean, crowded int, cleanLatency, crowdedLatency time.Duration) []*logbook.Entry {
		var entries []*logbook.Entry
		for range clean {
			entries = append(entries, second(len(entries), cleanLatency, 100, 0))
		}
		for range crowded {
			entries = append(entries, second(len(entries), crowdedLatency, 100, logbook.SendsLate))
		}
		return entries
	}
	const quick, slow = time.Millisecond, 100 * time.Millisecond
	for name, tc := range map[string]struct {
		entries []*logbook.Entry
		want    [4]Verdict // prompt, few, lag, unmeasured
		overall Verdict
	}{
		"all well":                           {run(20, 0, quick, 0), [4]Verdict{Holds, Holds, Holds, NotProven}, NotProven},
		"slow":                               {run(20, 0, slow, 0), [4]Verdict{Broken, Holds, Holds, NotProven}, Broken},
		"slow in one crowded second of many": {run(99, 1, quick, slow), [4]Verdict{Holds, Holds, Holds, NotProven}, NotProven},
		"slow in many crowded seconds":       {run(20, 5, quick, slow), [4]Verdict{NotProven, NotProven, Holds, NotProven}, NotProven},
		"slow in clean seconds as well":      {run(20, 5, slow, quick), [4]Verdict{Broken, NotProven, Holds, NotProven}, Broken},
		"nothing but crowded seconds":        {run(0, 5, 0, slow), [4]Verdict{NotProven, NotProven, Holds, NotProven}, NotProven},
		"too many refusals, however crowded": {run(60, 60, quick, quick), [4]Verdict{NotProven, Broken, Broken, NotProven}, Broken},
	} {
		total, clean := &logbook.Window{}, &logbook.Window{}
		if err := add(tc.entries, total, clean); err != nil {
			t.Fatal(err)
		}
		got := Judge([]trial.Limit{prompt, few, lag, unmeasured}, total, clean)
		for i, j := range got {
			if j.Verdict != tc.want[i] || (j.Verdict == NotProven) != (j.Why != "") {
				t.Errorf("%s: %s is %q (%s), want %q", name, j.Limit.Name, j.Verdict, j.Why, tc.want[i])
			}
		}
		if v := Overall(got); v != tc.overall {
			t.Errorf("%s: overall %q, want %q", name, v, tc.overall)
		}
		// While it goes on, what has not been measured yet is no cause for alarm.
		for _, verdict := range []Verdict{Broken, NotProven} {
			underWay := &Snapshot{Judgements: got}
			if want := slices.Contains(tc.want[:3], verdict); underWay.Judged(verdict) != want {
				t.Errorf("%s: under way, something is %s: %v", name, verdict, !want)
			}
		}
		if over := (&Snapshot{Judgements: got, Finished: true}); !over.Judged(NotProven) {
			t.Errorf("%s: over, and nothing is not proven", name)
		}
	}
	if Overall(nil) != Holds {
		t.Error("a trial without limits does not hold")
	}
}

func TestRules(t *testing.T) {
	for rule, want := range map[trial.Rule][3]bool{ // of 4, 5, 6 against 5
		trial.Below: {true, false, false}, trial.Above: {false, false, true}, trial.AtMost: {true, true, false},
		trial.AtLeast: {false, true, true}, trial.Equals: {false, true, false},
	} {
		l := trial.Limit{Rule: rule, Value: 5}
		for i, v := range []float64{4, 5, 6} {
			if l.Holds(v) != want[i] {
				t.Errorf("%v %s 5 is %v", v, rule, !want[i])
			}
		}
	}
}
