package lanes

import (
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/capture/probe"
	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/mark"
	"tidepull/internal/run"
	"tidepull/internal/tui/look"
	"tidepull/internal/tui/scene"
)

// clock is the column of times.
const clock = 10

// quiet is how long nothing must happen to be folded.
const quiet = 400 * time.Millisecond

// View draws the view below the tide. span is the window on the run, if one
// is set.
func (m *Model) View(sc scene.Scene, span scene.Span) []string {
	m.onScreen = nil
	m.arrange(sc, span)
	p := sc.Palette
	right := fmt.Sprintf("%s, %s, %s of %d", filters[m.filter].name, sc.Label,
		units.Count(int64(min(len(m.rows), m.cursor+1))), len(m.rows))
	lines := []string{p.Rule("lanes of clients "+m.label, p.Draw(look.Faint, right), sc.Width)}
	if m.typing {
		lines = append(lines, m.input.View())
	}
	if m.notice != "" {
		lines = append(lines, p.Draw(look.Beware, m.notice))
	}
	if len(m.clients) == 0 {
		return append(lines, p.Draw(look.Faint, "nothing has happened yet"))
	}
	lines = append(lines, m.names(sc))
	var panel []string
	if m.open && len(m.rows) > 0 {
		panel = m.panel(sc, min(max(4, sc.Height/3), sc.Height-len(lines)-2))
	}
	room := max(1, sc.Height-len(lines)-len(panel))
	m.top = len(lines)
	lines = append(lines, m.draw(sc, room)...)
	return append(lines, panel...)
}

// middle is the column of a lane.
func (m *Model) middle(i, width int) int {
	each := (width - clock) / len(m.clients)
	return clock + i*each + min(each/3, 14)
}

// names stand above the lanes, each over the middle of its own.
func (m *Model) names(sc scene.Scene) string {
	d := look.NewDots(sc.Width, 1)
	for i, c := range m.clients {
		x := m.middle(i, sc.Width)
		each := (sc.Width - clock) / len(m.clients)
		name := look.Name(plain.Text(sc.Run.ClientName(c), 0), each-2)
		d.Text(max(clock, x-len([]rune(name))/2), 0, name, look.Strong)
	}
	return d.Lines(sc.Palette)[0]
}

// A line is a row, or quiet time between two.
type line struct {
	row    int // -1: quiet
	gap    time.Duration
	before int // of quiet: the row before it
}

// lines are the rows and the quiet between them, around the cursor.
func (m *Model) lines(room int) (all []line, at int) {
	add := func(i int) (n []line) {
		if i > 0 {
			if gap := m.rows[i].Rec.At - m.rows[i-1].Rec.At; gap >= quiet {
				n = append(n, line{-1, gap, i - 1})
				if m.unfolded {
					for range min(20, int(gap/(100*time.Millisecond))) {
						n = append(n, line{-1, 0, i - 1})
					}
				}
			}
		}
		return append(n, line{i, 0, i - 1})
	}
	// Backwards from the cursor, and forwards from there.
	var before []line
	for i := m.cursor; i >= 0 && len(before) < room; i-- {
		before = append(add(i), before...)
	}
	half := room * 2 / 3
	var behind []line
	for i := m.cursor + 1; i < len(m.rows) && len(behind) < room; i++ {
		behind = append(behind, add(i)...)
	}
	if len(before) > half {
		cut := max(half, room-len(behind))
		before = before[max(0, len(before)-cut):]
	}
	all = append(before, behind...)
	return all[:min(len(all), room)], len(before) - 1
}

// draw draws as many rows as there is room for, around the one at hand.
func (m *Model) draw(sc scene.Scene, room int) []string {
	if len(m.rows) == 0 {
		return []string{sc.Palette.Draw(look.Faint, "nothing of these clients is kept here; f shows more, g picks "+
			"others")}
	}
	lines, at := m.lines(room)
	m.onScreen = lines
	d := look.NewDots(sc.Width, len(lines))
	for y, l := range lines {
		if l.row < 0 {
			m.drawQuiet(d, y, l, sc.Width)
			continue
		}
		m.drawRow(d, y, sc, &m.rows[l.row], l.row == m.cursor)
	}
	out := d.Lines(sc.Palette)
	if at >= 0 && at < len(out) {
		out[at] = sc.Palette.Draw(look.Strong, "▸") + strings.TrimPrefix(out[at], " ")
	}
	return out
}

