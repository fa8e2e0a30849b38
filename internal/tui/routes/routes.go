// Package routes is the view that answers: how do clients come to the server, what made
// them change that, and what does a message cost over each way?
package routes

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/tui/look"
	"tidepull/internal/tui/scene"
	"tidepull/internal/tui/tide"
)

// Help explains the view in words.
const Help = `Routes answers: how do clients come to the server, what made them change that, and
what does a delivery cost?

The bands stand below the tide and share its time: for each transport, the share of
the connected clients that was on it.

A client whose crew has several routes takes the next one if one is refused, does not
answer in time, or breaks before it has settled: a step down. A step up is a change to
a better route, made beside the one at hand, so that nothing is lost in between. Steps
are counted by their reasons, of the whole run.

  usable: from the first try of any route until messages can be sent
  at a switch: said, or come, while its recipient changed its route, or in the second after
  requests, bytes: HTTP requests (upgrades, polls and POSTs too), and bytes both ways with all heads, for each
  delivery that came`

// A step is one kind of change, and how often it was made.
type step struct {
	what  string
	times int
	ink   look.Ink
}

// kinds are what reasons of steps begin with, and how they are drawn: the worst first.
var kinds = []struct {
	prefix, name string
	ink          look.Ink
}{
	{"no route left: ", "none left", look.Lost},
	{"step down: ", "down", look.Beware},
	{"no step up: ", "up, failed", look.Faint},
	{"step up: ", "up", look.Good},
}

// steps takes the steps out of a run's reasons, by kind and then the most frequent first.
func steps(reasons map[string]int) (all []step) {
	for _, k := range kinds {
		var some []step
		for reason, n := range reasons {
			if what, is := strings.CutPrefix(reason, k.prefix); is {
				some = append(some, step{look.Fit(k.name, 13) + plain.Text(what, 200), n, k.ink})
			}
		}
		slices.SortFunc(some, func(a, b step) int { return cmp.Or(b.times-a.times, strings.Compare(a.what, b.what)) })
		all = append(all, some...)
	}
	return all
}

// View draws the view.
func View(sc scene.Scene, window scene.Span) []string {
	columns, each := look.Columns(sc.Width, 2)
	if each < 55 { // the names need so much
		columns, each = 1, sc.Width
	}
	figures := [][]string{usable(sc, each), cost(sc, each)}
	var below []string
	if columns == 1 {
		below = append(figures[1][:len(figures[1])-1], figures[0]...)
	} else {
		below = look.Beside(max(len(figures[0]), len(figures[1])), each, figures...)
	}
	stepLines := stepsOf(sc)
	room := max(4, sc.Height-len(below)-min(len(stepLines), max(3, sc.Height/3)))
	lines := bands(sc, window, room)
	lines = append(lines, below...)
	if left := sc.Height - len(lines); left >= 2 {
		if len(stepLines) > left {
			more := len(stepLines) - left + 1
			stepLines = append(stepLines[:left-1], sc.Palette.Draw(look.Faint, fmt.Sprintf("  and %d more reasons",
				more)))
		}
		lines = append(lines, stepLines...)
	}
	return lines
}

// bands draws the share of each transport over time.
func bands(sc scene.Scene, window scene.Span, rows int) []string {
	p := sc.Palette
	var used []int
	total := &sc.Run.Total.Counts.Routes
	for i := range logbook.NumTransports {
		if total.On[i] > 0 {
			used = append(used, i)
		}
	}
	lines := []string{p.Rule("share of the clients on each transport", p.Draw(look.Faint, sc.Label), sc.Width)}
	if len(used) == 0 {
		return append(lines, look.Right("", look.Gutter)+p.Draw(look.Faint, "nobody has been connected yet"))
	}
	each := min(5, max(1, (rows-1)/len(used)-1))
	scale := tide.NewScale(sc.Run, sc.Width)
	for _, i := range used {
		now := ""
		if n := len(sc.Run.Entries); n > 0 && !sc.Run.Finished {
			now = fmt.Sprintf(", now %s", units.Count(sc.Run.Entries[n-1].Counts.Routes.On[i]))
		}
		lines = append(lines, look.Right("", look.Gutter)+p.Draw(look.Strong, logbook.Transports[i])+
			p.Draw(look.Faint, fmt.Sprintf("  %.3g %% of the clients' time%s",
				100*sc.Window.Counts.Routes.ShareOn(i), now)))
		lines = append(lines, band(sc, scale, window, i, each)...)
	}
	return lines
}

