// Package versus sets two kept runs beside each other, figure by figure. Whether a difference is more than chance it
// does not say.
package versus

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"strings"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/report/chart"
	"tidepull/internal/run"
)

// A Side is one of the two.
type Side struct {
	Name string // to be shown
	Sum  run.Summary
	Over bool // it ended, and has a summary
}

// A Row is one figure of both.
type Row struct {
	Name       string   `json:"name"`
	A          string   `json:"a"`
	B          string   `json:"b"`
	Difference string   `json:"difference"` // "+12", "-31 %"; "" if they are the same, or cannot be compared
	ValueA     *float64 `json:"value_a"`    // as counted, or in microseconds; nil if it is no number, or not known
	ValueB     *float64 `json:"value_b"`
}

// Rows are the figures that both runs have, and the limits that either has.
func Rows(a, b *Side) (rows []Row) {
	word := func(name string, of func(*run.Summary) string) {
		r := Row{Name: name, A: "-", B: "-"}
		if a.Over {
			r.A = of(&a.Sum)
		}
		if b.Over {
			r.B = of(&b.Sum)
		}
		rows = append(rows, r)
	}
	number := func(name string, of func(*run.Summary) float64, written func(float64) string, share bool) {
		r := Row{Name: name, A: "-", B: "-"}
		if a.Over {
			v := of(&a.Sum)
			r.ValueA, r.A = &v, written(v)
		}
		if b.Over {
			v := of(&b.Sum)
			r.ValueB, r.B = &v, written(v)
		}
		r.differ(share)
		rows = append(rows, r)
	}
	count := func(name string, of func(*run.Summary) int64) {
		number(name, func(s *run.Summary) float64 { return float64(of(s)) },
			func(v float64) string { return units.Count(int64(v)) }, false)
	}
	took := func(name string, of func(*run.Summary) float64) { number(name, of, units.Micros, true) }

	word("verdict", func(s *run.Summary) string { return string(s.Verdict) })
	number("seconds", func(s *run.Summary) float64 { return s.Seconds },
		func(v float64) string { return fmt.Sprintf("%.1f", v) }, false)
	count("clients", func(s *run.Summary) int64 { return int64(s.Clients) })
	count("messages", func(s *run.Summary) int64 { return s.Messages.Sent })
	count("owed", func(s *run.Summary) int64 { return s.Ledger.Owed })
	count("delivered", func(s *run.Summary) int64 { return s.Ledger.Delivered })
	count("late", func(s *run.Summary) int64 { return s.Ledger.Late })
	count("lost", func(s *run.Summary) int64 { return s.Ledger.Lost })
	count("excused", func(s *run.Summary) int64 { return s.Ledger.Excused })
	count("duplicate", func(s *run.Summary) int64 { return s.Ledger.Duplicate })
	count("stray", func(s *run.Summary) int64 { return s.Ledger.Stray })
	count("reordered", func(s *run.Summary) int64 { return s.Ledger.Reordered + s.Ledger.Disagreed })
	count("altered", func(s *run.Summary) int64 { return s.Ledger.Altered })
	count("failed checks", failedChecks)
	count("missed expectations", func(s *run.Summary) int64 { return s.Expected.Missed })
	count("broken connections", func(s *run.Summary) int64 { return s.Connections.Broken })
	count("refused", func(s *run.Summary) int64 { return s.Connections.Refused })
	count("denied", func(s *run.Summary) int64 { return s.Connections.Denied })
	took("fan-out p50", func(s *run.Summary) float64 { return s.Fanout.P50 })
	took("fan-out p99", func(s *run.Summary) float64 { return s.Fanout.P99 })
	took("last recipient p50", func(s *run.Summary) float64 { return s.Spread.Last.P50 })
	took("last recipient p99", func(s *run.Summary) float64 { return s.Spread.Last.P99 })
	took("schedule lag p99", func(s *run.Summary) float64 { return s.Self.ScheduleLagP99 })
	return append(rows, limits(a, b)...)
}

