// Package lanes is the Lanes view: two to eight clients of a run side by side,
// time downwards, each message a stroke from lane to lane.
package lanes

import (
	"fmt"
	"slices"
	"time"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/run"
	"tidepull/internal/tui/scene"
)

// Help explains the view in words.
const Help = `Lanes answers: what exactly happened between these clients?

Each client has a lane, time goes downwards. A message is sent at the dot and
reaches a lane at the arrow, with the time that took and the beginning of what it
says; a message from a client that is not shown comes from the left, with its
name. A lost message ends in a cross before it reaches its lane, a stray one comes
from nowhere.

  ● ▶ ◆: sent; arrived; arrived at its own sender
  ┃ │ ┊: inside a room; connected; not connected
  ╳: lost on the way, or something failed
  ○ ┼ ▲: connected, entered, left and the like; a ping answered; a check passed
  ▒: a line that the server wrote (o), if the trial starts it
  ~ 1.20 s: nothing happened for that long

The clients are those around one problem, and n and N go through all problems of
the run, until you pick others: names, a crew, a room, or "problems".

Kept is everything of the first clients of each crew, and what happened 1.5
seconds before and after each problem to those concerned, up to a bound. What a
message says is kept with it; messages without a mark are kept of the former
alone.`

// A Model is the view's state.
type Model struct {
	picked   []ledger.Client // nil: those around the focus
	focus    *lane.Record    // what went wrong; nil: the first thing, or while the run goes on the last
	label    string          // what they were picked by
	filter   int
	unfolded bool
	printed  bool // what the server wrote stands between the rows
	cursor   int
	moved    bool // the cursor was moved: it does not follow the end
	open     bool // what the message says is shown
	asBytes  bool
	typing   bool
	input    textinput.Model
	notice   string

	cached   key
	rows     []lane.Row
	clients  []ledger.Client
	onScreen []line // as they were drawn last, from a line of the view on
	top      int
}

// key reports whether the rows have to be arranged again.
type key struct {
	records, filter int
	lines           int // of the server's output; -1: it is not shown
	span            scene.Span
	picked          string
	run             *run.Snapshot // a kept one does not change
}

var filters = []struct {
	name string
	f    lane.Filter
}{
	{"all", lane.Whole}, {"messages", lane.Messages}, {"membership", lane.Membership | lane.Messages},
	{"beats", lane.Beats | lane.Membership}, {"checks", lane.Checks | lane.Membership}, {"problems", lane.Odd},
}

// Typing reports whether keys are text for the user's input.
func (m Model) Typing() bool { return m.typing }

// Focus is the problem that the lanes are around, or what the cursor is on; nil
// if there is neither.
func (m Model) Focus() *lane.Record {
	if m.moved && m.cursor < len(m.rows) {
		return &m.rows[m.cursor].Rec
	}
	return m.focus
}

// IsOpen reports whether what a message says is shown.
func (m Model) IsOpen() bool { return m.open }

// FocusOn has the lanes be around a message, at one client if that is not below 0; of lane.NoMessage, around what
// happened to that client. Where nothing is kept of it they say so, and stay.
func (m Model) FocusOn(sc scene.Scene, message uint64, c ledger.Client) Model {
	var best *lane.Record
	better := func(r *lane.Record) bool {
		return best == nil || r.Odd() && !best.Odd() || r.Odd() == best.Odd() && r.At < best.At
	}
	for i := range sc.Run.Lanes {
		r := &sc.Run.Lanes[i]
		about := r.Number == message && (r.What == lane.Said || r.What == lane.Got || r.What == lane.Lost)
		if message == lane.NoMessage {
			about = true
		}
		if about && (c < 0 || r.Client == c) && better(r) {
			best = r
		}
	}
	m.notice = ""
	if best == nil {
		m.notice = "of what was looked at nothing is kept for the lanes: they have what happened around problems, " +
			"and the first clients of each crew"
		return m
	}
	focus := *best
	m.picked, m.focus, m.moved, m.cached = nil, &focus, false, key{}
	m.arrange(sc, scene.Span{})
	return m
}

// Clients are those that are set side by side.
func (m Model) Clients() []ledger.Client { return m.clients }

// Paste puts text into the input.
func (m Model) Paste(msg tea.PasteMsg) Model {
	if m.typing {
		m.input, _ = m.input.Update(msg)
	}
	return m
}

