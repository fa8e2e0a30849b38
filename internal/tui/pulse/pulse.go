// Package pulse is the view that answers: does the server notice the dead, and spare the
// living?
package pulse

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
	"tidepull/internal/trial"
	"tidepull/internal/tui/look"
	"tidepull/internal/tui/scene"
)

// Help explains the view in words.
const Help = `Pulse answers: does the server notice the dead, and spare the living?

Each row is one client below the tide, and shares its time: the first ones of each crew,
and of those that misbehave on purpose. A stroke is a heartbeat that was given or
answered, a dot one that was not; the line below is the connection.

  ◇ on a row: the client begins to misbehave
  ╳ on a row: the server closed it; also if its connection broke by itself

Below: how long the server's heartbeats were apart, against what the trial's promise
says, and what became of the clients that misbehave.

  missing: a heartbeat that should have come and did not
  late, early: further from the one before than the tolerance allows, either way
  drift: by how much the intervals are longer than promised, on average
  bunched: how many of an interval's heartbeats come in its fullest twentieth: 5 % if they are spread evenly
  eviction: from the first sign of life that a client owed and did not give to the end of its connection
  hasty: closed though it gave every sign of life that it owed
  told: from an eviction to each of the others in its rooms being told`

// View draws the view.
func (m *Model) View(sc scene.Scene) []string {
	m.follow(sc.Run)
	columns, each := look.Columns(sc.Width, 2)
	if each < 52 { // the names need so much
		columns, each = 1, sc.Width
	}
	parts := [][]string{server(sc, each), clients(sc, each)}
	below := look.Beside(max(len(parts[0]), len(parts[1])), each, parts...)
	if columns == 1 {
		below = append(parts[0], parts[1]...)
	}
	chart := 0
	if spare := sc.Height - len(below); spare >= 14 && sc.Window.Times[logbook.BeatInterval].Count() > 0 {
		chart = min(9, spare/2)
	}
	notes := m.reasons(sc)
	if columns == 1 && sc.Height < 24 { // what went wrong comes first
		return append(below, atLeastTwo(notes, sc.Height-len(below))...)
	}
	rows := max(3, sc.Height-len(below)-chart-min(len(notes), 4))
	lines := m.draw(sc, rows)
	if chart > 0 {
		lines = append(lines, intervals(sc, chart)...)
	}
	lines = append(lines, below...)
	return append(lines, atLeastTwo(notes, sc.Height-len(lines))...)
}

// atLeastTwo is as much of a list as there is room for; nothing if that is its heading alone.
func atLeastTwo(lines []string, room int) []string {
	if room < 2 {
		return nil
	}
	return lines[:min(len(lines), room)]
}

// intervals draws how far apart the server's heartbeats were, around what was promised.
func intervals(sc scene.Scene, rows int) []string {
	p, h := sc.Palette, &sc.Window.Times[logbook.BeatInterval]
	promise := sc.Run.Trial.Target.Promise
	lines := []string{p.Rule("from one heartbeat of the server to the next", p.Draw(look.Faint, sc.Label), sc.Width)}
	d := look.NewDots(sc.Width-look.Gutter, rows-2)
	least, most := time.Duration(0), 2*promise.Every
	switch {
	case h.Max() > most:
		most = min(h.Max(), 4*promise.Every)
	case h.Max() < promise.Every*3/2 && h.Min() > promise.Every/2:
		least, most = promise.Every/2, promise.Every*3/2
	}
	bins := make([]float64, 2*d.Width)
	at := func(t time.Duration) int {
		return max(0, min(len(bins)-1, int(float64(t-least)/float64(most-least)*float64(len(bins)-1))))
	}
	h.Each(func(upper time.Duration, n uint32) { bins[at(upper)] += float64(n) })
	for _, edge := range []time.Duration{promise.Every - promise.Slack(), promise.Every + promise.Slack()} {
		for y := range 4 * d.Height {
			if y%2 == 0 {
				d.Dot(at(edge), y, look.Plan)
			}
		}
	}
	top := slices.Max(bins)
	for x, n := range bins {
		height := int(n/top*float64(4*d.Height-1) + 0.5)
		if n > 0 {
			height = max(1, height) // a single one must be seen
		}
		for y := range height {
			ink := look.Water
			t := least + time.Duration(float64(x)/float64(len(bins)-1)*float64(most-least))
			if t > promise.Every+promise.Slack() {
				ink = look.Beware
			}
			d.Dot(x, 4*d.Height-1-y, ink)
		}
	}
	lines = append(lines, d.Scaled(p, units.Count(int64(top)), "", "0")...)
	ruler := look.NewDots(d.Width, 1)
	const room = 24 // of the longest text
	step := promise.Every / 4
	for d.Width*int(step)/int(most-least) < room {
		step *= 2
	}
	for t := least; t < most; t += step {
		text := units.Duration(t)
		switch t {
		case promise.Every:
			text += ", as promised"
		case 0:
			text = "0"
		}
		ruler.Char(at(t)/2, 0, '╵', look.Faint)
		ruler.Text(at(t)/2+1, 0, text, look.Faint)
	}
	return append(lines, look.Right("", look.Gutter)+ruler.Lines(p)[0])
}

