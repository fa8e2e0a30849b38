// Package watch is the view that answers: is it going well, right now?
package watch

import (
	"fmt"
	"time"

	"tidepull/internal/ledger"
	"tidepull/internal/logbook"
	"tidepull/internal/meter"
	"tidepull/internal/plain"
	"tidepull/internal/run"
	"tidepull/internal/tui/look"
	"tidepull/internal/tui/scene"
	"tidepull/internal/tui/tide"
	"tidepull/internal/units"
)

// Help explains the view in words.
const Help = `Watch answers: is it going well, right now?

The tide strip shows the connected clients as water and the plan as a dotted
line. Below it, a can marks a second in which something was lost, two balls one
in which connections failed, a cross one with anything else amiss. Strokes at
the top mark seconds in which the tool itself was the bottleneck.

How soon: the line is the median fan-out latency, the dots above it reach up to
the 99th percentile, and the upper dots are the last recipient of the audience.
Latency counts from when a message should have been sent to its arrival in the
recipient's kernel.

The ledger adds up: owed is delivered, late, lost, excused (its recipient left
in the meantime) and open (the grace time is not over). Besides it stand
arrivals that nobody was owed: duplicates, strays, what came to clients at the
edge of their membership, and history.

The tool itself: what it took to measure. Where it was the bottleneck, limits
count as not proven.`

// View draws the view.
func View(c *Cache, sc scene.Scene) []string {
	p, s, width, height := sc.P, sc.S, sc.Width, sc.Height
	n, each := look.Columns(width, 4)
	figures := min(13, max(8, height-6))
	limits := limitLines(p, s, width)
	trouble := troubleLines(p, s, width)
	bandHeight := height - figures - 1
	lower := len(limits) + len(trouble)
	if bandHeight-lower < 6 {
		limits, trouble, lower = nil, nil, 0
	}
	bandHeight = max(3, bandHeight-lower)
	legend := "dots from the median up to p99, above them the last recipient"
	lines := []string{p.Rule("how soon", p.Draw(look.Faint, legend), width)}
	lines = append(lines, c.bandRows(p, s, tide.NewScale(s, width), bandHeight)...)
	blocks := [][]string{
		ledgerLines(sc, each),
		latencyLines(sc, each),
		trafficLines(sc, each),
		selfLines(sc, each),
	}
	lines = append(lines, look.Beside(figures, each, blocks[:n]...)...)
	lines = append(lines, limits...)
	return append(lines, trouble...)
}

func heading(sc scene.Scene, label string, each int) string {
	return sc.P.Heading(label, each, figureWidth, sc.Label, "whole run")
}

const figureWidth = 11

func ledgerLines(sc scene.Scene, each int) []string {
	p, all := sc.P, sc.S.Total
	r, t := &sc.W.Total, &all.Total
	lines := []string{heading(sc, "ledger", each)}
	count := func(name string, of func(*ledger.Tally) int64, wrong look.Ink) {
		a, b := of(r), of(t)
		ink := func(n int64) look.Ink {
			if n > 0 {
				return wrong
			}
			return look.Text
		}
		lines = append(lines, p.Line(name, each, figureWidth, p.Draw(ink(a), units.Count(a)), p.Draw(ink(b), units.Count(b))))
	}
	count("owed", func(t *ledger.Tally) int64 { return t.Owed }, look.Text)
	count("delivered", func(t *ledger.Tally) int64 { return t.Delivered }, look.Text)
	count("late", func(t *ledger.Tally) int64 { return t.Late }, look.Beware)
	count("lost", func(t *ledger.Tally) int64 { return t.Lost }, look.Lost)
	count("excused", func(t *ledger.Tally) int64 { return t.Excused }, look.Text)
	count("open", (*ledger.Tally).Open, look.Text)
	lines = append(lines, balance(p, all, each))
	count("duplicate", func(t *ledger.Tally) int64 { return t.Duplicate }, look.Beware)
	count("stray", func(t *ledger.Tally) int64 { return t.Stray }, look.Beware)
	count("allowed", func(t *ledger.Tally) int64 { return t.Allowed }, look.Text)
	count("history", func(t *ledger.Tally) int64 { return t.Past }, look.Text)
	count("overdue", func(t *ledger.Tally) int64 { return t.Overdue }, look.Beware)
	for _, d := range []struct { // seldom there, and then they matter
		name string
		of   func(*ledger.Tally) int64
		ink  look.Ink
	}{
		{"reordered", func(t *ledger.Tally) int64 { return t.Reordered }, look.Beware},
		{"disagreed", func(t *ledger.Tally) int64 { return t.Disagreed }, look.Beware},
		{"altered", func(t *ledger.Tally) int64 { return t.Altered }, look.Danger},
	} {
		if d.of(t) > 0 {
			count(d.name, d.of, d.ink)
		}
	}
	return lines
}

