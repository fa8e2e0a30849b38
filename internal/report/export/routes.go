package export

import (
	"fmt"
	"math"

	"tidepull/internal/measure/logbook"
	"tidepull/internal/report/chart"
)

// routes is the share of the clients on each transport, and what their connections took,
// by second.
func (r *Request) routes(entries []*logbook.Entry) (sheet, drawing) {
	s := sheet{Title: "Transports by second", Unit: "clients; share in percent", Header: []string{"second"}}
	c := &chart.Chart{Title: "On which transport the clients were", Notes: r.notes(),
		X: chart.Axis{Label: "time since the start, minutes and seconds", Clock: true},
		Y: chart.Axis{Label: "share of the connected clients", Name: func(v float64) string {
			return fmt.Sprintf("%g %%", v)
		}}}
	var used []int
	for i, name := range logbook.Transports {
		if r.Run.Total.Counts.Routes.On[i] > 0 {
			used = append(used, i)
			s.Header = append(s.Header, name, name+"_percent")
		}
	}
	s.Header = append(s.Header, "steps_down", "steps_up", "steps_up_failed", "none_left", "connections",
		"http_requests", "bytes_up", "bytes_down")
	lines := make([][]float64, len(used))
	var t []float64
	for _, e := range entries {
		on := &e.Counts.Routes
		row := []any{e.At}
		t = append(t, float64(e.At))
		for k, i := range used {
			share, shown := math.NaN(), any(nil) // of nobody there is no share
			if e.Gauges.Open > 0 {
				share = 100 * on.ShareOn(i)
				shown = share
			}
			row = append(row, e.Each(on.On[i]), shown)
			lines[k] = append(lines[k], share)
		}
		s.Rows = append(s.Rows, append(row, on.Down, on.Up, on.UpFailed, on.NoneLeft, on.Dials, on.Asked, on.BytesUp,
			e.Counts.Bytes))
	}
	c.LeftOut = r.leftOut(entries)
	for k, i := range used {
		c.Series = append(c.Series, chart.Series{Name: logbook.Transports[i], X: t, Y: lines[k]})
	}
	return s, c
}
