package export

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"time"

	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/meter"
	"tidepull/internal/report/chart"
)

func ms(d time.Duration) float64 { return float64(d) / 1e6 }

// tide is the number of clients against the plan, and the latency band, by
// second.
func (r *Request) tide(entries []*logbook.Entry) (sheet, drawing) {
	s := sheet{Title: "Tide and fan-out latency by second", Unit: "ms where a name ends in _ms",
		Header: []string{"second", "planned", "open", "said", "arrived", "lost", "p50_ms", "p99_ms", "last_ms",
			"overloaded"}}
	c := &chart.Chart{Title: "The tide, and how soon its messages arrived", Notes: r.notes(),
		X: chart.Axis{Label: "time since the start, minutes and seconds", Clock: true},
		Y: chart.Axis{Label: "fan-out latency", Log: true, Name: chart.Millis}}
	var t, p50, p99, last, plan, open []float64
	for _, e := range entries {
		e, err := e.Whole()
		var all *meter.Hist
		var far meter.Hist
		if err == nil {
			all, err = e.Fanout()
		}
		if err == nil {
			err = far.MergePacked(e.Last)
		}
		if err != nil { // as it was when the window was summed
			continue
		}
		lost := int64(0)
		for i := range e.Cells {
			lost += e.Cells[i].Tally.Lost
		}
		t = append(t, float64(e.At))
		plan, open = append(plan, float64(e.Gauges.Planned)), append(open, float64(e.Gauges.Open))
		row := []any{e.At, e.Gauges.Planned, e.Gauges.Open, e.Counts.Sent, e.Counts.Arrivals, lost, nil, nil, nil,
			e.Health.Overload != 0}
		a, b, f := math.NaN(), math.NaN(), math.NaN()
		if all.Count() > 0 {
			a, b, f = ms(all.Quantile(0.5)), ms(all.Quantile(0.99)), ms(far.Max())
			row[6], row[7], row[8] = a, b, f
		}
		p50, p99, last = append(p50, a), append(p99, b), append(last, f)
		s.Rows = append(s.Rows, row)
	}
	c.Series = []chart.Series{
		{Name: "median to p99", Style: chart.Filled, X: t, Y: p99}, {Name: "median", X: t, Y: p50},
		{Name: "last recipient", Style: chart.Fine, X: t, Y: last},
	}
	c.LeftOut = r.leftOut(entries)
	c.Above = &chart.Chart{LeftOut: c.LeftOut, Y: chart.Axis{Label: "clients", Name: chart.Count, Few: true},
		Series: []chart.Series{{Name: "open", X: t, Y: open}, {Name: "planned", Style: chart.Dotted, X: t, Y: plan}}}
	return s, c
}

// fanout is the share of what was owed that had arrived, over time.
func (r *Request) fanout(w *logbook.Window) (sheet, drawing) {
	s := sheet{Title: "Share of the audience reached", Unit: "ms, share from 0 to 1",
		Header: []string{"latency_ms", "share"}}
	owed := float64(max(1, w.Total.Owed-w.Total.Open()-w.Total.Excused))
	c := &chart.Chart{Title: "Share of the audience reached, by time since the message was due", Notes: r.notes(),
		X: chart.Axis{Label: "time since the message was due", Log: true, Name: chart.Millis},
		Y: chart.Axis{Label: "share of what was owed", Name: chart.Percent}}
	var x, y []float64
	seen := 0.0
	w.Fanout().Each(func(upper time.Duration, n uint32) {
		seen += float64(n)
		x, y = append(x, ms(upper)), append(y, seen/owed)
		s.Rows = append(s.Rows, []any{ms(upper), seen / owed})
	})
	c.Series = []chart.Series{{Name: "all deliveries", X: x, Y: y}}
	for _, m := range []struct {
		name  string
		h     *meter.Hist
		style chart.Style
	}{{"first recipient", &w.First, chart.Dotted}, {"median recipient", &w.Median, chart.Dashed},
		{"last recipient", &w.Last, chart.DashDot}} {
		c.Series = append(c.Series, cumulative(m.name+" (by message)", m.h, m.style))
	}
	return s, c
}

func cumulative(name string, h *meter.Hist, style chart.Style) chart.Series {
	s := chart.Series{Name: name, Style: style}
	seen := 0.0
	h.Each(func(upper time.Duration, n uint32) {
		seen += float64(n)
		s.X, s.Y = append(s.X, ms(upper)), append(s.Y, seen/float64(h.Count()))
	})
	return s
}

// percentiles is the latency by percentile, with the tool's own lags beside it.
func (r *Request) percentiles(w *logbook.Window) (sheet, drawing) {
	s := sheet{Title: "Latency by percentile", Unit: "ms",
		Header: []string{"percentile", "fanout_ms", "first_ms", "median_ms", "last_ms", "reading_lag_ms",
			"schedule_lag_ms"}}
	c := &chart.Chart{Title: "Latency by percentile", Notes: r.notes(),
		Y: chart.Axis{Label: "latency", Log: true, Name: chart.Millis},
		X: chart.Axis{Label: "percentile; each nine takes the same room"}}
	hists := []*meter.Hist{w.Fanout(), &w.First, &w.Median, &w.Last, &w.Times[logbook.ReadingLag],
		&w.Times[logbook.ScheduleLag]}
	names := []string{"fan-out, all deliveries", "first recipient", "median recipient", "last recipient",
		"the tool's reading lag", "the tool's schedule lag"}
	styles := []chart.Style{chart.Solid, chart.Dotted, chart.Dashed, chart.Dashed, chart.DashDot, chart.Dotted}
	series := make([]chart.Series, len(hists))
	const steps = 40
	for i := 0; i <= steps; i++ {
		nines := float64(i) / 10
		q := 1 - math.Pow(10, -nines)
		row := []any{100 * q}
		for k, h := range hists {
			if h.Count() == 0 {
				row = append(row, nil)
				continue
			}
			v := ms(h.Quantile(q))
			row = append(row, v)
			series[k].X, series[k].Y = append(series[k].X, nines), append(series[k].Y, v)
		}
		s.Rows = append(s.Rows, row)
	}
	for k := range series {
		series[k].Name, series[k].Style = names[k], styles[k]
	}
	c.Series = []chart.Series{series[0], series[1], series[3], series[4]}
	for i, name := range []string{"0 %", "90 %", "99 %", "99.9 %", "99.99 %"} {
		c.X.Ticks = append(c.X.Ticks, chart.Tick{At: float64(i), Name: name})
	}
	return s, c
}