// band draws the share of one transport over time.
func band(sc scene.Scene, scale tide.Scale, window scene.Span, transport, rows int) []string {
	d := look.NewDots(scale.Width, rows)
	for x := range 2 * scale.Width {
		i := int(scale.Second(x))
		e := sc.Run.Entries.Of(i)
		if e == nil {
			continue
		}
		share := e.Counts.Routes.ShareOn(transport)
		h := int(share*float64(4*rows) + 0.5)
		if share > 0 {
			h = max(h, 1)
		}
		for y := range h {
			if ink := look.Deep; y == h-1 {
				d.Dot(x, 4*rows-1-y, look.Water)
			} else if !window.Set() || i >= window.From && i < window.To || (x+y)%2 == 0 {
				d.Dot(x, 4*rows-1-y, ink)
			}
		}
	}
	if rows < 2 {
		lines := d.Lines(sc.Palette)
		lines[0] = look.Right("", look.Gutter) + lines[0]
		return lines
	}
	return d.Scaled(sc.Palette, "100 %", "", "0")
}

// usable is how long it took until clients could speak.
func usable(sc scene.Scene, width int) []string {
	p, w := sc.Palette, sc.Window
	lines := []string{p.Heading("until usable", width, 11, "p50", "p99", "longest")}
	for _, row := range []struct {
		name string
		of   func(float64) string
	}{
		{"from the first try of any route",
			func(q float64) string { return look.Quantile(&w.Times[logbook.ToUsable], q) }},
		{"from dialling the one that was taken",
			func(q float64) string { return look.Quantile(&w.Times[logbook.ToConnect], q) }},
	} {
		lines = append(lines, p.Line(row.name, width, 11, row.of(0.5), row.of(0.99), row.of(1)))
	}
	c := &w.Counts.Routes
	tried := "-"
	if c.Down > 0 {
		tried = units.Micros(float64(c.TriedIn) / float64(c.Down))
	}
	return append(lines, p.Heading("changes of route", width, 11, "count"),
		p.Line("steps down", width, 11, units.Count(c.Down)),
		p.Line("  on each, on average, spent in vain", width, 11, tried),
		p.Line("steps up", width, 11, units.Count(c.Up)),
		p.Line("steps up that failed", width, 11, units.Count(c.UpFailed)),
		p.Line("clients with no route left", width, 11, p.Zero(c.NoneLeft, look.Lost)))
}

// cost is what deliveries took, and what went wrong at switches.
func cost(sc scene.Scene, width int) []string {
	p, w := sc.Palette, sc.Window
	c := &w.Counts.Routes
	lines := []string{p.Heading("cost", width, 13, "altogether", "a delivery")}
	per := func(figure string) string {
		v, ok := logbook.FigureNamed(figure).Of(w)
		if !ok {
			return "-"
		}
		if strings.Contains(figure, "bytes") {
			return units.Bytes(v)
		}
		return fmt.Sprintf("%.3g", v)
	}
	lines = append(lines,
		p.Line("HTTP requests", width, 13, units.Count(c.Asked), per("routes.requests_per_delivery")),
		p.Line("bytes, up and down", width, 13, units.Bytes(float64(c.BytesUp+w.Counts.Bytes)),
			per("routes.bytes_per_delivery")),
		p.Line("connections", width, 13, units.Count(c.Dials), ""),
		p.Heading("messages at a switch", width, 13, "count"),
		p.Line("lost", width, 13, p.Zero(c.LostAt, look.Lost)),
		p.Line("came twice", width, 13, p.Zero(c.DoubledAt, look.Beware)),
		p.Line("out of order", width, 13, p.Zero(c.ReorderedAt, look.Beware)))
	return append(lines, "")
}

// stepsOf lists the steps by their reasons.
func stepsOf(sc scene.Scene) []string {
	p := sc.Palette
	all := steps(sc.Run.Reasons)
	if len(all) == 0 {
		return nil
	}
	lines := []string{p.Rule("steps, and why", p.Draw(look.Faint, "whole run"), sc.Width)}
	for _, s := range all {
		lines = append(lines, look.Fit(look.Right(units.Count(int64(s.times)), look.Gutter-1)+" "+p.Draw(s.ink,
			s.what), sc.Width))
	}
	return lines
}
