// Package balance is the Ledger view: who was owed what, and what became of
// it. From the sheet it goes down into a room, a message and a client.
package balance

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/run"
	"tidepull/internal/tui/look"
	"tidepull/internal/tui/scene"
	"tidepull/internal/tui/watch"
)

// Help explains the view in words.
const Help = `Ledger answers: who was owed what, and what became of it?

The sheet adds up: owed is delivered, late, lost, excused and open, in each line
and in the sum. Beside it stand arrivals that nobody was owed.

b groups the sheet by room, crew or kind of message. enter goes down: into a line
(its messages with problems, then a sample of the good ones), into a message (who
got it when, who did not, and why), into a client (its life, and what it missed).
esc comes back up.

  sent: messages; all else counts deliveries
  lost: its recipient was a confirmed member when it was sent, stayed, and did not get it within the grace time
  excused: the recipient left, was cut off before it could be expected, or read slowly on purpose
  duplicate, stray: it came again; it came to someone who should not have it
  defects: reordered, out of the others' order, or altered; they come on top of the others
  allowed, history: it came to someone who was just entering or leaving; it came as history
  checks: what the trial looks at again and again, and how often that passed and failed`

// A place is one level that the user has gone down to.
type place struct {
	what   what
	key    int // the line's key, the message's number, or the client
	cursor int
}

type what uint8

const (
	sheet what = iota
	line
	message
	client
)

// A Model is the view's state: how the sheet is ordered, and where the user is
// in it. The zero value is the sheet by room.
type Model struct {
	by     int // room, crew, kind
	cursor int // in the sheet
	down   []place
}

var orders = []string{"room", "crew", "kind"}

// Update handles the view's keys; done reports whether the key was one.
func (m Model) Update(msg tea.KeyPressMsg, sc scene.Scene) (next Model, done bool) {
	m.down = append([]place(nil), m.down...)
	cursor := &m.cursor
	if n := len(m.down); n > 0 {
		cursor = &m.down[n-1].cursor
	}
	rows := m.rows(sc)
	*cursor = min(*cursor, max(0, len(rows)-1))
	switch msg.String() {
	case "up", "k":
		*cursor = max(0, *cursor-1)
	case "down", "j":
		*cursor = min(*cursor+1, max(0, len(rows)-1))
	case "pgup":
		*cursor = max(0, *cursor-10)
	case "pgdown":
		*cursor = min(*cursor+10, max(0, len(rows)-1))
	case "b":
		m.by, m.cursor, m.down = (m.by+1)%len(orders), 0, nil
	case "enter":
		if *cursor < len(rows) && rows[*cursor].to != nil {
			m.down = append(m.down, *rows[*cursor].to)
		}
	case "esc":
		if len(m.down) == 0 {
			return m, false
		}
		m.down = m.down[:len(m.down)-1]
	default:
		return m, false
	}
	return m, true
}

// A row is one line that can be gone into, where to is set.
type row struct {
	text string
	to   *place
}

func (m Model) here() place {
	if n := len(m.down); n > 0 {
		return m.down[n-1]
	}
	return place{what: sheet, cursor: m.cursor}
}

// View draws the view.
func (m Model) View(sc scene.Scene) []string {
	here := m.here()
	lines := []string{sc.Palette.Rule(m.title(sc, here), sc.Palette.Draw(look.Faint, sc.Label), sc.Width)}
	lines = append(lines, m.head(sc, here)...)
	foot := m.foot(sc, here)
	rows := m.rows(sc)
	room := max(1, sc.Height-len(lines)-len(foot))
	from := min(max(0, here.cursor-room+1), max(0, len(rows)-room))
	for i := from; i < min(len(rows), from+room); i++ {
		pointer := "  "
		if i == here.cursor {
			pointer = sc.Palette.Draw(look.Strong, "▸ ")
		}
		lines = append(lines, look.Fit(pointer+rows[i].text, sc.Width))
	}
	if len(rows) == 0 {
		lines = append(lines, "  "+sc.Palette.Draw(look.Faint, "nothing to show here"))
	}
	return append(lines, foot...)
}

// title names what is open, for the line above it.
func (m Model) title(sc scene.Scene, here place) string {
	switch here.what {
	case line:
		return orders[m.by] + " " + m.name(sc, here.key)
	case message:
		return fmt.Sprintf("message %d", here.key)
	case client:
		return "client " + plain.Text(sc.Run.ClientName(int32(here.key)), 40)
	}
	return "ledger by " + orders[m.by]
}