// lifelines draws the lanes themselves.
func (m *Model) lifelines(d *look.Dots, y int, states [lane.MaxLanes]lane.State, width int) {
	for i := range m.clients {
		x := m.middle(i, width)
		switch states[i] {
		case lane.Away:
			d.Char(x, y, '┊', look.Faint)
		case lane.Connected:
			d.Char(x, y, '│', look.Deep)
		default:
			d.Char(x, y, '┃', look.Deep)
		}
	}
}

func (m *Model) drawQuiet(d *look.Dots, y int, l line, width int) {
	m.lifelines(d, y, m.rows[max(0, l.before)].States, width)
	if l.gap > 0 {
		d.Text(1, y, "~ "+units.Duration(l.gap.Round(10*time.Millisecond)), look.Faint)
	}
}

// inkOf gives the ink of a record.
func inkOf(r *lane.Record) look.Ink {
	switch r.What {
	case lane.Said, lane.Requested:
		return look.Plan
	case lane.Lost, lane.Failed:
		return look.Lost
	case lane.Broke, lane.Refused, lane.Denied:
		return look.Danger
	case lane.Entered, lane.Held, lane.CameBack:
		return look.Good
	case lane.Got:
		switch r.Fate {
		case ledger.Delivered:
			return look.Water
		case ledger.Allowed, ledger.Past:
			return look.Deep
		case ledger.Stray, ledger.Altered:
			return look.Danger
		}
		return look.Beware
	case lane.Misbehaved, lane.Evicted, lane.Impaired:
		return look.Beware
	case lane.Beat, lane.Ignored, lane.Heard:
		return look.Faint
	}
	return look.Text
}

// drawRow draws one happening: a stroke from lane to lane if it has two ends, else a sign on its lane.
func (m *Model) drawRow(d *look.Dots, y int, sc scene.Scene, r *lane.Row, here bool) {
	m.lifelines(d, y, r.States, sc.Width)
	clockInk := look.Faint
	if here {
		clockInk = look.Strong
	}
	d.Text(1, y, stamp(r.Rec.At), clockInk)
	ink := inkOf(&r.Rec)
	if r.Rec.What == lane.Printed {
		d.Text(clock, y, look.Clip("▒ "+words(sc, r), sc.Width-clock), look.Plan)
		return
	}
	x := m.middle(r.Lane, sc.Width)
	each := (sc.Width - clock) / len(m.clients)
	text := words(sc, r)
	switch r.Rec.What {
	case lane.Got:
		m.drawStroke(d, y, sc, r, ink, text)
		return
	case lane.Lost:
		m.drawLoss(d, y, sc, r, text)
		return
	case lane.Said:
		d.Char(x, y, '●', ink)
	case lane.Beat:
		d.Char(x, y, '┼', ink)
	case lane.Ignored:
		d.Char(x, y, '─', ink)
	case lane.Failed, lane.Refused, lane.Denied:
		d.Char(x, y, '╳', ink)
	case lane.Broke:
		d.Char(x, y, '╳', ink)
	case lane.Held:
		d.Char(x, y, '▲', ink)
	default:
		d.Char(x, y, '○', ink)
	}
	d.Text(x+2, y, look.Clip(text, max(0, min(each-3, sc.Width-x-2))), ink)
}