// balance says whether the ledger adds up.
func balance(p *look.Palette, all *logbook.Window, each int) string {
	word, signal := "adds up", look.AllWell
	if why := all.Imbalance(); why != "" {
		word, signal = why, look.InDanger
	}
	return look.Right(p.Signal(signal, word), each)
}

func latencyLines(sc scene.Scene, each int) []string {
	p, recent, all := sc.P, sc.W, sc.S.Total
	lines := []string{heading(sc, "latency", each)}
	row := func(name string, a, b *meter.Hist, q float64) {
		lines = append(lines, p.Line(name, each, figureWidth, quantile(p, a, q), quantile(p, b, q)))
	}
	a, b := recent.Fanout(), all.Fanout()
	for _, x := range []struct {
		name string
		q    float64
	}{{"fan-out median", 0.5}, {"p90", 0.9}, {"p99", 0.99}, {"p99.9", 0.999}, {"longest", 1}} {
		row(x.name, a, b, x.q)
	}
	row("first has it", &recent.First, &all.First, 0.5)
	row("half have it", &recent.Median, &all.Median, 0.5)
	row("last has it", &recent.Last, &all.Last, 0.5)
	row("last, p99", &recent.Last, &all.Last, 0.99)
	row("connecting p99", &recent.Connect, &all.Connect, 0.99)
	row("entering p99", &recent.Enter, &all.Enter, 0.99)
	return lines
}

func quantile(p *look.Palette, h *meter.Hist, q float64) string {
	if h.Count() == 0 {
		return p.Draw(look.Faint, "none")
	}
	return units.Duration(h.Quantile(q))
}

func trafficLines(sc scene.Scene, each int) []string {
	p, recent, all := sc.P, sc.W, sc.S.Total
	lines := []string{heading(sc, "traffic", each)}
	rate := func(name string, of func(*logbook.Counts) int64) {
		per := func(w *logbook.Window) string {
			return units.Count(int64(float64(of(&w.Counts))/max(1, w.Span.Seconds())+0.5)) + p.Draw(look.Faint, " /s")
		}
		lines = append(lines, p.Line(name, each, figureWidth, per(recent), per(all)))
	}
	count := func(name string, of func(*logbook.Counts) int64, wrong look.Ink) {
		lines = append(lines, p.Line(name, each, figureWidth, alarm(p, of(&recent.Counts), wrong), alarm(p, of(&all.Counts), wrong)))
	}
	rate("said", func(c *logbook.Counts) int64 { return c.Sent })
	rate("arrived", func(c *logbook.Counts) int64 { return c.Arrivals })
	lines = append(lines, p.Line("received", each, figureWidth, units.Bytes(float64(recent.Counts.Bytes)), units.Bytes(float64(all.Counts.Bytes))))
	count("connections", func(c *logbook.Counts) int64 { return c.Opened }, look.Text)
	count("refused", func(c *logbook.Counts) int64 { return c.Refused }, look.Danger)
	count("broken", func(c *logbook.Counts) int64 { return c.Broken }, look.Danger)
	count("denied", func(c *logbook.Counts) int64 { return c.Denied }, look.Beware)
	count("rooms entered", func(c *logbook.Counts) int64 { return c.Entries }, look.Text)
	count("pings answered", func(c *logbook.Counts) int64 { return c.Pings }, look.Text)
	check := func(name string, of func(*logbook.Window) int64, wrong look.Ink) {
		lines = append(lines, p.Line(name, each, figureWidth, alarm(p, of(recent), wrong), alarm(p, of(all), wrong)))
	}
	check("checks held", (*logbook.Window).ChecksHeld, look.Text)
	check("checks failed", (*logbook.Window).ChecksFailed, look.Beware)
	count("could not say", func(c *logbook.Counts) int64 { return c.Unsent }, look.Beware)
	return lines
}

func alarm(p *look.Palette, n int64, wrong look.Ink) string {
	if n == 0 {
		wrong = look.Text
	}
	return p.Draw(wrong, units.Count(n))
}

