package export

import (
	"tidepull/internal/base/plain"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/report/chart"
)

// feeds is what feeds told by second, from the least to the most.
func (r *Request) feeds(entries []*logbook.Entry) (sheet, drawing) {
	s := sheet{Title: "What feeds told by second", Header: []string{"second", "feed", "readings", "least", "most"}}
	c := &chart.Chart{Title: "What feeds told", Notes: r.notes(),
		X: chart.Axis{Label: "time since the start, minutes and seconds", Clock: true}, Y: chart.Axis{Label: "value"}}
	styles := []chart.Style{chart.Points, chart.Dashed, chart.Dotted}
	for feed := range r.Run.Trial.Feeds {
		name := plain.Text(r.Run.Trial.Feeds[feed].Name, 60)
		line := chart.Series{Name: name, Style: styles[min(feed, len(styles)-1)]}
		for _, e := range entries {
			t := logbook.SumTold([]*logbook.Entry{e}, feed)
			if t.N == 0 {
				continue
			}
			s.Rows = append(s.Rows, []any{e.At, name, t.N, t.Least, t.Most})
			line.X, line.Y = append(line.X, float64(e.At)), append(line.Y, t.Most)
			if t.Least < t.Most {
				line.X, line.Y = append(line.X, float64(e.At)), append(line.Y, t.Least)
			}
		}
		if len(line.X) > 0 {
			c.Series = append(c.Series, line)
		}
	}
	return s, c
}