// drawStroke draws a message that reaches a lane.
func (m *Model) drawStroke(d *look.Dots, y int, sc scene.Scene, r *lane.Row, ink look.Ink, text string) {
	x := m.middle(r.Lane, sc.Width)
	each := (sc.Width - clock) / len(m.clients)
	dash := '─'
	switch r.Rec.Fate {
	case ledger.Duplicate:
		dash = '═'
	case ledger.Stray, ledger.Altered, ledger.Reordered, ledger.Disagreed, ledger.Late, ledger.Overdue:
		dash = '┄'
	}
	from := m.middle(max(0, r.From), sc.Width)
	switch {
	case r.From < 0 || r.Rec.Fate == ledger.Stray: // from nowhere that is shown
		start := max(clock, x-min(each*2/3, 12))
		for i := start; i < x-1; i++ {
			d.Char(i, y, dash, ink)
		}
		d.Char(x-1, y, '▶', ink)
	case r.From == r.Lane: // its own
		d.Char(x, y, '◆', ink)
	case from < x:
		m.dash(d, y, from+1, x-1, sc.Width, dash, ink)
		d.Char(x-1, y, '▶', ink)
	default:
		m.dash(d, y, x+2, from, sc.Width, dash, ink)
		d.Char(x+1, y, '◀', ink)
	}
	at := x + 2
	if r.From > r.Lane && r.Rec.Fate != ledger.Stray {
		at = x + 3
		text = text + " "
		text = " " + text
	}
	d.Text(at, y, look.Clip(text, max(0, min(each-3, sc.Width-at))), ink)
}

// dash draws a stroke from a column to another; the lanes that it crosses stay.
func (m *Model) dash(d *look.Dots, y, from, to, width int, r rune, ink look.Ink) {
	for x := from; x < to; x++ {
		d.Char(x, y, r, ink)
	}
	for i := range m.clients {
		if x := m.middle(i, width); x >= from && x < to {
			d.Char(x, y, '┼', ink)
		}
	}
}

// drawLoss draws a message that ends in nothing.
func (m *Model) drawLoss(d *look.Dots, y int, sc scene.Scene, r *lane.Row, text string) {
	x := m.middle(r.Lane, sc.Width)
	each := (sc.Width - clock) / len(m.clients)
	from, end := x-min(each*2/3, 12), x-3
	step := 1
	if r.From >= 0 && r.From != r.Lane {
		if from = m.middle(r.From, sc.Width) + 1; from > x {
			from, end, step = from-2, x+3, -1
		}
	}
	m.dash(d, y, max(clock, min(from, end)), max(from, end)+1, sc.Width, '╌', look.Lost)
	d.Char(end, y, '╳', look.Lost)
	at := x + 2
	if step < 0 {
		at, text = x+4, " "+text+" "
	}
	d.Text(at, y, look.Clip(text, max(0, min(each-3, sc.Width-at))), look.Lost)
}

func stamp(at time.Duration) string {
	return fmt.Sprintf("%8.3f", at.Seconds())
}

// words says what a row is.
func words(sc scene.Scene, r *lane.Row) string {
	rec := &r.Rec
	room := ""
	if rec.Room >= 0 && int(rec.Room) < len(sc.Run.Rooms) {
		room = plain.Text(sc.Run.Rooms[rec.Room], 30)
	}
	who := plain.Text(sc.Run.ClientName(rec.Peer), 24)
	check := ""
	if int(rec.Number) < len(sc.Run.Trial.Checks) {
		check = plain.Text(sc.Run.Trial.Checks[rec.Number].Name, 40)
	}
	switch rec.What {
	case lane.Said:
		if rec.Kind == ledger.Whisper {
			return fmt.Sprintf("#%d to %s", rec.Number, who) + says(sc, rec)
		}
		return fmt.Sprintf("#%d in %s", rec.Number, room) + says(sc, rec)
	case lane.Got:
		if rec.Number >= lane.NoMessage {
			return fmt.Sprintf("the server said that %s %s, which is not so", who,
				map[bool]string{true: "left", false: "joined"}[rec.Kind == ledger.Gone])
		}
		text := units.Duration(rec.Took)
		if r.From < 0 || rec.Fate == ledger.Stray {
			text += " from " + who
		}
		if rec.Fate != ledger.Delivered {
			text = rec.Fate.String() + ", " + text
		}
		if !rec.Kind.Said() {
			text = rec.Kind.String() + " " + text
		}
		return fmt.Sprintf("#%d %s", rec.Number, text) + says(sc, rec)
	case lane.Lost:
		return fmt.Sprintf("#%d lost, from %s", rec.Number, who)
	case lane.Heard:
		return "heard " + units.Bytes(float64(rec.Size)) + says(sc, rec)
	case lane.Beat:
		return "beat"
	case lane.Ignored:
		return "beat, not answered"
	case lane.Entered, lane.Left:
		return rec.What.String() + " " + room
	case lane.Held:
		return check
	case lane.Failed:
		return "failed: " + check
	case lane.Printed:
		if int(rec.Number) < len(sc.Run.ServerSide.Lines) {
			return sc.Run.ServerSide.Lines[rec.Number].Text // made plain when it was read
		}
	case lane.Answered:
		return fmt.Sprintf("answered %d", rec.Number)
	}
	return rec.What.String()
}

