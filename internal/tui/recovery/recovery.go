// Package recovery is the view that answers: what did a break cost, how soon was everybody
// back, and how did the server bear it?
package recovery

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/meter"
	"tidepull/internal/run"
	"tidepull/internal/tui/look"
	"tidepull/internal/tui/scene"
	"tidepull/internal/tui/tide"
)

// Help explains the view in words.
const Help = `Recovery answers: what did a break cost, how soon was everybody back, and how did the
server bear it?

The bands stand below the tide and share its time. away: clients whose connection broke
and that are not back yet. tries: how often clients tried to come back in each second;
the darker part was accepted. Faults are the trial's own doing, and shaded in the tide.

A client is back once it is connected and in all the rooms that it was in. It waits
before each try as the trial's reconnect says.

  found broken to connected: until the server has agreed to a connection again
  found broken to back: until it is in all its rooms
  found broken to caught up: until the last of what was said meanwhile has come, if that is promised
  refused: the server said no; no answer: not in time; failed: no connection, or it broke again
  slower, faster: medians of the seconds before and during, and how sure the difference is
  gave up: after the tries or the time that it has, or still away when the tide fell

The server's process is watched if the trial starts it, or names its pid: what it used
before the clients came, at most, and last.`

// A Model keeps what is worked out of all events of a run: there may be very many.
type Model struct {
	of        *run.Snapshot
	impacts   []run.Impact
	comebacks []run.Comeback
}

// View draws the view.
func (m *Model) View(sc scene.Scene, window scene.Span) []string {
	if m.of != sc.Run {
		m.of, m.impacts, m.comebacks = sc.Run, run.Impacts(sc.Run), run.Comebacks(sc.Run)
	}
	columns, each := look.Columns(sc.Width, 2)
	if each < 55 { // the names need so much
		columns, each = 1, sc.Width
	}
	parts := [][]string{append(returns(sc, each), server(sc, each)...), counts(sc, each)}
	below := look.Beside(max(len(parts[0]), len(parts[1])), each, parts...)
	if columns == 1 {
		below = append(parts[0], parts[1]...)
	}
	notes := append(append(faults(sc, m.comebacks), impacts(sc, m.impacts)...), reasons(sc)...)
	room := max(4, sc.Height-len(below)-min(len(notes), max(3, sc.Height/3)))
	lines := append(bands(sc, window, room), below...)
	if left := sc.Height - len(lines); left >= 2 {
		if len(notes) > left {
			more := len(notes) - left + 1
			notes = append(notes[:left-1], sc.Palette.Draw(look.Faint, fmt.Sprintf("  and %d more lines", more)))
		}
		lines = append(lines, notes...)
	}
	return lines
}

// bands draws how many clients were away, and how often they tried to come back.
func bands(sc scene.Scene, window scene.Span, rows int) []string {
	p := sc.Palette
	lines := []string{p.Rule("clients away, and their tries to come back", p.Draw(look.Faint, sc.Label), sc.Width)}
	if sc.Run.Total.Counts.Returns.Broke == 0 {
		return append(lines, look.Right("", look.Gutter)+p.Draw(look.Faint,
			"no connection of a client that comes back "+
				"has broken"))
	}
	each := min(6, max(1, (rows-1)/2-1))
	for _, band := range []struct {
		name       string
		whole, own func(*logbook.ReturnCounts) int64
	}{
		// Who broke and is back within one second was away in it, too.
		{"away", func(c *logbook.ReturnCounts) int64 { return max(c.Away, c.Broke) }, nil},
		{"tries a second", func(c *logbook.ReturnCounts) int64 { return c.Tries },
			func(c *logbook.ReturnCounts) int64 { return c.Accepted }},
	} {
		most := int64(0)
		for _, e := range sc.Run.Entries {
			most = max(most, e.Each(band.whole(&e.Counts.Returns)))
		}
		name := fmt.Sprintf("  at most %s", units.Count(most))
		if band.own != nil {
			name += ", accepted in the darker part"
		}
		lines = append(lines, look.Right("", look.Gutter)+p.Draw(look.Strong, band.name)+p.Draw(look.Faint, name))
		lines = append(lines, area(sc, window, each, most, band.whole, band.own)...)
	}
	return lines
}