// Filter is what is shown of them.
func (m Model) Filter() lane.Filter { return filters[m.filter].f }

// Update handles a key; done reports whether the key was one of the view's.
func (m Model) Update(msg tea.KeyPressMsg, sc scene.Scene) (next Model, done bool) {
	if m.typing {
		return m.typed(msg, sc), true
	}
	m.notice = ""
	switch msg.String() {
	case "up", "k":
		m.move(-1)
	case "down", "j":
		m.move(1)
	case "pgup":
		m.move(-10)
	case "pgdown":
		m.move(10)
	case "home":
		m.move(-len(m.rows))
	case "end":
		m.move(len(m.rows))
		m.moved = false
	case "n":
		m.jump(1, sc)
	case "N":
		m.jump(-1, sc)
	case "enter":
		m.open = !m.open
	case "space":
		m.asBytes = !m.asBytes
	case "f":
		m.filter = (m.filter + 1) % len(filters)
	case "z":
		m.unfolded = !m.unfolded
	case "o":
		if m.printed = !m.printed; m.printed && len(sc.Run.ServerSide.Lines) == 0 {
			m.notice = "nothing is known of what the server writes: the trial has not started it, or it has written " +
				"nothing"
		}
	case "g":
		m.typing = true
		m.input = textinput.New()
		m.input.Prompt = "clients: "
		m.input.Placeholder = "names separated by commas, a crew, a room, or problems"
		m.input.CharLimit = 300
		m.input.Focus()
	case "esc":
		if !m.open {
			return m, false
		}
		m.open = false
	default:
		return m, false
	}
	return m, true
}

// Click goes to the row at a line of the view; a second click there shows its message.
func (m Model) Click(y int) Model {
	i := y - m.top
	if m.typing || i < 0 || i >= len(m.onScreen) || m.onScreen[i].row < 0 || m.onScreen[i].row >= len(m.rows) {
		return m
	}
	if m.cursor == m.onScreen[i].row && m.moved {
		m.open = !m.open
		return m
	}
	m.cursor, m.moved = m.onScreen[i].row, true
	return m
}

func (m *Model) move(by int) {
	m.cursor = min(max(0, m.cursor+by), max(0, len(m.rows)-1))
	m.moved = true
}

// jump goes to the next problem: between the clients that were
// picked, or, if they pick themselves, in the whole run.
func (m *Model) jump(by int, sc scene.Scene) {
	if m.picked == nil {
		m.refocus(by, sc)
		return
	}
	for i := m.cursor + by; i >= 0 && i < len(m.rows); i += by {
		if m.rows[i].Rec.Odd() {
			m.cursor, m.moved = i, true
			return
		}
	}
	m.notice = "no problem in that direction, between these clients"
}

// refocus moves the focus to the next or the last thing that went wrong.
func (m *Model) refocus(by int, sc scene.Scene) {
	odd := lane.Odds(sc.Run.Lanes)
	at := -1
	if m.focus != nil {
		at = slices.Index(odd, *m.focus)
	} else if by < 0 {
		at = len(odd)
	}
	if at += by; at < 0 || at >= len(odd) {
		m.notice = "no problem in that direction"
		return
	}
	m.focus = &odd[at]
	m.cached = key{}
	m.arrange(sc, scene.Span{})
	if i := slices.IndexFunc(m.rows, func(r lane.Row) bool { return r.Rec == *m.focus }); i >= 0 {
		m.cursor, m.moved = i, true
	}
}

// typed takes a key while clients are being picked. What cannot be understood leaves the lanes as they are.
func (m Model) typed(msg tea.KeyPressMsg, sc scene.Scene) Model {
	switch msg.String() {
	case "esc":
		m.typing = false
		return m
	case "enter":
		clients, label, err := sc.Run.PickClients(m.input.Value())
		if err != nil {
			m.notice = err.Error()
			return m
		}
		m.picked, m.label, m.typing, m.notice, m.cursor, m.moved, m.focus = clients, label, false, "", 0,
			sc.Run.Finished, nil
		return m
	}
	m.input, _ = m.input.Update(msg)
	return m
}

// auto picks clients where nobody did: those around the focus, or, where
// there is no problem, those with the most kept.
func (m *Model) auto(s *run.Snapshot) ([]ledger.Client, string) {
	focus := m.focus
	if odd := lane.Odds(s.Lanes); focus == nil && len(odd) > 0 {
		if focus = &odd[0]; !s.Finished {
			focus = &odd[len(odd)-1]
		}
		if s.Finished {
			m.focus = focus
		}
	}
	return s.Around(focus)
}

