package survey

import (
	"strings"
	"testing"

	"tidepull/internal/measure/logbook"
	"tidepull/internal/run"
)

// TestSilent: if one experiment about a weakness did not see it and another one says nothing of it, both are told, but
// not of one that was left out; and what was compared stands beside it.
func TestSilent(t *testing.T) {
	w := &logbook.Window{Seconds: 20}
	w.Total.Owed = 3000
	busy := *w
	busy.Overloaded = 15
	steady := Result{Experiment: Experiment{Name: "steady", Rows: []int{10}, Of: Deliveries},
		Run: &run.Snapshot{Total: w}}
	ceiling := Result{Experiment: Experiment{Name: "ceiling", Rows: []int{10}, Of: Deliveries}}
	for name, tc := range map[string]struct {
		change func(r *Result)
		want   string
	}{
		"busy": {func(r *Result) { r.Run = &run.Snapshot{Total: &busy} }, "with 95 % certainty; the experiment " +
			"'ceiling' says nothing of it: this machine, or the tool, was the bottleneck in 15 of 20 seconds"},
		"not composed": {func(r *Result) { r.Why = "it takes rooms of its own" }, "; the experiment 'ceiling' says " +
			"nothing of it: it takes rooms of its own"},
		"left out": {func(r *Result) { r.Why, r.Experiment.LeftOut = "as was asked for", true }, "95 % certainty"},
		"compared": {func(r *Result) {
			r.Run, r.Compared = steady.Run, map[int][]string{10: {"0.1 ms each"}}
		}, "95 % certainty; 0.1 ms each"},
	} {
		other := ceiling
		tc.change(&other)
		rep := Of([]Result{steady, other})
		if row := rep.Rows[9]; row.State != NotFound || !strings.HasSuffix(row.Says, tc.want) {
			t.Errorf("%s: %s, %s", name, row.State, row.Says)
		}
	}
}
