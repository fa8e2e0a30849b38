// Package balance is the Ledger view: who was owed what, and what became of
// it. From the sheet it goes down into a room, a message and a client.
package balance

import (
	"fmt"
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/ledger"
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
  +7 tab: there are more columns, which tab shows; those that count something come first
  checks: what the trial looks at again and again, and how often that passed and failed`

// A place is one level that the user has gone down to.
type place struct {
	what what
	key  int // the line's key, the message's number, or the client
	cursor
}

// A cursor stays on its row while others come above it.
type cursor struct {
	at int
	on string // the id of the row; "": the first one
}

// in gives the place of the cursor's row among some.
func (c *cursor) in(rows []row) int {
	if i := slices.IndexFunc(rows, func(r row) bool { return r.id == c.on }); i >= 0 {
		return i
	}
	return min(max(0, c.at), max(0, len(rows)-1))
}

// move puts the cursor on a row.
func (c *cursor) move(to int, rows []row) {
	c.at = min(max(0, to), max(0, len(rows)-1))
	if c.at < len(rows) {
		c.on = rows[c.at].id
	}
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
	by    int    // room, crew, kind
	page  int    // of the columns, if there are more than there is room for
	sheet cursor // in the sheet
	down  []place
}

var orders = []string{"room", "crew", "kind"}

// Update handles the view's keys; done reports whether the key was one.
func (m Model) Update(msg tea.KeyPressMsg, sc scene.Scene) (next Model, done bool) {
	m.down = append([]place(nil), m.down...)
	c := &m.sheet
	if n := len(m.down); n > 0 {
		c = &m.down[n-1].cursor
	}
	rows := m.rows(sc)
	at := c.in(rows)
	switch msg.String() {
	case "up", "k":
		c.move(at-1, rows)
	case "down", "j":
		c.move(at+1, rows)
	case "pgup":
		c.move(at-10, rows)
	case "pgdown":
		c.move(at+10, rows)
	case "home":
		c.move(0, rows)
	case "end":
		c.move(len(rows), rows)
	case "tab":
		m.page++
	case "b":
		m.by, m.sheet, m.down = (m.by+1)%len(orders), cursor{}, nil
	case "enter":
		if c.move(at, rows); at < len(rows) && rows[at].to != nil {
			m.down = append(m.down, *rows[at].to)
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

// Click puts the cursor on the row at a line of the view; a second click there goes into it.
func (m Model) Click(y int, sc scene.Scene) Model {
	m.down = append([]place(nil), m.down...)
	here, rows := m.here(), m.rows(sc)
	i := y - m.above(sc, here) + m.from(sc, here, rows)
	if y < m.above(sc, here) || i < 0 || i >= len(rows) {
		return m
	}
	if here.in(rows) == i && here.on == rows[i].id {
		m, _ = m.Update(tea.KeyPressMsg{Code: tea.KeyEnter}, sc)
		return m
	}
	c := &m.sheet
	if n := len(m.down); n > 0 {
		c = &m.down[n-1].cursor
	}
	c.move(i, rows)
	return m
}

// IsDown reports whether the user has gone into a row.
func (m Model) IsDown() bool { return len(m.down) > 0 }

// A Focus is the message or the client that the user looks at.
type Focus struct {
	Message uint64
	Client  ledger.Client // -1: none in particular
}

// Focus is what the user looks at, or what the cursor is on; false if it is neither a message nor a client.
func (m Model) Focus(sc scene.Scene) (f Focus, is bool) {
	f.Client = -1
	places := slices.Clone(m.down)
	if here, rows := m.here(), m.rows(sc); len(rows) > 0 {
		if to := rows[here.in(rows)].to; to != nil {
			places = append(places, *to)
		}
	}
	for _, p := range places {
		switch p.what {
		case message:
			f.Message, is = uint64(p.key), true
		case client:
			if f.Client = ledger.Client(p.key); !is {
				f.Message, is = lane.NoMessage, true
			}
		}
	}
	return f, is
}

// A row is one line that can be gone into, if to is set.
type row struct {
	id   string // that no other row of the list has
	text string
	to   *place
}

func (m Model) here() place {
	if n := len(m.down); n > 0 {
		return m.down[n-1]
	}
	return place{what: sheet, cursor: m.sheet}
}

// View draws the view.
func (m Model) View(sc scene.Scene) []string {
	here := m.here()
	lines := []string{sc.Palette.Rule(m.title(sc, here), sc.Palette.Draw(look.Faint, sc.Label), sc.Width)}
	lines = append(lines, m.head(sc, here)...)
	rows := m.rows(sc)
	from, room, at := m.from(sc, here, rows), m.room(sc, here), here.in(rows)
	for i := from; i < min(len(rows), from+room); i++ {
		pointer := "  "
		if i == at {
			pointer = sc.Palette.Draw(look.Strong, "▸ ")
		}
		if i == from+room-1 && i < len(rows)-1 {
			more := fmt.Sprintf("  +%d ↓", len(rows)-1-i)
			lines = append(lines, look.Fit(pointer+rows[i].text, sc.Width-len(more))+sc.Palette.Draw(look.Faint, more))
			break
		}
		lines = append(lines, look.Fit(pointer+rows[i].text, sc.Width))
	}
	if len(rows) == 0 {
		lines = append(lines, "  "+sc.Palette.Draw(look.Faint, "nothing to show here"))
	}
	return append(lines, m.foot(sc, here)...)
}

// above is how many lines stand above the rows, and room how many rows there is room for.
func (m Model) above(sc scene.Scene, here place) int { return 1 + len(m.head(sc, here)) }

func (m Model) room(sc scene.Scene, here place) int {
	return max(1, sc.Height-m.above(sc, here)-len(m.foot(sc, here)))
}

// from is the first row on the screen: the one at hand is always seen.
func (m Model) from(sc scene.Scene, here place, rows []row) int {
	room := m.room(sc, here)
	return min(max(0, here.in(rows)-room+2), max(0, len(rows)-room))
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

// head stands above the rows and does not scroll with them.
func (m Model) head(sc scene.Scene, here place) []string {
	p := sc.Palette
	switch here.what {
	case sheet:
		return append(common(sc), p.Draw(look.Faint, m.heading(sc)))
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
	return m.lines(sc)
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
				rows = append(rows, row{fmt.Sprint(msg.Number), text, &place{what: message, key: int(msg.Number)}})
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
		return m.key(ledger.Cell{Room: msg.Room, Kind: msg.Kind}) == key
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
