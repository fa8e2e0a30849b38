package survey

import (
	"strings"
	"testing"

	"tidepull/internal/measure/ledger"
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

// TestSilentAlone: of two experiments about a weakness that say nothing of it, the one that was not left out says why;
// that announcements could not be seen is the concern of the weakness that shows in them.
func TestSilentAlone(t *testing.T) {
	w := &logbook.Window{Seconds: 20, Cells: map[ledger.Cell]ledger.Tally{{Kind: ledger.Gone}: {Owed: 40, Excused: 30}}}
	w.Total.Owed, w.Counts.Entries = 3000, 30
	about := []int{10, 39}
	left := Result{Experiment: Experiment{Name: "rates", Rows: about, LeftOut: true}, Why: "as was asked for"}
	seen := Result{Experiment: Experiment{Name: "leaving", Rows: about, Of: Entries}, Run: &run.Snapshot{Total: w}}
	ill := Result{Experiment: Experiment{Name: "steady", Rows: about}, Why: "the server was not well"}
	for _, tc := range []struct {
		results   []Result
		ten, gone string
	}{
		{[]Result{seen, left}, "fewer than 1 in 10 entries, with 95 % certainty",
			"the experiment is not proven: 30 of 40 announcements of who leaves are excused"},
		{[]Result{ill, left}, "the server was not well", "the server was not well"},
		{[]Result{left, ill}, "the server was not well", "the server was not well"},
		{[]Result{left}, "as was asked for", "as was asked for"},
	} {
		rows := Of(tc.results).Rows
		if rows[9].Says != tc.ten || !strings.HasPrefix(rows[38].Says, tc.gone) || rows[38].State != NotTried {
			t.Errorf("%s; %s, %s", rows[9].Says, rows[38].State, rows[38].Says)
		}
	}
}