// area draws a count by second as water, and a part of it darker.
func area(sc scene.Scene, window scene.Span, rows int, most int64, whole,
	own func(*logbook.ReturnCounts) int64) []string {
	scale := tide.NewScale(sc.Run, sc.Width)
	d := look.NewDots(scale.Width, rows)
	height := func(n int64) int {
		h := int(float64(n)/float64(max(1, most))*float64(4*rows) + 0.5)
		if n > 0 {
			h = max(h, 1)
		}
		return h
	}
	for x := range 2 * scale.Width {
		i := int(scale.Second(x))
		e := sc.Run.Entries.Of(i)
		if e == nil {
			continue
		}
		c := &e.Counts.Returns
		h, dark := height(e.Each(whole(c))), 0
		if own != nil {
			dark = height(e.Each(own(c)))
		}
		for y := range h {
			switch {
			case y < dark:
				d.Dot(x, 4*rows-1-y, look.Deep)
			case y == h-1:
				d.Dot(x, 4*rows-1-y, look.Water)
			case own != nil && (x+y)%2 == 1:
			case !window.Set() || i >= window.From && i < window.To || (x+y)%2 == 0:
				d.Dot(x, 4*rows-1-y, look.Water)
			}
		}
	}
	if rows < 2 {
		lines := d.Lines(sc.Palette)
		lines[0] = look.Right("", look.Gutter) + lines[0]
		return lines
	}
	return d.Scaled(sc.Palette, units.Count(most), "", "0")
}

// returns is how soon clients came back.
func returns(sc scene.Scene, width int) []string {
	p, w := sc.Palette, sc.Window
	lines := []string{p.Heading("coming back", width, 11, "p50", "p99", "the last")}
	for _, row := range []struct {
		name string
		h    *meter.Hist
	}{{"found broken to connected", &w.Times[logbook.ToReconnect]},
		{"found broken to back in all rooms", &w.Times[logbook.ToReturn]},
		{"found broken to caught up", &w.Times[logbook.ToCatchUp]}} {
		lines = append(lines, p.Line(row.name, width, 11, look.Quantile(row.h, 0.5), look.Quantile(row.h, 0.99),
			look.Quantile(row.h, 1)))
	}
	return lines
}

// counts are how many connections broke and came back, and what that took.
func counts(sc scene.Scene, width int) []string {
	p, w := sc.Palette, sc.Window
	c, t := &w.Counts.Returns, &w.Total
	lines := []string{p.Heading("connections, and tries to come back", width, 11, "count"),
		p.Line("broke", width, 11, units.Count(c.Broke)),
		p.Line("came back", width, 11, units.Count(c.Back)),
		p.Line("gave up", width, 11, p.Zero(c.GaveUp, look.Lost)),
		p.Line("still away at the end", width, 11, p.Zero(c.StillAway, look.Lost)),
		p.Line("tries", width, 11, units.Count(c.Tries)),
		p.Line("  accepted", width, 11, units.Count(c.Accepted)),
		p.Line("  refused", width, 11, units.Count(c.Refused)),
		p.Line("  without an answer", width, 11, units.Count(c.TimedOut)),
		p.Line("  failed", width, 11, units.Count(c.Failed)),
		p.Line("numbers of rooms that began again", width, 11, p.Zero(c.Renumbered, look.Beware))}
	if c.Back == 0 { // nobody has missed anything by being away
		return lines
	}
	return append(lines, p.Line("messages caught up on", width, 11, units.Count(t.CaughtUp)),
		p.Line("messages lost", width, 11, p.Zero(t.Lost, look.Lost)),
		p.Line("messages excused", width, 11, units.Count(t.Excused)))
}

// server is what the server's process used.
func server(sc scene.Scene, width int) []string {
	p := sc.Palette
	lines := []string{p.Heading("the server's process", width, 11, "before", "at most", "last")}
	samples := sc.Run.Server
	if len(samples) == 0 {
		return append(lines, p.Draw(look.Faint, "  not watched: the trial has no server { } block"))
	}
	first, last, most, clients := samples[0], samples[len(samples)-1], run.Sample{}, int64(0)
	for _, s := range samples {
		if e := sc.Run.Entries.Of(s.At); s.Memory > most.Memory && e != nil {
			clients = int64(e.Gauges.Open)
		}
		most.Memory, most.CPU = max(most.Memory, s.Memory), max(most.CPU, s.CPU)
		most.Files, most.Threads = max(most.Files, s.Files), max(most.Threads, s.Threads)
	}
	use := run.UseOf(samples, sc.Run.Entries, sc.Run.Finished)
	for i, g := range use.Gauges {
		if g.Known {
			lines = append(lines, p.Line(logbook.ServerGauges[i]+", as it says", width, 11, units.Count(int64(g.First)),
				units.Count(int64(g.Most)), units.Count(int64(g.Last))))
		}
	}
	if !use.Watched {
		return lines
	}
	number := func(n int) string { return units.Count(int64(n)) }
	lines = append(lines,
		p.Line("memory", width, 11, units.Bytes(float64(first.Memory)), units.Bytes(float64(most.Memory)),
			units.Bytes(float64(last.Memory))),
		p.Line("processor time in a second", width, 11, units.Duration(first.CPU), units.Duration(most.CPU),
			units.Duration(last.CPU)),
		p.Line("open files", width, 11, number(first.Files), number(most.Files), number(last.Files)),
		p.Line("threads", width, 11, number(first.Threads), number(most.Threads), number(last.Threads)))
	if clients > 0 {
		lines = append(lines, p.Line("memory for each client", width, 11, "",
			units.Bytes(float64(most.Memory-first.Memory)/float64(clients))))
	}
	return lines
}