// says is what a message says, behind what else is said of it: of JSON its
// longest text, and of anything else the beginning.
func says(sc scene.Scene, rec *lane.Record) string {
	b := body(sc.Run, rec)
	if b == nil {
		return ""
	}
	text := string(b.Text[:min(len(b.Text), 240)])
	var fields map[string]any
	if json.Unmarshal(b.Text, &fields) == nil {
		longest := ""
		for _, v := range fields {
			if s, ok := v.(string); ok && (len(s) > len(longest) || len(s) == len(longest) && s < longest) {
				longest = s
			}
		}
		if longest != "" {
			text = longest
		}
	}
	return ": " + plain.Text(short(text, sc.Run.ClientName(senderOf(rec))), 120)
}

// senderOf is who said the message of a record.
func senderOf(r *lane.Record) ledger.Client {
	if r.What == lane.Said {
		return r.Client
	}
	return r.Peer
}

// short takes out of a text what says nothing here: the mark, and at the front the name of who said it.
func short(text, sender string) string {
	if _, end := mark.Find([]byte(text)); end >= mark.Len {
		if _, alone := mark.Find([]byte(text[end-mark.Len : end])); alone == mark.Len { // it is not in its binary form
			text = text[:end-mark.Len] + text[end:]
		}
	}
	if rest, is := strings.CutPrefix(text, sender); is && sender != "" {
		text = strings.TrimLeft(rest, ": ")
	}
	return strings.TrimSpace(text)
}

// panel shows what the message under the cursor says.
func (m *Model) panel(sc scene.Scene, height int) []string {
	r := &m.rows[m.cursor].Rec
	p := sc.Palette
	whom := plain.Text(sc.Run.ClientName(r.Client), 40)
	if r.What == lane.Printed {
		whom = "the server"
	}
	title := fmt.Sprintf("what happened to %s at %.6f s: %s", whom, r.At.Seconds(), words(sc, &m.rows[m.cursor]))
	lines := []string{p.Rule(title, "", sc.Width)}
	switch b := body(sc.Run, r); {
	case r.What == lane.Printed:
		lines = append(lines, words(sc, &m.rows[m.cursor]))
	case b == nil && r.Fate == ledger.Altered:
		lines = append(lines, p.Draw(look.Faint, "what came of it here is not kept: it is of the first of each sort "+
			"of "+
			"change"))
	case b == nil:
		lines = append(lines, p.Draw(look.Faint, "what it says is not kept"))
	default:
		if d := sc.Run.DifferenceOf(r.Number, r.Client); d != nil && r.Fate == ledger.Altered {
			lines = append(lines, p.Draw(look.Beware, plain.Text(run.DifferenceWords(d, true), 0)))
		}
		lines = append(lines, probe.PayloadLines(b.Text, m.asBytes)...)
		if b.Cut {
			lines = append(lines, p.Draw(look.Faint, "and more, which is not kept"))
		}
	}
	if height < 2 {
		return nil
	}
	if len(lines) > height {
		lines = append(lines[:height-1:height-1], p.Draw(look.Faint,
			fmt.Sprintf("... %d lines more", len(lines)-height+1)))
	}
	for len(lines) < height {
		lines = append(lines, "")
	}
	return lines
}
