package lanes

import (
	"fmt"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"

	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/run"
	"tidepull/internal/trial"
	"tidepull/internal/tui/look"
	"tidepull/internal/tui/scene"
)

// scenery is a run of twelve clients in two crews and two rooms, in which three
// messages went wrong.
func scenery() scene.Scene {
	s := &run.Snapshot{Finished: true, Trial: &trial.Trial{Crews: []trial.Crew{{Name: "pilots", Clients: 8},
		{Name: "tugs", Clients: 4}}, Checks: []trial.Check{{Name: "greeting"}}},
		Rooms: []string{"(everyone)", "lock-1", "lock-2"}}
	at := time.Duration(0)
	add := func(after time.Duration, r lane.Record) {
		at += after
		r.At = at
		s.Lanes = append(s.Lanes, r)
	}
	for c := range ledger.Client(12) {
		s.Names = append(s.Names, fmt.Sprintf("%s-%d", map[bool]string{true: "pilot", false: "tug"}[c < 8], c))
		add(time.Millisecond, lane.Record{What: lane.Opened, Client: c, Peer: -1, Room: -1})
		add(time.Millisecond, lane.Record{What: lane.Entered, Client: c, Peer: -1, Room: 1 + c%2})
	}
	for n := range uint64(30) {
		from := ledger.Client(n % 12)
		add(200*time.Millisecond, lane.Record{What: lane.Said, Client: from, Number: n, Peer: -1, Room: 1 + from%2})
		for c := from % 2; c < 12; c += 2 {
			r := lane.Record{What: lane.Got, Client: c, Number: n, Peer: from, Room: 1 + from%2,
				Took: time.Duration(c+1) * time.Millisecond}
			switch {
			case n == 10 && c == 4, n == 20 && c == 6:
				r.What = lane.Lost
			case n == 25 && c == 3:
				r.Fate = ledger.Duplicate
			}
			add(time.Millisecond, r)
		}
	}
	s.Bodies = []lane.Body{{Number: 10, Text: []byte(`{"text":"gate turning"}`)}}
	p := look.NewPalette(true, colorprofile.NoTTY)
	return scene.Scene{Palette: &p, Run: s, Label: "whole run", Width: 150, Height: 30}
}

func shown(m *Model, sc scene.Scene, span scene.Span) string {
	lines := m.View(sc, span)
	for i := range lines {
		lines[i] = strings.TrimRight(ansi.Strip(lines[i]), " ")
	}
	return strings.Join(lines, "\n")
}

func press(m Model, sc scene.Scene, names ...string) Model {
	for _, name := range names {
		k := tea.KeyPressMsg{Code: rune(name[0]), Text: name}
		for code, other := range map[rune]string{tea.KeyEnter: "enter", tea.KeyEscape: "esc", tea.KeyDown: "down",
			tea.KeyUp: "up", tea.KeySpace: "space", tea.KeyEnd: "end", tea.KeyHome: "home", tea.KeyPgDown: "pgdown"} {
			if other == name {
				k = tea.KeyPressMsg{Code: code}
			}
		}
		m, _ = m.Update(k, sc)
		m.View(sc, scene.Span{})
	}
	return m
}

func want(t *testing.T, text string, parts ...string) {
	t.Helper()
	for _, part := range parts {
		if !strings.Contains(text, part) {
			t.Errorf("there is no %q in\n%s", part, text)
		}
	}
}