func failedChecks(s *run.Summary) (n int64) {
	for _, c := range s.Checks {
		n += c.Failed
	}
	return n
}

// limits are those that are the trials' own, and of the others those that do not hold on either side.
func limits(a, b *Side) (rows []Row) {
	named := func(s *Side, name, figure string) *run.LimitSummary {
		for i := range s.Sum.Limits {
			if l := &s.Sum.Limits[i]; l.Name == name && l.Figure == figure {
				return l
			}
		}
		return nil
	}
	seen := map[string]bool{}
	for _, s := range []*Side{a, b} {
		for i := range s.Sum.Limits {
			l := &s.Sum.Limits[i]
			key := l.Name + "\x00" + l.Figure
			left, right := named(a, l.Name, l.Figure), named(b, l.Name, l.Figure)
			plainly := l.Implied && (left == nil || left.Verdict == run.Holds) && (right == nil ||
				right.Verdict == run.Holds)
			if seen[key] || plainly {
				continue
			}
			seen[key] = true
			r := Row{Name: "limit: " + plain.Text(l.Name, 80)}
			r.A, r.ValueA = measured(left)
			r.B, r.ValueB = measured(right)
			r.differ(l.Unit == "us")
			rows = append(rows, r)
		}
	}
	return rows
}

func measured(l *run.LimitSummary) (text string, value *float64) {
	if l == nil {
		return "-", nil
	}
	return units.Figure(l.Unit == "us", l.Measured) + ", " + string(l.Verdict), &l.Measured
}

// differ says how far the second is from the first: in percent, or as a count.
func (r *Row) differ(share bool) {
	if r.ValueA == nil || r.ValueB == nil || *r.ValueA == *r.ValueB {
		return
	}
	by := *r.ValueB - *r.ValueA
	if share {
		if *r.ValueA > 0 {
			r.Difference = fmt.Sprintf("%+.0f %%", 100*by / *r.ValueA)
		}
		return
	}
	sign := "+"
	if by < 0 {
		sign = "-"
	}
	r.Difference = sign + units.Count(int64(math.Round(math.Abs(by))))
}

// Print writes them as text.
func Print(w io.Writer, a, b *Side) {
	const first, each = 26, 26
	line := func(cells ...string) {
		text := fmt.Sprintf("%-*s", first, cells[0])
		for _, c := range cells[1:] {
			text += fmt.Sprintf("  %*s", each, c)
		}
		fmt.Fprintln(w, strings.TrimRight(text, " "))
	}
	line("", a.Name, b.Name, "difference")
	for _, r := range Rows(a, b) {
		if len(r.Name) > first { // it has a line of its own
			fmt.Fprintln(w, r.Name)
			r.Name = ""
		}
		line(r.Name, r.A, r.B, r.Difference)
	}
}

// Write writes them as a drawing (svg, pdf), as a table (csv) or as JSON.
func Write(w io.Writer, a, b *Side, format string) error {
	rows := Rows(a, b)
	switch format {
	case "json":
		e := json.NewEncoder(w)
		e.SetIndent("", "  ")
		return e.Encode(map[string]any{"a": a.Name, "b": b.Name, "rows": rows})
	case "csv":
		c := csv.NewWriter(w)
		_ = c.Write([]string{"figure", a.Name, b.Name, "difference"})
		for _, r := range rows {
			_ = c.Write([]string{r.Name, r.A, r.B, r.Difference})
		}
		c.Flush()
		return c.Error()
	}
	t := chart.Table{Title: "Two runs: " + a.Name + " and " + b.Name, Header: []string{"", a.Name, b.Name,
		"difference"}}
	for _, r := range rows {
		t.Rows = append(t.Rows, []string{r.Name, r.A, r.B, r.Difference})
	}
	return t.Write(w, chart.Format(format))
}
