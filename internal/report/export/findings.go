package export

import (
	"fmt"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/report/chart"
)

// findings are what is wrong with the server, in words. They are of the whole run.
func (r *Request) findings() (sheet, drawing) {
	s := sheet{Title: "What is wrong with the server",
		Header: []string{"weakness", "title", "severity", "says", "n", "of", "low", "high", "usually", "experiment"}}
	t := &chart.Prose{Title: "What is wrong with the server", Notes: r.notes()}
	for i := range r.Run.Findings {
		f := &r.Run.Findings[i]
		row := []any{f.Weakness, f.Title, string(f.Severity), plain.Text(f.Says, 0), nil, nil, nil, nil, f.Usually,
			f.Experiment}
		t.Paras = append(t.Paras, chart.Para{Label: string(f.Severity), Text: f.Name(), Header: true},
			chart.Para{Text: f.Says})
		if f.Share != nil {
			row[4], row[5], row[6], row[7] = f.Share.N, f.Share.Of, f.Share.Low, f.Share.High
			t.Paras = append(t.Paras, chart.Para{Label: "how often", Text: f.Share.Words()})
		}
		for k, e := range f.Evidence {
			t.Paras = append(t.Paras, chart.Para{Label: firstOnly(k, "seen"), Text: e.Says})
		}
		for k, what := range f.RuledOut {
			t.Paras = append(t.Paras, chart.Para{Label: firstOnly(k, "ruled out"), Text: what})
		}
		t.Paras = append(t.Paras, chart.Para{Label: "usually", Text: f.Usually},
			chart.Para{Label: "to confirm", Text: f.Experiment})
		s.Rows = append(s.Rows, row)
	}
	if len(s.Rows) == 0 {
		t.Paras = []chart.Para{{Text: fmt.Sprintf("Nothing was found in %s that were owed.",
			units.Plural(int(r.Run.Total.Total.Owed), "message"))}}
	}
	return s, t
}

func firstOnly(k int, label string) string {
	if k > 0 {
		return ""
	}
	return label
}