// arrange makes the rows, where what they are made of has changed.
func (m *Model) arrange(sc scene.Scene, span scene.Span) {
	clients, label := m.picked, m.label
	k := key{records: len(sc.Run.Lanes), filter: m.filter, span: span, picked: fmt.Sprint(m.picked), run: nil,
		lines: -1}
	if m.printed {
		k.lines = len(sc.Run.ServerSide.Lines)
	}
	if sc.Run.Finished {
		k.run = sc.Run
	}
	if k == m.cached {
		return
	}
	if clients == nil {
		clients, label = m.auto(sc.Run)
	}
	m.cached, m.clients = k, clients
	if m.picked == nil {
		m.label = label
	}
	var from, to time.Duration
	if span.Set() {
		from, to = time.Duration(span.From)*time.Second, time.Duration(span.To)*time.Second
	}
	m.rows = lane.Arrange(sc.Run.Lanes, clients, filters[m.filter].f, from, to)
	if m.printed {
		m.rows = withLines(m.rows, sc.Run.ServerSide.Lines, from, to)
	}
	if i := slices.IndexFunc(m.rows, func(r lane.Row) bool { return m.focus != nil && r.Rec == *m.focus }); i >= 0 &&
		!m.moved {
		m.cursor = i
	} else if !m.moved && !sc.Run.Finished {
		m.cursor = len(m.rows) - 1
	}
	m.cursor = min(max(0, m.cursor), max(0, len(m.rows)-1))
}

// withLines puts the lines that the server wrote between the rows, in time.
func withLines(rows []lane.Row, lines []run.ServerLine, from, to time.Duration) (all []lane.Row) {
	next := 0
	put := func(before time.Duration) {
		for ; next < len(lines) && lines[next].At < before; next++ {
			at := lines[next].At
			if at < from || to > 0 && at >= to {
				continue
			}
			row := lane.Row{Rec: lane.Record{At: at, What: lane.Printed, Client: -1, Peer: -1, Room: -1,
				Number: uint64(next)}, Lane: -1, From: -1}
			if len(all) > 0 {
				row.States = all[len(all)-1].States
			}
			all = append(all, row)
		}
	}
	for i := range rows {
		put(rows[i].Rec.At)
		all = append(all, rows[i])
	}
	put(1<<63 - 1)
	return all
}

// Body gives what a message says, as far as it is kept.
func body(s *run.Snapshot, r *lane.Record) *lane.Body {
	if r.What != lane.Said && r.What != lane.Got && r.What != lane.Lost && r.What != lane.Heard {
		return nil
	}
	if r.What == lane.Got {
		if b := cameOf(s, r); b != nil || r.Fate == ledger.Altered || isAltered(s, r) {
			return b // what was said is not what came
		}
	}
	for i := range s.Bodies {
		if s.Bodies[i].Number == r.Number {
			return &s.Bodies[i]
		}
	}
	return nil
}

// isAltered reports whether the message of a record came otherwise than it was said: another record says so.
func isAltered(s *run.Snapshot, r *lane.Record) bool {
	if s.Total == nil || s.Total.Total.Altered == 0 { // most of the time there is nothing to look for
		return false
	}
	return slices.ContainsFunc(s.Lanes, func(other lane.Record) bool {
		return other.Fate == ledger.Altered && other.Number == r.Number && other.Client == r.Client &&
			other.What == lane.Got
	})
}

// cameOf is what came of a message that came otherwise than it was said; nil if that was not kept.
func cameOf(s *run.Snapshot, r *lane.Record) *lane.Body {
	d := s.DifferenceOf(r.Number, r.Client)
	if d == nil {
		return nil
	}
	return &lane.Body{Number: r.Number, Text: d.Came.Head, Cut: d.Came.Size > len(d.Came.Head)}
}

// Hints are the keys of the view.
func Hints() [][2]string {
	return [][2]string{{"↑ ↓", "step"}, {"n N", "next, last problem"}, {"enter", "show message"}, {"g", "clients"},
		{"f", "filter"}, {"z", "fold quiet time"}, {"space", "as bytes"}, {"o", "server's output"}}
}
