// Package watch is the view that answers: is it going well, right now?
package watch

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/meter"
	"tidepull/internal/run"
	"tidepull/internal/tui/look"
	"tidepull/internal/tui/scene"
	"tidepull/internal/tui/tide"
)

// Help explains the view in words.
const Help = `Watch answers: is it going well, right now?

The tide strip shows the connected clients as water and the plan as a dotted
line. Below it each second in which something went wrong has a shape. The first
line under the strip is the verdict so far, and why.

How soon: the line is the median fan-out latency, the dots above it reach up to
the 99th percentile, and the upper dots are the last recipient of the audience.

Feeds that tell a value are drawn below it: from the least to the most that any
client was given.

Ledger

  owed: deliveries that were due: the recipient was a confirmed member when the message was sent
  delivered, late: it came; it came after the promised time (prompt)
  lost: it did not come within the grace time, though its recipient was there
  excused: its recipient left, was cut off, or read slowly on purpose
  open: the grace time is not over yet
  duplicate, stray: it came again; it came to someone who should not have it
  allowed: it came to someone who was just entering or leaving
  history: it came as history to someone who entered
  overdue: it came after it had been counted as lost or excused
  reordered, disagreed: it came after a later message of its sender; after one that others got after it
  altered: what came is not what was sent

Latency

  fan-out: from when a message should have been sent to its arrival in the recipient's kernel
  first, median, last: until that recipient of a message has it; the median over messages
  connecting, entering: until the connection is agreed on; until the room is confirmed

Traffic

  refused, broken: connections that were never open; open ones that the server ended
  denied: names and rooms refused, or not confirmed in time
  not opened: for want of a local port, a file or memory of this machine
  not recognised: messages without a mark that no rule of the dialect is about
  unsent: messages that were due and could not be sent

The tool

  reading lag: from arrival in the kernel to the tool's reading it; no latency has it in it
  schedule lag: from when a message was due to its sending
  pushed back: how far the waits of scripts pushed turns of repeats beyond their time
  load: how much of the planned load there was: clients connected, messages said within a second
  waits for a core, the longest: the tool was ready and had none; the same of the server if it runs here
  steal: core time taken from the machine
  overloaded: seconds that say nothing of the server
  workers: other processes that serve the clients; below, the machines that they are on, with how many are
  there, and by how much its clock may be off at the most`

// A Model is the view's state: how far it is scrolled if not all fits.
type Model struct{ offset int }

// Update handles a key; done reports whether it was one of the view's.
func (m Model) Update(key string) (Model, bool) {
	switch key {
	case "up", "k":
		m.offset--
	case "down", "j":
		m.offset++
	case "pgup":
		m.offset -= 10
	case "pgdown":
		m.offset += 10
	default:
		return m, false
	}
	return m, true
}

// tall is the height from which on everything has its place on the screen.
const tall = 32

// View draws the view.
func (m *Model) View(c *Cache, sc scene.Scene) []string {
	if sc.Height < tall || sc.Width < 100 {
		return m.short(c, sc)
	}
	p, s, width, height := sc.Palette, sc.Run, sc.Width, sc.Height
	n, each := look.Columns(width, 4)
	const figures = 14
	var below []string
	below = append(below, causes(sc)...)
	below = append(below, limitLines(p, s, width)...)
	below = append(below, WordLines(p, s, width, 3)...)
	below = append(below, troubleLines(p, s, width)...)
	below = below[:min(len(below), max(0, height-figures-1-leastBand))]
	band := max(4, height-figures-1-len(below))
	lines := c.chartRows(p, s, tide.NewScale(s, width), band+1)
	blocks := [][]string{ledgerLines(sc, each), latencyLines(sc, each), trafficLines(sc, each), selfLines(sc, each)}
	lines = append(lines, look.Beside(figures, each, blocks[:n]...)...)
	return append(lines, below...)
}

// leastBand is how many rows the latencies have at least, whatever is wrong.
const leastBand = 7

// causes say what became of the server, and what the problems have in common.
func causes(sc scene.Scene) (lines []string) {
	p, s := sc.Palette, sc.Run
	for _, text := range s.ServerSide.Words() {
		lines = append(lines, look.Fit(p.Signal(look.InDanger, plain.Text(text, 200)), sc.Width))
	}
	for i := range s.Shared {
		lines = append(lines, look.Fit(p.Signal(look.SomethingLost, "in common")+"  "+
			plain.Text(s.Shared[i].Says, 300), sc.Width))
	}
	return lines
}