// TestLanes goes through what went wrong, opens a message, picks and filters.
func TestLanes(t *testing.T) {
	sc := scenery()
	m := Model{}
	text := shown(&m, sc, scene.Span{})
	want(t, text, "lanes of clients around message 10, lost", " #10 lost, from tug-10 ", "#10 in lock-1", "pilot-4")
	m = press(m, sc, "enter")
	want(t, shown(&m, sc, scene.Span{}), `"text": "gate turning"`, "what happened to pilot-4 at")
	m = press(m, sc, "space")
	want(t, shown(&m, sc, scene.Span{}), "00000000  7b 22 74 65 78 74")
	m = press(m, sc, "esc", "n")
	want(t, shown(&m, sc, scene.Span{}), "around message 20, lost", "#20 lost, from tug-8", "pilot-6")
	m = press(m, sc, "n")
	want(t, shown(&m, sc, scene.Span{}), "around message 25, duplicate", "#25 duplicate, 4.00 ms")
	m = press(m, sc, "n")
	want(t, shown(&m, sc, scene.Span{}), "no problem in that direction")
	m = press(m, sc, "N", "N")
	want(t, shown(&m, sc, scene.Span{}), "around message 10, lost")

	m = press(m, sc, strings.Split("g tugs enter", " ")...) // typed as one text
	want(t, shown(&m, sc, scene.Span{}), "lanes of clients crew tugs", "tug-8", "tug-11")
	if strings.Contains(shown(&m, sc, scene.Span{}), "    pilot-4") {
		t.Error("a pilot is among the tugs")
	}
	m = press(m, sc, "g", "lock-2", "enter")
	want(t, shown(&m, sc, scene.Span{}), "lanes of clients room lock-2", "pilot-1")
	m = press(m, sc, "g", "nobody", "enter")
	want(t, shown(&m, sc, scene.Span{}), `there is no client, crew or room "nobody"`)
	m = press(m, sc, "esc", "g", "pilot-3, tug-9", "enter")
	if fmt.Sprint(m.Clients()) != "[3 9]" {
		t.Errorf("picked %v", m.Clients())
	}
	all := len(m.rows)
	m = press(m, sc, "f", "f", "f", "f", "f")
	if m.Filter() != lane.Odd || len(m.rows) != 1 || all < 30 {
		t.Errorf("%d rows, problems %d", all, len(m.rows))
	}
	m = press(m, sc, "f", "g", "problems", "enter")
	want(t, shown(&m, sc, scene.Span{}), "around message 10, lost")
	// A window leaves out what is not in it.
	text = shown(&m, sc, scene.Span{From: 3, To: 4})
	for _, line := range strings.Split(text, "\n")[2:] {
		if at := strings.Fields(strings.TrimPrefix(line, "▸")); len(at) > 1 && strings.Contains(at[0], ".") &&
			!strings.HasPrefix(at[0], "3.") {
			t.Errorf("in the window from 3 s to 4 s stands %q", line)
		}
	}
}

// TestScroll: whatever the cursor does, it is on the screen, and the screen is
// never fuller than it is high.
func TestScroll(t *testing.T) {
	sc := scenery()
	for _, size := range [][2]int{{60, 6}, {80, 12}, {150, 30}, {200, 60}} {
		sc.Width, sc.Height = size[0], size[1]
		m := press(Model{}, sc, "g", "pilots", "enter")
		for _, k := range strings.Split("home down down z pgdown pgdown up enter down end up z home enter pgdown",
			" ") {
			m = press(m, sc, k)
			text := shown(&m, sc, scene.Span{})
			lines := strings.Split(text, "\n")
			if len(lines) > size[1] {
				t.Fatalf("at %v after %s: %d lines", size, k, len(lines))
			}
			if strings.Count(text, "▸") != 1 {
				t.Fatalf("at %v after %s the cursor is not to be seen:\n%s", size, k, text)
			}
		}
	}
}

// TestFollowing: while a run goes on the newest is shown, until the cursor is
// moved.
func TestFollowing(t *testing.T) {
	sc := scenery()
	whole := sc.Run.Lanes
	live := *sc.Run
	live.Finished = false
	sc.Run = &live
	m := press(Model{}, sc, "g", "pilot-0,pilot-2", "enter")
	for _, n := range []int{60, 120, len(whole)} {
		live.Lanes = whole[:n]
		shown(&m, sc, scene.Span{})
		if m.cursor != len(m.rows)-1 {
			t.Errorf("with %d records the cursor is on %d of %d", n, m.cursor, len(m.rows))
		}
	}
	m = press(m, sc, "up", "up")
	at := m.cursor
	live.Lanes = append(append([]lane.Record(nil), whole...),
		lane.Record{At: time.Minute, Client: 0, What: lane.Beat, Peer: -1, Room: -1})
	shown(&m, sc, scene.Span{})
	if m.cursor != at {
		t.Errorf("the cursor was moved to %d and is on %d", at, m.cursor)
	}
}

// TestClick: a click goes to the row under it, a second one shows its message, and one elsewhere does nothing.
func TestClick(t *testing.T) {
	sc, m := scenery(), Model{}
	lines := strings.Split(shown(&m, sc, scene.Span{}), "\n")
	y := len(lines) - 4
	m = m.Click(y)
	after := strings.Split(shown(&m, sc, scene.Span{}), "\n")
	at := -1
	for i, l := range after {
		if strings.HasPrefix(l, "▸") {
			at = i
		}
	}
	if at < 0 || strings.TrimLeft(after[at], "▸ ") != strings.TrimLeft(lines[y], "▸ ") {
		t.Errorf("the cursor is on %q, clicked was %q", after[max(0, at)], lines[y])
	}
	if m = m.Click(at); !m.IsOpen() {
		t.Error("a second click shows nothing")
	}
	for _, y := range []int{-1, 0, 1, 1000} {
		if again := m.Click(y); again.cursor != m.cursor || !again.IsOpen() {
			t.Errorf("a click on line %d does something", y)
		}
	}
}