// rooms is latency against the size of the audience, with the fitted line.
func (r *Request) rooms(w *logbook.Window) (sheet, drawing) {
	s := sheet{Title: "Latency by size of the audience", Unit: "ms",
		Header: []string{"audience_from", "audience_to", "deliveries", "p50_ms", "p99_ms", "max_ms",
			"fitted_last_from_ms", "fitted_last_to_ms"}}
	c := &chart.Chart{Title: "Latency by size of the audience",
		X: chart.Axis{Label: "recipients of a message", Log: true, Name: chart.Count},
		Y: chart.Axis{Label: "latency", Log: true, Name: chart.Millis}}
	line, fitted := w.Fit.Line()
	var x, p50, p99, fx, fy []float64
	for _, size := range w.BySize() {
		h, from, to := size.Latency, float64(size.From), float64(size.To)
		x, p50, p99 = append(x, math.Sqrt(from*to)), append(p50, ms(h.Quantile(0.5))), append(p99, ms(h.Quantile(0.99)))
		row := []any{from, to, h.Count(), ms(h.Quantile(0.5)), ms(h.Quantile(0.99)), ms(h.Max()), nil, nil}
		if fitted {
			a, b := (line.Base+line.Slope*from)/1000, (line.Base+line.Slope*to)/1000
			row[6], row[7] = a, b
			fx, fy = append(fx, from, to), append(fy, a, b)
		}
		s.Rows = append(s.Rows, row)
	}
	note := "no line can be fitted: the audiences are too few, or too much alike"
	if fitted {
		note = fmt.Sprintf("the last recipient, fitted: %s and %s a recipient, 95 %% certain within %s either way",
			units.Micros(line.Base), units.Micros(line.Slope), units.Micros(line.Error))
	}
	c.Notes = append(r.notes(), note)
	c.Series = []chart.Series{{Name: "median", Style: chart.Points, X: x, Y: p50},
		{Name: "p99", Style: chart.Dashed, X: x, Y: p99}, {Name: "last recipient, fitted", X: fx, Y: fy}}
	return s, c
}

// columns are a tally's figures: said and owed, the fates that settle, what is
// open, and the other fates.
func columns(t *ledger.Tally, fates []ledger.Fate) []int64 {
	all, open := []int64{t.Said, t.Owed}, false
	for _, f := range fates {
		if !f.Settles() && !open {
			all, open = append(all, t.Open()), true
		}
		all = append(all, *t.Of(f))
	}
	return all
}

// columnNames are the headings of columns.
func columnNames(fates []ledger.Fate) []string {
	all, open := []string{"said", "owed"}, false
	for _, f := range fates {
		if !f.Settles() && !open {
			all, open = append(all, "open"), true
		}
		all = append(all, f.Title())
	}
	return all
}

// ledger is the balance sheet by room, crew and kind.
func (r *Request) ledger(w *logbook.Window) (sheet, drawing) {
	s := sheet{Title: "Balance sheet", Unit: "deliveries; said: messages",
		Header: append([]string{"room", "crew", "kind"}, columnNames(ledger.Fates)...)}
	// On paper there is no room for what is hardly ever counted.
	shown := slices.DeleteFunc(slices.Clone(ledger.Fates), func(f ledger.Fate) bool {
		return f == ledger.Overdue || f == ledger.CaughtUp && w.Total.CaughtUp == 0
	})
	t := &chart.Table{Title: "Who was owed what, and what became of it",
		Notes:  append(r.notes(), "owed = delivered + late + caught up + lost + excused + open"),
		Header: append([]string{"room"}, columnNames(shown)...)}
	cells := make([]ledger.Cell, 0, len(w.Cells))
	for c := range w.Cells {
		cells = append(cells, c)
	}
	slices.SortFunc(cells, func(a, b ledger.Cell) int {
		return cmp.Or(cmp.Compare(a.Room, b.Room), cmp.Compare(a.Crew, b.Crew), cmp.Compare(a.Kind, b.Kind))
	})
	for _, c := range cells {
		row := []any{r.Run.Rooms[c.Room], r.Run.Trial.Crews[c.Crew].Name, c.Kind.String()}
		y := w.Cells[c]
		for _, n := range columns(&y, ledger.Fates) {
			row = append(row, n)
		}
		s.Rows = append(s.Rows, row)
	}
	row := func(name string, y *ledger.Tally) []string {
		out := []string{name}
		for _, n := range columns(y, shown) {
			out = append(out, units.Count(n))
		}
		return out
	}
	for _, l := range w.ByRoom() {
		t.Rows = append(t.Rows, row(r.Run.Rooms[l.Key], &l.Tally))
	}
	t.Sum = row("sum", &w.Total)
	return s, t
}