// short is the view if not all fits: what went wrong first, and always; the
// rest below it scrolls.
func (m *Model) short(c *Cache, sc scene.Scene) []string {
	p, s, width := sc.Palette, sc.Run, sc.Width
	fixed := wrongLines(sc, max(1, sc.Height/3))
	n, each := look.Columns(width, 4)
	blocks := [][]string{ledgerLines(sc, each), latencyLines(sc, each), trafficLines(sc, each), selfLines(sc, each)}
	var rest []string
	for from := 0; from < len(blocks); from += n {
		row := blocks[from:min(len(blocks), from+n)]
		high := 0
		for _, b := range row {
			high = max(high, len(b))
		}
		rest = append(rest, look.Beside(high, each, row...)...)
	}
	rest = append(rest, limitLines(p, s, width)...)
	rest = append(rest, troubleLines(p, s, width)...)
	rest = append(rest, WordLines(p, s, width, 10)...)
	rest = append(rest, c.chartRows(p, s, tide.NewScale(s, width), 6*(1+len(telling(s))))...)
	room := max(0, sc.Height-len(fixed))
	m.offset = min(max(0, m.offset), max(0, len(rest)-room))
	return append(fixed, rest[m.offset:min(len(rest), m.offset+room)]...)
}

// wrongLines are the counts that must always be seen, and the limits that do not
// hold.
func wrongLines(sc scene.Scene, most int) []string {
	p, s, t := sc.Palette, sc.Run, &sc.Run.Total.Total
	part := func(name string, n int64, ink look.Ink) string {
		if n == 0 {
			ink = look.Text
		}
		return name + " " + p.Draw(ink, units.Count(n))
	}
	lines := []string{look.Fit(strings.Join([]string{part("lost", t.Lost, look.Lost),
		part("duplicate", t.Duplicate, look.Beware), part("stray", t.Stray, look.Beware),
		part("late", t.Late, look.Beware), part("owed", t.Owed, look.Text)}, "   "), sc.Width)}
	all := causes(sc)
	lines = append(lines, all[:min(len(all), max(0, most-len(lines)))]...)
	for i := range s.Judgements {
		if j := &s.Judgements[i]; j.Verdict == run.Broken && len(lines) < most {
			lines = append(lines, look.Fit(p.Draw(look.SomethingLost.Ink(), look.SomethingLost.Shape())+" "+
				plain.Text(j.Says(sc.Run.Kinds(j)), 200), sc.Width))
		}
	}
	return lines
}

// WordLines are the server's own words and other reasons, the most frequent
// first.
func WordLines(p *look.Palette, s *run.Snapshot, width, most int) []string {
	if len(s.Reasons) == 0 {
		return nil
	}
	type reason struct {
		text string
		n    int
	}
	var all []reason
	for text, n := range s.Reasons {
		all = append(all, reason{text, n})
	}
	slices.SortFunc(all, func(a, b reason) int { return cmp.Or(cmp.Compare(b.n, a.n), cmp.Compare(a.text, b.text)) })
	right := "whole run"
	if len(all) > most {
		right = fmt.Sprintf("whole run, the %d most frequent of %d", most, len(all))
	}
	right = p.Draw(look.Faint, right)
	lines := []string{p.Rule("what was said, and why", right, width)}
	if deaf := s.Deaf(); deaf != "" {
		lines = append(lines, look.Fit("        "+p.Draw(look.Lost, plain.Text(deaf, 200)), width))
	}
	for _, r := range all[:min(most, len(all))] {
		lines = append(lines, look.Fit(look.Right(units.Count(int64(r.n)), 7)+p.Draw(look.Faint,
			" x ")+plain.Text(r.text, 400), width))
	}
	return lines
}

func heading(sc scene.Scene, label string, each int) string {
	return sc.Palette.Heading(label, each, figureWidth, two(sc, sc.Label, "whole run")...)
}

// two are the figures of the window and of the whole run, where these are not
// the same.
func two(sc scene.Scene, window, whole string) []string {
	if sc.Window == sc.Run.Total {
		return []string{whole}
	}
	return []string{window, whole}
}

const figureWidth = 11

