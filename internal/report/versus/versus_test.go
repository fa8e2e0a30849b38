package versus

import (
	"bytes"
	"strings"
	"testing"

	"tidepull/internal/run"
)

// TestRows: figures stand beside each other with their difference; of implied limits those alone that do not hold; one
// that was cut short has none.
func TestRows(t *testing.T) {
	a, b := &Side{Name: "3 before", Over: true}, &Side{Name: "7 after", Over: true}
	a.Sum.Verdict, b.Sum.Verdict = run.Holds, run.Broken
	a.Sum.Ledger.Owed, b.Sum.Ledger.Owed, b.Sum.Ledger.Lost = 12_000, 12_000, 12
	a.Sum.Fanout.P99, b.Sum.Fanout.P99 = 10_000, 13_100
	b.Sum.Checks = []run.CheckSummary{{Failed: 2}, {Failed: 3}}
	a.Sum.Limits = []run.LimitSummary{{Name: "soon", Figure: "fanout.p99", Unit: "us", Measured: 10_000,
		Verdict: run.Holds},
		{Name: "nothing is lost", Figure: "ledger.lost", Verdict: run.Holds, Implied: true},
		{Name: "no stray", Figure: "ledger.stray", Verdict: run.Holds, Implied: true}}
	b.Sum.Limits = []run.LimitSummary{{Name: "nothing is lost", Figure: "ledger.lost", Measured: 12,
		Verdict: run.Broken,
		Implied: true}, {Name: "own", Figure: "clients.denied", Verdict: run.Holds}}
	got := map[string]Row{}
	for _, r := range Rows(a, b) {
		got[r.Name] = r
	}
	for name, want := range map[string][3]string{
		"verdict": {"holds", "broken", ""}, "owed": {"12,000", "12,000", ""}, "lost": {"0", "12", "+12"},
		"fan-out p99": {"10.0 ms", "13.1 ms", "+31 %"}, "failed checks": {"0", "5", "+5"},
		"limit: soon":            {"10.0 ms, holds", "-", ""},
		"limit: nothing is lost": {"0, holds", "12, broken", "+12"}, "limit: own": {"-", "0, holds", ""},
	} {
		if r := got[name]; [3]string{r.A, r.B, r.Difference} != want {
			t.Errorf("%s: %v, not %v", name, r, want)
		}
	}
	if _, is := got["limit: no stray"]; is {
		t.Error("an implied limit that holds on both sides is listed")
	}
	var text bytes.Buffer
	Print(&text, a, &Side{Name: "cut"})
	if !strings.Contains(text.String(), "12,000                           -\n") {
		t.Error(text.String())
	}
	for _, format := range []string{"json", "csv", "svg", "pdf"} {
		text.Reset()
		if err := Write(&text, a, b, format); err != nil || text.Len() < 300 {
			t.Errorf("%s: %d bytes, %v", format, text.Len(), err)
		}
	}
}