// name is what a line of the sheet is about, in the order at hand.
func (m Model) name(sc scene.Scene, key int) string {
	switch {
	case m.by == 0 && key < len(sc.Run.Rooms):
		return plain.Text(sc.Run.Rooms[key], 24)
	case m.by == 1 && key < len(sc.Run.Trial.Crews):
		return plain.Text(sc.Run.Trial.Crews[key].Name, 24)
	case m.by == 2:
		return ledger.Kind(key).String()
	}
	return fmt.Sprint(key)
}

// key is what the ledger's cells are summed up by, in the order at hand.
func (m Model) key(c ledger.Cell) int { return []int{int(c.Room), int(c.Crew), int(c.Kind)}[m.by] }

// A field is a column of the sheet.
type field struct {
	name  string
	of    func(*ledger.Tally) int64
	wrong look.Ink
}

// fields are the columns, the more important ones first: narrow screens show less.
var fields = func() []field {
	fate := func(f ledger.Fate) field {
		return field{f.Title(), func(t *ledger.Tally) int64 { return *t.Of(f) }, scene.InkOf(f)}
	}
	return []field{
		{"sent", func(t *ledger.Tally) int64 { return t.Said }, look.Text},
		{"owed", func(t *ledger.Tally) int64 { return t.Owed }, look.Text}, fate(ledger.Delivered), fate(ledger.Late),
		fate(ledger.Lost), fate(ledger.Excused), {"open", (*ledger.Tally).Open, look.Text}, fate(ledger.Duplicate),
		fate(ledger.Stray), {"defects", (*ledger.Tally).Defects, look.Beware}, fate(ledger.Allowed), fate(ledger.Past),
		fate(ledger.CaughtUp),
	}
}()

const (
	nameWidth  = 16
	fieldWidth = 11
)

func fieldsShown(width int) int {
	return min(len(fields), max(3, (width-nameWidth-2)/fieldWidth))
}

// tallyLine is one line of the sheet: only what is wrong has an ink of its own.
func (m Model) tallyLine(sc scene.Scene, name string, t *ledger.Tally) string {
	s := look.Fit(name, nameWidth)
	for _, f := range fields[:fieldsShown(sc.Width)] {
		v := f.of(t)
		ink := f.wrong
		if v == 0 {
			ink = look.Text
		}
		s += look.Right(sc.Palette.Draw(ink, units.Count(v)), fieldWidth)
	}
	return s
}

// head stands above the rows and does not scroll with them.
func (m Model) head(sc scene.Scene, here place) []string {
	p := sc.Palette
	switch here.what {
	case sheet:
		s := look.Fit("", nameWidth+2)
		for _, f := range fields[:fieldsShown(sc.Width)] {
			s += look.Right(f.name, fieldWidth)
		}
		return append(common(sc), p.Draw(look.Faint, s))
	case message:
		if msg := sc.Run.Message(uint64(here.key)); msg != nil {
			return messageHead(sc, msg)
		}
	case client:
		return clientHead(sc, int32(here.key))
	}
	return nil
}

// common says what the deliveries that went wrong have in common.
func common(sc scene.Scene) (lines []string) {
	for _, shared := range sc.Run.Shared {
		lines = append(lines, look.Fit(sc.Palette.Signal(look.SomethingLost, "in common")+"  "+
			plain.Text(shared.Says, 300), sc.Width))
	}
	return lines
}

// foot sums the sheet up, and says whether the books of clients, ledger and meters agree.
func (m Model) foot(sc scene.Scene, here place) []string {
	if here.what != sheet {
		return nil
	}
	why, signal := "adds up", look.AllWell
	if problem := sc.Run.Total.Imbalance(); problem != "" {
		why, signal = problem, look.InDanger
	}
	return append([]string{
		sc.Palette.Draw(look.Faint, strings.Repeat("─", sc.Width)),
		"  " + m.tallyLine(sc, "sum", &sc.Window.Total),
		"  " + sc.Palette.Signal(signal, why),
	}, checks(sc)...)
}