func selfLines(sc scene.Scene, each int) []string {
	p, s, recent, all := sc.P, sc.S, sc.W, sc.S.Total
	lines := []string{heading(sc, "the tool", each)}
	row := func(name string, of func(*logbook.Window) string) {
		lines = append(lines, p.Line(name, each, figureWidth, of(recent), of(all)))
	}
	row("reading lag p50", func(w *logbook.Window) string { return quantile(p, &w.ReadingLag, 0.5) })
	row("reading lag p99", func(w *logbook.Window) string { return quantile(p, &w.ReadingLag, 0.99) })
	row("schedule lag p50", func(w *logbook.Window) string { return quantile(p, &w.ScheduleLag, 0.5) })
	row("schedule lag p99", func(w *logbook.Window) string { return quantile(p, &w.ScheduleLag, 0.99) })
	row("loop busy", func(w *logbook.Window) string { return share(float64(w.Busy), float64(w.Span)) })
	row("CPU per arrival", func(w *logbook.Window) string {
		if w.Counts.Arrivals == 0 {
			return p.Draw(look.Faint, "none")
		}
		return units.Duration(w.CPU / time.Duration(w.Counts.Arrivals))
	})
	row("GC pauses", func(w *logbook.Window) string { return units.Duration(w.GCPause) })
	row("waited for core", func(w *logbook.Window) string { return units.Duration(w.Waited) })
	row("core time stolen", func(w *logbook.Window) string { return units.Duration(w.Stolen) })
	row("overloaded", func(w *logbook.Window) string {
		text := fmt.Sprintf("%d s", w.Overloaded)
		if w.Overloaded > 0 {
			return p.Draw(look.Beware, text)
		}
		return text
	})
	memory := p.Draw(look.Faint, "none")
	if s.RSSPerOpen > 0 {
		memory = units.Bytes(s.RSSPerOpen)
	}
	lines = append(lines, p.Line("memory a client", each, figureWidth, memory))
	times := "the kernel's"
	if !s.KernelTimes {
		times = p.Draw(look.Beware, "the tool's own")
	}
	return append(lines, p.Line("arrival times", each, figureWidth, times))
}

func share(part, whole float64) string {
	if whole == 0 {
		return "0 %"
	}
	return fmt.Sprintf("%.0f %%", 100*part/whole)
}

// limitLines shows each limit with its signal, two in a line where there is
// room.
func limitLines(p *look.Palette, s *run.Snapshot, width int) []string {
	if len(s.Judgements) == 0 {
		return nil
	}
	lines := []string{p.Rule("limits", "", width)}
	n, each := look.Columns(width, 2)
	var blocks = make([][]string, n)
	for i, j := range s.Judgements {
		blocks[i%n] = append(blocks[i%n], limitLine(p, s, j, each))
	}
	return append(lines, look.Beside(len(blocks[0]), each, blocks...)...)
}

func limitLine(p *look.Palette, s *run.Snapshot, j run.Judgement, each int) string {
	signal, word := look.AllWell, "holds"
	switch {
	case j.Verdict == run.Broken:
		signal, word = look.SomethingLost, "broken"
	case s.Pending(&j):
		return p.Line("○ "+plain.Text(j.Limit.Name, 40), each, 0, p.Draw(look.Faint, "nothing measured yet"))
	case j.Verdict == run.NotProven:
		signal, word = look.Attention, "not proven"
	}
	figure := func(v float64) string {
		if j.Unit == logbook.Duration {
			return units.Micros(v)
		}
		return units.Count(int64(v))
	}
	text := fmt.Sprintf("%s: %s, %s %s", word, figure(j.Measured), j.Limit.Rule, figure(j.Limit.Value))
	return p.Line(p.Draw(signal.Ink(), signal.Shape())+" "+plain.Text(j.Limit.Name, 40), each, 0, text)
}

const troubleShown = 4

// troubleLines tells of the newest messages with something wrong.
func troubleLines(p *look.Palette, s *run.Snapshot, width int) []string {
	if len(s.Kept) == 0 {
		return nil
	}
	total := len(s.Kept) + s.Unkept
	lines := []string{p.Rule("amiss", p.Draw(look.Faint, units.Count(int64(total))+" messages in all, the newest kept ones here"), width)}
	for i := len(s.Kept) - 1; i >= max(0, len(s.Kept)-troubleShown); i-- {
		lines = append(lines, look.Fit(Describe(p, s, &s.Kept[i]), width))
	}
	return lines
}

// Describe tells of a message with something wrong, in one line.
func Describe(p *look.Palette, s *run.Snapshot, m *ledger.Message) string {
	signal := look.Attention
	if m.Lost > 0 {
		signal = look.SomethingLost
	}
	text := fmt.Sprintf("message %d by %s in %s, owed to %d", m.Number, plain.Text(s.ClientName(m.Sender), 30), plain.Text(s.Rooms[m.Room], 30), m.Owed)
	if len(m.Outcomes) > 0 {
		o := m.Outcomes[0]
		text += fmt.Sprintf(": %s at %s", o.Fate, plain.Text(s.ClientName(o.Client), 30))
	}
	if wrong := m.Amiss(); wrong > 1 {
		text += fmt.Sprintf(", and %d more amiss", wrong-1)
	}
	return p.Draw(signal.Ink(), signal.Shape()) + " " + text
}