// faults lists what the trial broke.
func faults(sc scene.Scene, comebacks []run.Comeback) []string {
	p := sc.Palette
	if len(sc.Run.Happened) == 0 {
		return nil
	}
	lines := []string{p.Rule("faults", p.Draw(look.Faint, "whole run"), sc.Width)}
	cameBack := map[time.Duration]string{}
	for _, c := range comebacks {
		cameBack[c.From] = c.Words()
	}
	for _, h := range sc.Run.Happened {
		span := units.Clock(h.From)
		if h.To > 0 {
			span += " to " + units.Clock(h.To)
		}
		text := look.Right("", look.Gutter) + look.Fit(span, 15) + look.Fit(h.Do, 10) + plain.Text(h.Name, 100)
		if h.Why != "" {
			text += p.Draw(look.Lost, "  could not be done: "+plain.Text(h.Why, 200))
		} else if words := cameBack[h.From]; words != "" {
			text += p.Draw(look.Faint, "  "+words)
		} else if back, all := backAfter(sc.Run, h); all {
			text += p.Draw(look.Faint, fmt.Sprintf("  everybody was back within %v", back))
		}
		lines = append(lines, look.Fit(text, sc.Width))
	}
	return lines
}

// impacts lists what faults, and clients that misbehave, meant for the others' latencies.
func impacts(sc scene.Scene, all []run.Impact) []string {
	p := sc.Palette
	if len(all) == 0 {
		return nil
	}
	lines := []string{p.Rule("what that meant for everybody's latency", p.Draw(look.Faint, "by crew; ± is of 95 %"),
		sc.Width)}
	for i := range all {
		m := &all[i]
		ink := look.Faint
		if m.Tells() && m.Worse > 0 {
			ink = look.Beware
		}
		lines = append(lines, look.Fit(look.Right("", look.Gutter)+look.Fit(plain.Text(m.What, 60), 26)+
			look.Fit(plain.Text(m.Crew, 40), 14)+p.Draw(ink, m.Words()), sc.Width))
	}
	return lines
}

// backAfter is how long after the end of a fault the first second ended in which nobody was
// away; false if that is not yet.
func backAfter(s *run.Snapshot, h run.Happened) (time.Duration, bool) {
	if h.To == 0 {
		return 0, false
	}
	for _, e := range s.Entries.Between(int(h.To/time.Second), s.Entries.Count()) {
		if e.Counts.Returns.Away == 0 && e.Gauges.Open > 0 {
			return (time.Duration(e.At+e.Seconds())*time.Second - h.To).Round(100 * time.Millisecond), true
		}
	}
	return 0, false
}

// ways are what reasons begin with that are about breaks and returns.
var ways = []struct {
	prefix, name string
	ink          look.Ink
}{{"gave up: ", "gave up", look.Lost}, {"broken: ", "broke", look.Beware},
	{"after coming back: ", "forgotten", look.Beware}, {"did not come back at once: ", "try failed", look.Faint}}

// reasons lists why connections broke, and tries failed.
func reasons(sc scene.Scene) []string {
	p := sc.Palette
	type reason struct {
		what  string
		times int
		ink   look.Ink
	}
	var all []reason
	for _, w := range ways {
		var some []reason
		for text, n := range sc.Run.Reasons {
			if what, is := strings.CutPrefix(text, w.prefix); is {
				some = append(some, reason{look.Fit(w.name, 12) + plain.Text(what, 200), n, w.ink})
			}
		}
		slices.SortFunc(some, func(a, b reason) int {
			return cmp.Or(b.times-a.times, strings.Compare(a.what, b.what))
		})
		all = append(all, some...)
	}
	if len(all) == 0 {
		return nil
	}
	lines := []string{p.Rule("breaks and failed tries, and why", p.Draw(look.Faint, "whole run"), sc.Width)}
	for _, r := range all {
		lines = append(lines, look.Fit(look.Right(units.Count(int64(r.times)), look.Gutter-1)+" "+p.Draw(r.ink, r.what),
			sc.Width))
	}
	return lines
}