// checks lists the trial's checks, those that failed first, and the final checks,
// as far as there is room.
func checks(sc scene.Scene) (lines []string) {
	p := sc.Palette
	all := run.ChecksOf(sc.Run.Trial, sc.Window)
	slices.SortStableFunc(all, func(a, b run.CheckSummary) int {
		return cmp.Compare(min(1, b.Failed), min(1, a.Failed))
	})
	most := max(0, min(len(all), (sc.Height-8)/2))
	if most == 0 {
		return nil
	}
	each := min(sc.Width, 110)
	lines = append(lines, "", p.Heading("checks", each, 12, "passed", "failed"))
	for _, c := range all[:most] {
		name := look.Fit(plain.Text(c.Kind, 12), 13) + plain.Text(c.Name, 60)
		failed := units.Count(c.Failed)
		if c.Failed > 0 {
			failed = p.Draw(look.Beware, failed)
		}
		lines = append(lines, "  "+p.Line(name, each-2, 12, units.Count(c.Held), failed))
	}
	if most < len(all) {
		lines = append(lines, p.Draw(look.Faint, fmt.Sprintf("  and %d more", len(all)-most)))
	}
	lines = append(lines, watch.WordLines(p, sc.Run, sc.Width, max(2, sc.Height/6))...)
	for _, r := range sc.Run.FinalResults {
		signal := map[run.Verdict]look.Signal{run.Holds: look.AllWell, run.Broken: look.SomethingLost,
			run.NotProven: look.Attention}[r.Verdict]
		lines = append(lines, look.Fit("  "+p.Signal(signal, "final_check "+plain.Text(r.Name, 40)+" "+
			string(r.Verdict))+"  "+p.Draw(look.Faint, plain.Text(r.Why, 200)), sc.Width))
	}
	return lines
}

// rows are those of what is open: the sheet, a line's messages, a message's recipients, a client's life.
func (m Model) rows(sc scene.Scene) []row {
	here := m.here()
	switch here.what {
	case line:
		return m.messages(sc, here.key)
	case message:
		return outcomes(sc, uint64(here.key))
	case client:
		return life(sc, int32(here.key))
	}
	var rows []row
	for _, l := range sc.Window.By(m.key) {
		rows = append(rows, row{m.tallyLine(sc, m.name(sc, l.Key), &l.Tally), &place{what: line, key: l.Key}})
	}
	return rows
}

// messages lists the kept messages of a line, those of the window, the ones
// with something wrong first.
func (m Model) messages(sc scene.Scene, key int) []row {
	var rows []row
	for _, list := range [][]ledger.Message{sc.Run.Kept, sc.Run.Sampled} {
		for i := range list {
			msg := &list[i]
			if m.concerns(sc, msg, key) && sc.Holds(msg.Due) {
				text := good(sc, msg)
				if msg.Problems() > 0 {
					text = at(msg) + "  " + watch.Describe(sc.Palette, sc.Run, msg)
				}
				rows = append(rows, row{text, &place{what: message, key: int(msg.Number)}})
			}
		}
	}
	return rows
}

// concerns reports whether a kept message belongs to a line of the sheet. By crew that follows from who got
// it, or should have.
func (m Model) concerns(sc scene.Scene, msg *ledger.Message, key int) bool {
	switch m.by {
	case 0:
		return int(msg.Room) == key
	case 2:
		return int(msg.Kind) == key
	}
	if len(msg.Outcomes) == 0 {
		return false
	}
	for _, o := range msg.Outcomes {
		if sc.Run.CrewOf(o.Client) == key {
			return true
		}
	}
	return false
}

func at(msg *ledger.Message) string { return clock(time.Duration(msg.Due)) }

func clock(d time.Duration) string {
	return fmt.Sprintf("%8s.%03d", units.Clock(d), d.Milliseconds()%1000)
}

func good(sc scene.Scene, msg *ledger.Message) string {
	return fmt.Sprintf("%s  %s message %d by %s in %s, owed to %d: all have it", at(msg),
		sc.Palette.Draw(look.Faint, "·"), msg.Number,
		plain.Text(sc.Run.ClientName(msg.Sender), 30), plain.Text(sc.Run.Rooms[msg.Room], 30), msg.Owed)
}

