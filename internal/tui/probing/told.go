package probing

import (
	"math"
	"strconv"
	"strings"
	"time"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/capture/probe"
	"tidepull/internal/tui/look"
	"tidepull/internal/wire/jsonscan"
)

// A told is a number in the messages that is drawn against time.
type told struct {
	path  string
	table jsonscan.Table
	found [1]jsonscan.Value
}

// tells makes it of where the number stands, such as berth.depth; nil for nothing.
func tells(path string) *told {
	path = strings.TrimPrefix(path, "msg.")
	if path == "" {
		return nil
	}
	t := &told{path: path}
	t.table.Add(strings.Split(path, ".")...)
	return t
}

// in gives the number in a message, if it has one.
func (t *told) in(e *probe.Event) (v float64, ok bool) {
	if e.What != probe.In || len(e.Message) == 0 || t.table.Extract(e.Message, t.found[:]) != nil ||
		t.found[0].Kind != jsonscan.Number {
		return 0, false
	}
	v, err := strconv.ParseFloat(string(t.found[0].Raw), 64)
	return v, err == nil && !math.IsInf(v, 0)
}

// A point is a number that came.
type point struct {
	at time.Time
	v  float64
}

// note keeps the number in an event of a lane, if it has one.
func (t *told) note(l *lane, e *probe.Event) {
	v, ok := t.in(e)
	if !ok {
		return
	}
	if l.told = append(l.told, point{e.At, v}); len(l.told) > maxEvents {
		l.told = l.told[1:]
	}
}

// draws has the number in the messages drawn that stands somewhere; nothing if that is empty.
func (m *Model) draws(path string) {
	m.drawn = tells(path)
	for _, l := range m.lanes {
		l.told = nil
		for i := range l.events {
			if m.drawn != nil {
				m.drawn.note(l, &l.events[i])
			}
		}
	}
}

// toldRows is how many lines a drawing takes.
const toldRows = 9

// draw draws the number in the messages that came to a lane.
func (t *told) draw(p *look.Palette, l *lane, width int) []string {
	all := l.told
	least, most := math.Inf(1), math.Inf(-1)
	for _, q := range all {
		least, most = min(least, q.v), max(most, q.v)
	}
	label := plain.Text(t.path, 40)
	if len(all) == 0 {
		return []string{p.Rule(label, "", width), p.Draw(look.Faint, "no message so far has a number there")}
	}
	number := func(v float64) string { return strconv.FormatFloat(v, 'g', 4, 64) }
	span := max(time.Millisecond, all[len(all)-1].at.Sub(all[0].at))
	lines := []string{p.Rule(label, p.Draw(look.Faint, units.Count(int64(len(all)))+" in "+
		units.Round(span.Round(time.Millisecond))+", last "+number(all[len(all)-1].v)), width)}
	d := look.NewDots(max(1, width-look.Gutter), toldRows-2)
	height := 4*d.Height - 1
	x := func(i int) int { return int(float64(all[i].at.Sub(all[0].at)) / float64(span) * float64(2*d.Width-1)) }
	for i := range all {
		y := height / 2
		if most > least {
			y = height - int(math.Round((all[i].v-least)/(most-least)*float64(height)))
		}
		d.Dot(x(i), y, look.Text)
		if i+1 < len(all) { // it holds until the next comes
			for k := x(i) + 1; k < x(i+1); k++ {
				d.Dot(k, y, look.Water)
			}
		}
	}
	lines = append(lines, d.Scaled(p, number(most), "", number(least))...)
	return append(lines, p.Rule("what came and went", "", width))
}
