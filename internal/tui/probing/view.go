package probing

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/capture/probe"
	"tidepull/internal/tui/look"
)

func sorted(events []probe.Event) []probe.Event {
	slices.SortStableFunc(events, func(a, b probe.Event) int { return a.At.Compare(b.At) })
	return events
}

// View draws the view, without header and footer.
func (m *Model) View(p *look.Palette, width, height int) []string {
	n := len(m.lanes)
	each := (width - (n-1)*look.ColumnGap) / n
	room := max(1, height-3)
	blocks := make([][]string, n)
	for i, l := range m.lanes {
		blocks[i] = m.lane(p, l, i, each, room)
	}
	lines := look.Beside(room+1, each, blocks...)
	lines = append(lines, p.Rule("to client "+fmt.Sprint(m.at+1), "", width))
	m.input.SetWidth(max(10, width-len(m.input.Prompt)-2))
	return append(lines, look.Fit(m.input.View(), width))
}

// lane draws one client.
func (m *Model) lane(p *look.Palette, l *lane, i, width, height int) []string {
	label := fmt.Sprintf("client %d", i+1)
	if i == m.at && len(m.lanes) > 1 {
		label = p.Draw(look.Strong, "▸ "+label)
	}
	head := p.Rule(label+p.Draw(look.Faint, " at ")+look.Clip(plain.Text(l.target.URL, 0), max(8, width-34)),
		state(p, l), width)
	var drawn []string
	if m.drawn != nil && height > 2*toldRows {
		drawn = m.drawn.draw(p, l, width)
		height -= len(drawn)
	}
	// From the newest back, and no further than is seen: there may be thousands.
	var blocks [][]string
	have := 0
	for k := len(l.events) - 1; k >= 0 && have < height+l.back; k-- {
		blocks = append(blocks, drawEvent(p, l, k, width))
		have += len(blocks[len(blocks)-1])
	}
	slices.Reverse(blocks)
	lines := slices.Concat(blocks...)
	l.back = min(l.back, max(0, len(lines)-height))
	end := len(lines) - l.back
	lines = lines[max(0, end-height):end]
	if l.dropped > 0 && len(lines) > 1 {
		lines[0] = p.Draw(look.Beware, fmt.Sprintf("%s events came faster than they can be drawn and are not kept",
			units.Count(int64(l.dropped))))
	}
	return slices.Concat([]string{head}, drawn, lines)
}

// drawEvent draws the k-th event of a lane.
func drawEvent(p *look.Palette, l *lane, k, width int) (lines []string) {
	e := &l.events[k]
	if e.What == probe.Phase {
		var phases []time.Duration
		for i := k; i >= 0; i-- {
			if l.events[i].What == probe.Phase {
				if phases = append(phases, l.events[i].Took); l.events[i].Phase == "name lookup" {
					break
				}
			}
		}
		slices.Reverse(phases)
		return []string{phaseLine(p, e, phases, l, k, width)}
	}
	if e.What == probe.Request && k > 0 && l.events[k-1].What == probe.Ended {
		lines = append(lines, "")
	}
	return append(lines, eventLines(p, e, width, l.unfolded)...)
}

// state says how a line's connection stands: what happened to it last counts.
func state(p *look.Palette, l *lane) string {
	for k := len(l.events) - 1; k >= 0; k-- {
		switch e := &l.events[k]; e.What {
		case probe.Opened:
			return p.Signal(look.AllWell, "open")
		case probe.Refused:
			return p.Signal(look.SomethingLost, "refused")
		case probe.Ended:
			if e.By == "refused" {
				return p.Signal(look.SomethingLost, "refused")
			}
			return p.Draw(look.Faint, "closed by "+e.By)
		case probe.Phase, probe.Request:
			return p.Draw(look.Plan, "connecting")
		}
	}
	return p.Draw(look.Plan, "connecting")
}

// barWidth is how many characters the time of all phases together has.
const barWidth = 14

// phaseLine draws a phase and where in the time of the connection it lies.
func phaseLine(p *look.Palette, e *probe.Event, phases []time.Duration, l *lane, k, width int) string {
	total := time.Duration(0)
	for _, d := range phases {
		total += d
	}
	before := total - e.Took
	for i := k + 1; i < len(l.events) && l.events[i].What != probe.Ended; i++ {
		if l.events[i].What == probe.Phase {
			total += l.events[i].Took
		}
	}
	from, to := 0, 1
	if total > 0 {
		from = int(float64(before) / float64(total) * barWidth)
		to = max(from+1, int(float64(before+e.Took)/float64(total)*barWidth+0.5))
	}
	from, to = min(from, barWidth-1), min(to, barWidth)
	bar := p.Draw(look.Faint, strings.Repeat("·", from)) + p.Draw(look.Water,
		strings.Repeat("▄", to-from)) + p.Draw(look.Faint, strings.Repeat("·", barWidth-to))
	text := fmt.Sprintf("%-11s ", e.Phase) + bar + look.Right(units.Duration(e.Took), 10)
	return look.Fit(text+"  "+p.Draw(look.Faint, plain.Text(e.Detail, 0)), width)
}

// since is the column of times.
const since = 9

// eventLines draws an event in a lane.
func eventLines(p *look.Palette, e *probe.Event, width int, unfolded bool) []string {
	head, rest := probe.Lines(e)
	ink := look.Text
	switch e.What {
	case probe.In:
		ink = look.Water
	case probe.Out:
		ink = look.Plan
	case probe.Refused:
		ink = look.Lost
	case probe.Unsent:
		ink = look.Beware
	case probe.Opened:
		ink = look.Good
	case probe.Ended:
		ink = look.Strong
	}
	folded := ""
	switch e.What {
	case probe.In, probe.Out:
		if !unfolded {
			if folded = e.Text; e.Op == "binary" || e.Binary {
				folded = fmt.Sprintf("% x", e.Payload[:min(len(e.Payload), 64)])
			}
			rest = nil
			if e.Why != "" {
				rest = []string{"WRONG: " + plain.Text(e.Why, 0)}
			}
		}
	case probe.Request, probe.Answer:
		if len(rest) > 3 && !unfolded && e.What == probe.Request {
			head += fmt.Sprintf(", %d fields", len(rest))
			rest = nil
		}
	}
	time := look.Right("+"+units.Duration(e.Since), since) + " "
	var lines []string
	if folded != "" {
		line := p.Draw(look.Faint, time) + p.Draw(ink, head) + "  " + plain.Text(folded, 0)
		lines = append(lines, look.Fit(line, width))
	} else {
		for i, part := range strings.Split(ansi.Wrap(head, max(10, width-since-1), ""), "\n") {
			lead := strings.Repeat(" ", since+1)
			if i == 0 {
				lead = p.Draw(look.Faint, time)
			}
			lines = append(lines, lead+p.Draw(ink, part))
		}
	}
	for _, r := range rest {
		ink := look.Faint
		if e.What == probe.In || e.What == probe.Out {
			ink = look.Text
		}
		if e.What == probe.Refused {
			ink = look.Beware
		}
		for _, part := range strings.Split(ansi.Wrap(r, max(10, width-since-3), ""), "\n") {
			lines = append(lines, strings.Repeat(" ", since+3)+p.Draw(ink, part))
		}
	}
	return lines
}