// ledgerLines are what was owed and what became of it: within the window, and in the whole run.
func ledgerLines(sc scene.Scene, each int) []string {
	p, all := sc.Palette, sc.Run.Total
	r, t := &sc.Window.Total, &all.Total
	lines := []string{heading(sc, "ledger", each)}
	count := func(name string, of func(*ledger.Tally) int64, wrong look.Ink) {
		a, b := of(r), of(t)
		ink := func(n int64) look.Ink {
			if n > 0 {
				return wrong
			}
			return look.Text
		}
		lines = append(lines, p.Line(name, each, figureWidth,
			two(sc, p.Draw(ink(a), units.Count(a)), p.Draw(ink(b), units.Count(b)))...))
	}
	count("owed", func(t *ledger.Tally) int64 { return t.Owed }, look.Text)
	shown := func(f ledger.Fate) {
		count(f.Title(), func(t *ledger.Tally) int64 { return *t.Of(f) }, scene.InkOf(f))
	}
	seldom := func(f ledger.Fate) bool { return f == ledger.CaughtUp || f.Defect() }
	for _, f := range ledger.Fates {
		if f.Settles() && !seldom(f) {
			shown(f)
		}
	}
	count("open", (*ledger.Tally).Open, look.Text)
	lines = append(lines, balance(p, all, each))
	for _, f := range ledger.Fates {
		if !f.Settles() && !seldom(f) {
			shown(f)
		}
	}
	for _, f := range ledger.Fates { // those matter if they are there
		if seldom(f) && *t.Of(f) > 0 {
			shown(f)
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

// latencyLines are how long deliveries took. If arrivals shared reads, the other end of what is known stands
// below.
func latencyLines(sc scene.Scene, each int) []string {
	p, recent, all := sc.Palette, sc.Window, sc.Run.Total
	lines := []string{heading(sc, "latency", each)}
	row := func(name string, a, b *meter.Hist, q float64) {
		lines = append(lines, p.Line(name, each, figureWidth, two(sc, quantile(p, a, q), quantile(p, b, q))...))
	}
	a, b := recent.Fanout(), all.Fanout()
	early := all.FanoutEarly()
	for _, x := range []struct {
		name string
		q    float64
	}{{"fan-out p50", 0.5}, {"p90", 0.9}, {"p99", 0.99}, {"p99.9", 0.999}, {"max", 1}} {
		row(x.name, a, b, x.q)
		from, to := early.Quantile(x.q), b.Quantile(x.q)
		if x.name == "p99" && units.Duration(from) != units.Duration(to) { // some were read together
			row("  at least", recent.FanoutEarly(), early, x.q)
		}
	}
	row("first recipient", &recent.First, &all.First, 0.5)
	row("median recipient", &recent.Median, &all.Median, 0.5)
	row("last recipient", &recent.Last, &all.Last, 0.5)
	row("last, p99", &recent.Last, &all.Last, 0.99)
	if b.Quantile(0.5) > all.Last.Quantile(0.5) && all.Last.Count() > 0 {
		lines = append(lines, look.Fit(p.Draw(look.Faint, "  p50 is of deliveries, the last of messages: large rooms "+
			"have more deliveries"), each))
	}
	row("connecting p99", &recent.Times[logbook.ToConnect], &all.Times[logbook.ToConnect], 0.99)
	row("entering p99", &recent.Times[logbook.ToEnter], &all.Times[logbook.ToEnter], 0.99)
	return lines
}

func quantile(p *look.Palette, h *meter.Hist, q float64) string {
	if h.Count() == 0 {
		return p.Draw(look.Faint, "none")
	}
	return units.Duration(h.Quantile(q))
}

// trafficLines are how much went to and fro, and what went wrong with connections.
func trafficLines(sc scene.Scene, each int) []string {
	p, recent, all := sc.Palette, sc.Window, sc.Run.Total
	lines := []string{heading(sc, "traffic", each)}
	rate := func(name string, of func(*logbook.Counts) int64) {
		per := func(w *logbook.Window) string {
			return units.Count(int64(float64(of(&w.Counts))/max(1, w.Span.Seconds())+0.5)) + p.Draw(look.Faint, " /s")
		}
		lines = append(lines, p.Line(name, each, figureWidth, two(sc, per(recent), per(all))...))
	}
	count := func(name string, of func(*logbook.Counts) int64, wrong look.Ink) {
		lines = append(lines, p.Line(name, each, figureWidth,
			two(sc, alarm(p, of(&recent.Counts), wrong), alarm(p, of(&all.Counts), wrong))...))
	}
	rate("sent", func(c *logbook.Counts) int64 { return c.Sent })
	rate("arrived", func(c *logbook.Counts) int64 { return c.Arrivals })
	lines = append(lines, p.Line("received", each, figureWidth,
		two(sc, units.Bytes(float64(recent.Counts.Bytes)), units.Bytes(float64(all.Counts.Bytes)))...))
	count("connections", func(c *logbook.Counts) int64 { return c.Opened }, look.Text)
	count("refused", func(c *logbook.Counts) int64 { return c.Refused }, look.Danger)
	count("broken", func(c *logbook.Counts) int64 { return c.Broken }, look.Danger)
	count("denied", func(c *logbook.Counts) int64 { return c.Denied }, look.Beware)
	if all.Counts.Hindered > 0 {
		count("not opened", func(c *logbook.Counts) int64 { return c.Hindered }, look.Danger)
	}
	count("rooms entered", func(c *logbook.Counts) int64 { return c.Entries }, look.Text)
	if all.Counts.Pings > 0 {
		count("pings answered", func(c *logbook.Counts) int64 { return c.Pings }, look.Text)
	}
	check := func(name string, of func(*logbook.Window) int64, wrong look.Ink) {
		lines = append(lines, p.Line(name, each, figureWidth,
			two(sc, alarm(p, of(recent), wrong), alarm(p, of(all), wrong))...))
	}
	check("checks passed", (*logbook.Window).ChecksHeld, look.Text)
	check("checks failed", (*logbook.Window).ChecksFailed, look.Beware)
	count("unsent", func(c *logbook.Counts) int64 { return c.Unsent }, look.Beware)
	if all.Counts.Unknown > 0 {
		count("not recognised", func(c *logbook.Counts) int64 { return c.Unknown }, look.Text)
	}
	if all.Counts.StrayNews > 0 {
		count("announced falsely", func(c *logbook.Counts) int64 { return c.StrayNews }, look.Beware)
	}
	return lines
}

func alarm(p *look.Palette, n int64, wrong look.Ink) string {
	if n == 0 {
		wrong = look.Text
	}
	return p.Draw(wrong, units.Count(n))
}

// selfLines are the tool's own part: by it a reader knows how far the other figures can be trusted.
func selfLines(sc scene.Scene, each int) []string {
	p, s, recent, all := sc.Palette, sc.Run, sc.Window, sc.Run.Total
	lines := []string{heading(sc, "the tool", each)}
	row := func(name string, of func(*logbook.Window) string) {
		lines = append(lines, p.Line(name, each, figureWidth, two(sc, of(recent), of(all))...))
	}
	row("load", func(w *logbook.Window) string {
		if offered, ok := w.Counts.Load.Offered(); ok {
			return units.Percent(offered)
		}
		return p.Draw(look.Faint, "none")
	})
	row("reading lag p50", func(w *logbook.Window) string { return quantile(p, &w.Times[logbook.ReadingLag], 0.5) })
	row("reading lag p99", func(w *logbook.Window) string { return quantile(p, &w.Times[logbook.ReadingLag], 0.99) })
	row("schedule lag p50", func(w *logbook.Window) string { return quantile(p, &w.Times[logbook.ScheduleLag], 0.5) })
	row("schedule lag p99", func(w *logbook.Window) string { return quantile(p, &w.Times[logbook.ScheduleLag], 0.99) })
	row("loop busy", func(w *logbook.Window) string { return share(float64(w.Busy), float64(w.Span)) })
	per := func(cpu func(*logbook.Window) time.Duration) func(*logbook.Window) string {
		return func(w *logbook.Window) string {
			if w.Counts.Arrivals == 0 {
				return p.Draw(look.Faint, "none")
			}
			return units.Duration(cpu(w) / time.Duration(w.Counts.Arrivals))
		}
	}
	row("loop CPU/arrival", per(func(w *logbook.Window) time.Duration { return w.CPU }))
	row("all CPU/arrival", per(func(w *logbook.Window) time.Duration { return w.ProcessCPU }))
	row("GC pauses", func(w *logbook.Window) string { return units.Duration(w.GCPause) })
	if all.Times[logbook.PushedBack].Count() > 0 {
		row("pushed back p99", func(w *logbook.Window) string {
			return quantile(p, &w.Times[logbook.PushedBack], 0.99)
		})
	}
	row("waits for a core", func(w *logbook.Window) string { return units.Duration(w.Waited) })
	row("the longest", func(w *logbook.Window) string { return units.Duration(w.Kept) })
	row("steal", func(w *logbook.Window) string { return units.Duration(w.Stolen) })
	row("overloaded", func(w *logbook.Window) string {
		text := fmt.Sprintf("%d s", w.Overloaded)
		if w.Overloaded > 0 {
			return p.Draw(look.Beware, text)
		}
		return text
	})
	if s.RSSPerOpen > 0 { // with few clients it is mostly fixed cost, and not said
		lines = append(lines, p.Line("memory a client", each, figureWidth, units.Bytes(s.RSSPerOpen)))
	}
	times := "the kernel's"
	if !s.KernelTimes {
		times = p.Draw(look.Beware, "the tool's own")
	}
	lines = append(lines, p.Line("arrival times", each, figureWidth, times))
	return append(lines, processLines(p, &s.Processes, each)...)
}

// processLines are the workers that serve the clients, and the machines that they are on, with what is known of their
// clocks; none if the clients are in this process.
func processLines(p *look.Palette, of *run.Processes, each int) (lines []string) {
	if of.Workers > 0 {
		n := fmt.Sprint(of.Workers)
		if len(of.Lost) > 0 {
			n = p.Draw(look.Lost, fmt.Sprintf("%d, %d lost", of.Workers, len(of.Lost)))
		}
		lines = append(lines, p.Line("workers", each, figureWidth, n))
	}
	for _, m := range of.Machines {
		lines = append(lines, p.Line(look.Name(plain.Text(m.Name, 40), 16), each, figureWidth,
			fmt.Sprintf("%d, clock ±%s", m.Workers,
				units.Duration(time.Duration(m.ClockOff*float64(time.Microsecond))))))
	}
	return lines
}

func share(part, whole float64) string {
	if whole == 0 {
		return "0 %"
	}
	return fmt.Sprintf("%.0f %%", 100*part/whole)
}

// limitLines shows each limit with its signal, two in a line if there is
// room.
func limitLines(p *look.Palette, s *run.Snapshot, width int) []string {
	if len(s.Judgements) == 0 {
		return nil
	}
	n, each := look.Columns(width, 2)
	var blocks = make([][]string, n)
	i, held, open := 0, 0, 0
	for _, j := range s.Judgements {
		if j.Limit.Implied && j.Verdict != run.Broken {
			if j.Verdict == run.Holds {
				held++
			} else {
				open++
			}
			continue
		}
		blocks[i%n] = append(blocks[i%n], limitLine(p, s, j, each))
		i++
	}
	right := p.Draw(look.Faint, fmt.Sprintf("%d implied ones hold", held))
	if open > 0 {
		right = p.Draw(look.Beware, fmt.Sprintf("%d implied ones are not proven", open)) + p.Draw(look.Faint,
			", ") + right
	}
	lines := []string{p.Rule("limits", right, width)}
	return append(lines, look.Beside(len(blocks[0]), each, blocks...)...)
}

// limitLine is a limit, what was measured, and whether it holds so far.
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
	text := fmt.Sprintf("%s: %s, %s %s", word, figure(j.Measured), j.Limit.Rule.Words(), figure(j.Limit.Value))
	if j.Without > 0 {
		text += fmt.Sprintf(", without %d busy s", j.Without)
	}
	return p.Line(p.Draw(signal.Ink(), signal.Shape())+" "+plain.Text(j.Limit.Name, 40), each, 0, text)
}

const troubleShown = 4

// troubleLines tells of the newest messages with something wrong.
func troubleLines(p *look.Palette, s *run.Snapshot, width int) []string {
	if len(s.Kept) == 0 {
		return nil
	}
	total := len(s.Kept) + s.Unkept
	lines := []string{p.Rule("problems", p.Draw(look.Faint, units.Count(int64(total))+
		" messages with one in all, the newest kept ones here; 3 has them all"), width)}
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
	text := fmt.Sprintf("message %d by %s in %s, owed to %d", m.Number, plain.Text(s.ClientName(m.Sender), 30),
		plain.Text(s.Rooms[m.Room], 30), m.Owed)
	if len(m.Outcomes) > 0 {
		o := m.Outcomes[0]
		text += fmt.Sprintf(": %s at %s", o.Fate, plain.Text(s.ClientName(o.Client), 30))
	}
	if wrong := m.Problems(); wrong > 1 {
		text += fmt.Sprintf(", and %d more problems", wrong-1)
	}
	return p.Draw(signal.Ink(), signal.Shape()) + " " + text
}