// server is what the server's heartbeats were like.
func server(sc scene.Scene, width int) []string {
	p, w := sc.Palette, sc.Window
	c := &w.Counts.Pulse
	lines := []string{p.Heading("heartbeats", width, 11, "p50", "p99", "longest")}
	promise := sc.Run.Trial.Target.Promise
	if promise == nil {
		return append(lines, p.Draw(look.Faint, "  the trial's target has no promise { }: nothing is measured"))
	}
	var counts []string
	if promise.Server {
		drift, bunched := "-", "-"
		if v, ok := w.Drift(); ok {
			drift = units.Signed(v)
		}
		if v, ok := w.Bunched(); ok {
			bunched = fmt.Sprintf("%.0f %%", 100*v)
		}
		lines = append(lines, p.Line("promised, of the server, each", width, 11, units.Duration(promise.Every), "", ""),
			p.Line("from one to the next", width, 11, quantiles(&w.Times[logbook.BeatInterval])...))
		counts = append(counts, p.Line("drift", width, 11, drift),
			p.Line("in the fullest twentieth of an interval", width, 11, bunched), p.Line("came", width, 11,
				units.Count(c.Heard)),
			p.Line("missing", width, 11, p.Zero(c.Missing, look.Lost)),
			p.Line("late", width, 11, p.Zero(c.Late, look.Beware)),
			p.Line("early", width, 11, p.Zero(c.Early, look.Beware)))
	}
	if c.Asked > 0 {
		lines = append(lines, p.Line("round trip of clients'", width, 11, quantiles(&w.Times[logbook.RoundTrip])...))
		counts = append(counts, p.Line("of clients", width, 11, units.Count(c.Asked)),
			p.Line("  answered", width, 11, units.Count(c.Answered)),
			p.Line("  not by the next", width, 11, p.Zero(c.Unheard, look.Lost)))
	}
	if len(counts) == 0 {
		return lines
	}
	return slices.Concat(lines, []string{p.Heading("all heartbeats", width, 11, "all told")}, counts)
}

// clients is what became of those that misbehave, and of those that do not.
func clients(sc scene.Scene, width int) []string {
	p, w := sc.Palette, sc.Window
	c := &w.Counts.Pulse
	lines := []string{p.Heading("clients that misbehave on purpose", width, 11, "p50", "p99", "longest")}
	deadline := "not said"
	if promise := sc.Run.Trial.Target.Promise; promise != nil && promise.Deadline > 0 {
		deadline = units.Duration(promise.Deadline)
	}
	return append(lines, p.Line("must be closed within", width, 11, deadline),
		p.Line("closed after", width, 11, quantiles(&w.Times[logbook.ToEvict])...),
		p.Line("others told after that", width, 11, quantiles(&w.Times[logbook.ToTell])...),
		p.Heading("clients, counted", width, 11, "count"),
		p.Line("misbehaved", width, 11, units.Count(c.Misbehave)),
		p.Line("  evicted", width, 11, units.Count(c.Evicted)),
		p.Line("  of them after the deadline", width, 11, p.Zero(c.TooLate, look.Lost)),
		p.Line("  not evicted", width, 11, p.Zero(c.Kept, look.Lost)),
		p.Line("the living: closed all the same (hasty)", width, 11, p.Zero(c.Hasty, look.Danger)))
}

func quantiles(h *meter.Hist) []string {
	return []string{look.Quantile(h, 0.5), look.Quantile(h, 0.99), look.Quantile(h, 1)}
}

// reasons lists how connections of clients that misbehave ended, and how many do so in which
// way.
func (m *Model) reasons(sc scene.Scene) []string {
	p := sc.Palette
	type line struct {
		text string
		n    int
	}
	var all []line
	for _, prefix := range []string{"not evicted: ", "evicted: "} {
		for text, n := range sc.Run.Reasons {
			if what, is := strings.CutPrefix(text, prefix); is {
				all = append(all, line{look.Fit(strings.TrimSuffix(prefix, ": "), 13) + plain.Text(what, 200), n})
			}
		}
	}
	for how, n := range m.did {
		all = append(all, line{look.Fit("misbehaved", 13) + plain.Text(how, 100) + meaning(how), n})
	}
	if len(all) == 0 {
		return nil
	}
	slices.SortFunc(all, func(a, b line) int { return cmp.Or(cmp.Compare(b.n, a.n), strings.Compare(a.text, b.text)) })
	lines := []string{p.Rule("what they did, and how it ended", p.Draw(look.Faint, "whole run"), sc.Width)}
	for _, l := range all {
		lines = append(lines, look.Fit(look.Right(units.Count(int64(l.n)), look.Gutter-1)+" "+l.text, sc.Width))
	}
	return lines
}

// meaning says what a misdeed is, by its name.
func meaning(how string) string {
	return map[string]string{
		trial.Silent.String():    ": gives no sign of life",
		trial.Slowly.String():    ": answers late",
		trial.Wrongly.String():   ": answers with something else",
		trial.Hurried.String():   ": gives signs of life too fast",
		trial.Deaf.String():      ": gives signs of life, and never reads",
		trial.Frozen.String():    ": neither reads nor writes",
		trial.Unplugged.String(): ": nothing gets through to it",
	}[how]
}