// messageHead says what a message was and how far it came, above its recipients.
func messageHead(sc scene.Scene, msg *ledger.Message) []string {
	lag := msg.Sent.Sub(msg.Due)
	return []string{
		fmt.Sprintf("  a %s by %s in %s, due at %s, sent %s later", msg.Kind,
			plain.Text(sc.Run.ClientName(msg.Sender), 30), plain.Text(sc.Run.Rooms[msg.Room], 30),
			strings.TrimSpace(at(msg)), units.Duration(lag)),
		fmt.Sprintf("  owed to %d, %d have it, %d of them late; lost at %d", msg.Owed, msg.Reached, msg.Late, msg.Lost),
		"",
	}
}

// outcomes are a message's recipients.
func outcomes(sc scene.Scene, number uint64) []row {
	msg := sc.Run.Message(number)
	if msg == nil {
		return nil
	}
	// The worst come first, and within one fate who had it first.
	ordered := slices.Clone(msg.Outcomes)
	slices.SortStableFunc(ordered, func(a, b ledger.Outcome) int {
		return cmp.Or(cmp.Compare(a.Fate.Severity(), b.Fate.Severity()), cmp.Compare(a.Latency, b.Latency))
	})
	var rows []row
	for _, o := range ordered {
		rows = append(rows, row{look.Fit(plain.Text(sc.Run.ClientName(o.Client), 22), 24) + outcome(sc, o),
			&place{what: client, key: int(o.Client)}})
	}
	return rows
}

// outcome says what became of a message at one recipient, and why.
func outcome(sc scene.Scene, o ledger.Outcome) string {
	ink := scene.InkOf(o.Fate)
	latency := fmt.Sprintf("%.3f ms", float64(o.Latency)/1e6) // exact: the order of recipients is the point
	if o.Fate == ledger.Delivered && o.Latency == 0 {
		latency = "piled up" // its recipient read slowly on purpose
	}
	if o.Fate == ledger.Lost || o.Fate == ledger.Excused || o.Fate == ledger.CaughtUp {
		latency = ""
	}
	return look.Fit(sc.Palette.Draw(ink, o.Fate.String()), 11) + look.Right(latency, 14) + "  " +
		sc.Palette.Draw(look.Faint, o.Why())
}

// clientHead says what a client has said and heard, above its life.
func clientHead(sc scene.Scene, id ledger.Client) []string {
	sent, got := uint32(0), uint32(0)
	if int(id) < len(sc.Run.Sent) {
		sent, got = sc.Run.Sent[id], sc.Run.Got[id]
	}
	return []string{
		fmt.Sprintf("  of crew %s: has sent %s messages and received %s marked ones",
			plain.Text(sc.Run.Trial.Crews[sc.Run.CrewOf(id)].Name, 30), units.Count(int64(sent)),
			units.Count(int64(got))),
		"",
	}
}

// life lists what happened to a client, and what became of the kept messages
// at it, in order of time.
func life(sc scene.Scene, id ledger.Client) []row {
	type moment struct {
		at time.Duration
		row
	}
	var moments []moment
	for _, e := range sc.Run.Events {
		if e.Client == id {
			moments = append(moments, moment{e.At, row{text: clock(e.At) + "  " + event(sc, e)}})
		}
	}
	for i := range sc.Run.Kept {
		msg := &sc.Run.Kept[i]
		for _, o := range msg.Outcomes {
			if o.Client == id {
				text := fmt.Sprintf("%s  message %-8d %s", at(msg), msg.Number, outcome(sc, o))
				moments = append(moments, moment{time.Duration(msg.Due),
					row{text, &place{what: message, key: int(msg.Number)}}})
			}
		}
	}
	slices.SortStableFunc(moments, func(a, b moment) int { return cmp.Compare(a.at, b.at) })
	rows := make([]row, len(moments))
	for i, m := range moments {
		rows[i] = m.row
	}
	return rows
}

// event puts an event of a client's life in words.
func event(sc scene.Scene, e logbook.Event) string {
	text := e.What.String()
	if e.Room >= 0 && int(e.Room) < len(sc.Run.Rooms) {
		text += " " + plain.Text(sc.Run.Rooms[e.Room], 30)
	}
	if e.Detail != "" {
		text += ": " + plain.Text(e.Detail, 80)
	}
	switch e.What {
	case logbook.Broke, logbook.Refused:
		return sc.Palette.Draw(look.Danger, text)
	case logbook.Denied, logbook.Missed, logbook.Failed:
		return sc.Palette.Draw(look.Beware, text)
	}
	return text
}
