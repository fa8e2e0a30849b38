// Package compare puts runs of the same trial over different transports side by side.
package compare

import (
	"encoding/csv"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"tidepull/internal/base/units"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/meter"
	"tidepull/internal/report/chart"
	"tidepull/internal/run"
	"tidepull/internal/trial"
)

// A Column is what one route took.
type Column struct {
	Route   string // its name
	Over    string // the transport
	Run     *run.Snapshot
	Server  time.Duration // processor time of the server's process
	Watched bool          // Server is known
}

// Alone is a trial in which all clients take one of the target's routes, and no other.
func Alone(t *trial.Trial, route int) *trial.Trial {
	one := *t
	r := t.Target.Routes[route]
	one.Target.Routes, one.Target.Address = []trial.Route{r}, r.Address
	if route > 0 {
		one.Target.Nodes = nil
	}
	one.Crews = make([]trial.Crew, len(t.Crews))
	for i, c := range t.Crews {
		c.Routes, c.Promote, c.Without = nil, false, nil
		one.Crews[i] = c
	}
	one.Limits = slices.DeleteFunc(slices.Clone(t.Limits), func(l trial.Limit) bool { // there is nothing to change to
		return strings.HasPrefix(l.Figure, "routes.") && !strings.HasPrefix(l.Figure, "routes.usable") &&
			!strings.HasSuffix(l.Figure, "_per_delivery")
	})
	one.Name = t.Name + " over " + r.Name
	return &one
}

// A Row is one figure, of each column.
type Row struct {
	Name   string
	Texts  []string
	Values []float64 // in microseconds, bytes or as counted; -1: it was not measured
}

// Rows are the figures, side by side.
func Rows(columns []Column) []Row {
	var rows []Row
	row := func(name string, of func(c *Column) (float64, string)) {
		r := Row{Name: name}
		for i := range columns {
			v, text := of(&columns[i])
			r.Values, r.Texts = append(r.Values, v), append(r.Texts, text)
		}
		rows = append(rows, r)
	}
	latency := func(name string, q float64, of func(w *logbook.Window) *meter.Hist) {
		row(name, func(c *Column) (float64, string) {
			h := of(c.Run.Total)
			if h.Count() == 0 {
				return -1, "-"
			}
			return logbook.Micros(h.Quantile(q)), units.Duration(h.Quantile(q))
		})
	}
	count := func(name string, of func(w *logbook.Window) int64) {
		row(name, func(c *Column) (float64, string) {
			n := of(c.Run.Total)
			return float64(n), units.Count(n)
		})
	}
	perDelivery := func(name string, unit func(float64) string, of func(c *Column) (float64, bool)) {
		row(name, func(c *Column) (float64, string) {
			total, known := of(c)
			came := c.Run.Total.Total.Delivered + c.Run.Total.Total.Late
			if !known || came == 0 {
				return -1, "-"
			}
			return total / float64(came), unit(total / float64(came))
		})
	}
	plainly := func(v float64) string { return fmt.Sprintf("%.3g", v) }
	row("verdict", func(c *Column) (float64, string) {
		v, _ := c.Run.Outcome()
		return -1, string(v)
	})
	latency("first recipient, p50", 0.5, func(w *logbook.Window) *meter.Hist { return &w.First })
	latency("median recipient, p50", 0.5, func(w *logbook.Window) *meter.Hist { return &w.Median })
	latency("last recipient, p50", 0.5, func(w *logbook.Window) *meter.Hist { return &w.Last })
	latency("any recipient, p99", 0.99, (*logbook.Window).Fanout)
	latency("until usable, p99", 0.99, func(w *logbook.Window) *meter.Hist { return &w.Times[logbook.ToUsable] })
	count("deliveries owed", func(w *logbook.Window) int64 { return w.Total.Owed })
	count("lost", func(w *logbook.Window) int64 { return w.Total.Lost })
	count("HTTP requests", func(w *logbook.Window) int64 { return w.Counts.Routes.Asked })
	count("connections", func(w *logbook.Window) int64 { return w.Counts.Routes.Dials })
	bytes := func(name string, of func(w *logbook.Window) int64) {
		row(name, func(c *Column) (float64, string) {
			n := float64(of(c.Run.Total))
			return n, units.Bytes(n)
		})
	}
	bytes("bytes up, heads too", func(w *logbook.Window) int64 { return w.Counts.Routes.BytesUp })
	bytes("bytes down, heads too", func(w *logbook.Window) int64 { return w.Counts.Bytes })
	figure := func(name, of string, unit func(float64) string) {
		row(name, func(c *Column) (float64, string) {
			v, known := logbook.FigureNamed(of).Of(c.Run.Total)
			if !known {
				return -1, "-"
			}
			return v, unit(v)
		})
	}
	figure("requests a delivery", "routes.requests_per_delivery", plainly)
	figure("bytes a delivery", "routes.bytes_per_delivery", units.Bytes)
	perDelivery("tool's CPU a delivery", units.Micros, func(c *Column) (float64, bool) {
		return logbook.Micros(c.Run.Total.ProcessCPU), true
	})
	perDelivery("server's CPU a delivery", units.Micros, func(c *Column) (float64, bool) {
		return logbook.Micros(c.Server), c.Watched
	})
	return rows
}

// header names the columns.
func header(columns []Column) []string {
	names := []string{""}
	for _, c := range columns {
		name := c.Route
		if c.Route != c.Over {
			name += " (" + c.Over + ")"
		}
		names = append(names, name)
	}
	return names
}

// Print writes the comparison as text, with each figure's share of the greatest beside it
// as a bar.
func Print(w io.Writer, columns []Column) {
	const first, each, bar = 25, 24, 8
	line := fmt.Sprintf("%-*s", first, "")
	for _, name := range header(columns)[1:] {
		line += fmt.Sprintf("  %-*s", each, name)
	}
	fmt.Fprintln(w, strings.TrimRight(line, " "))
	for _, r := range Rows(columns) {
		most := 0.0
		for _, v := range r.Values {
			most = max(most, v)
		}
		line := fmt.Sprintf("%-*s", first, r.Name)
		for i, text := range r.Texts {
			full := 0
			if most > 0 && r.Values[i] > 0 {
				full = max(1, int(r.Values[i]/most*bar+0.5))
			}
			line += fmt.Sprintf("  %-*s", each, fmt.Sprintf("%-13s %s", text, strings.Repeat("▪", full)))
		}
		fmt.Fprintln(w, strings.TrimRight(line, " "))
	}
}

// Draw writes the comparison as a drawing.
func Draw(w io.Writer, name string, columns []Column, f chart.Format) error {
	t := chart.Table{Title: name + ": the same session over each transport", Header: header(columns)}
	for _, r := range Rows(columns) {
		t.Rows = append(t.Rows, append([]string{r.Name}, r.Texts...))
	}
	return t.Write(w, f)
}

// CSV writes the figures as they are: latencies and processor times in microseconds.
func CSV(w io.Writer, columns []Column) error {
	c := csv.NewWriter(w)
	if err := c.Write(header(columns)); err != nil {
		return err
	}
	for _, r := range Rows(columns) {
		row := []string{r.Name}
		for i, v := range r.Values {
			switch {
			case r.Name == "verdict":
				row = append(row, r.Texts[i])
			case v < 0:
				row = append(row, "")
			default:
				row = append(row, fmt.Sprintf("%.3f", v))
			}
		}
		if err := c.Write(row); err != nil {
			return err
		}
	}
	c.Flush()
	return c.Error()
}
