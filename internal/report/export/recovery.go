package export

import (
	"strings"
	"time"

	"tidepull/internal/measure/logbook"
	"tidepull/internal/report/chart"
)

// recovery is who was away, and the tries to come back, by second.
func (r *Request) recovery(entries []*logbook.Entry) (sheet, drawing) {
	s := sheet{Title: "Breaks and returns by second", Unit: "clients, tries; bytes; processor time in ms",
		Header: []string{"second", "broke", "away", "tries", "accepted", "refused", "no_answer", "failed", "back",
			"gave_up", "fault", "server_memory_bytes", "server_cpu_ms", "server_files",
			"server_connections", "server_members", "server_presence"}}
	c := &chart.Chart{Title: "Clients away, and their tries to come back", Notes: r.notes(),
		X: chart.Axis{Label: "time since the start, minutes and seconds", Clock: true},
		Y: chart.Axis{Label: "clients; tries in a second", Name: chart.Count}}
	used := map[int]int{}
	for i, u := range r.Run.Server {
		used[u.At] = i
	}
	var t, away, tries, accepted []float64
	for _, e := range entries {
		n := &e.Counts.Returns
		var faults []string
		at := time.Duration(e.At) * time.Second
		for _, h := range r.Run.Happened {
			if h.From < at+time.Duration(e.Seconds())*time.Second && (h.To == 0 || h.To >= at) {
				faults = append(faults, h.Name)
			}
		}
		row := []any{e.At, n.Broke, e.Each(n.Away), n.Tries, n.Accepted, n.Refused, n.TimedOut, n.Failed, n.Back,
			n.GaveUp,
			strings.Join(faults, "; "), nil, nil, nil, nil, nil, nil}
		if i, known := used[e.At]; known {
			u := &r.Run.Server[i]
			if !u.Alone {
				row[11], row[12], row[13] = u.Memory, ms(u.CPU), u.Files
			}
			for n, v := range u.Gauges {
				if v != nil {
					row[14+n] = *v
				}
			}
		}
		s.Rows = append(s.Rows, row)
		t = append(t, float64(e.At))
		away, tries = append(away, float64(n.Away)), append(tries, float64(n.Tries))
		accepted = append(accepted, float64(n.Accepted))
	}
	c.LeftOut = r.leftOut(entries)
	c.Series = []chart.Series{{Name: "away", Style: chart.Filled, X: t, Y: away}, {Name: "tries", X: t, Y: tries},
		{Name: "tries that were accepted", Style: chart.Dashed, X: t, Y: accepted}}
	return s, c
}

// pulse is how long heartbeats were apart, how long their answers took, and how long evictions.
func (r *Request) pulse(w *logbook.Window) (sheet, drawing) {
	s := sheet{Title: "Heartbeats", Unit: "ms, share from 0 to 1", Header: []string{"of", "ms", "share"}}
	c := &chart.Chart{Title: "Heartbeats: share that took no longer", Notes: r.notes(),
		X: chart.Axis{Label: "time", Log: true, Name: chart.Millis},
		Y: chart.Axis{Label: "share of all", Name: chart.Percent}}
	h := &w.Times
	for _, part := range []chart.Series{
		cumulative("from one of the server's to the next", &h[logbook.BeatInterval], chart.Solid),
		cumulative("from a client's to the answer", &h[logbook.RoundTrip], chart.Dashed),
		cumulative("from the first that was owed to the eviction", &h[logbook.ToEvict], chart.Dotted),
		cumulative("from an eviction to the others being told", &h[logbook.ToTell], chart.DashDot)} {
		if len(part.X) == 0 {
			continue
		}
		c.Series = append(c.Series, part)
		for i := range part.X {
			s.Rows = append(s.Rows, []any{part.Name, part.X[i], part.Y[i]})
		}
	}
	return s, c
}
