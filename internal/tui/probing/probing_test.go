package probing

import (
	"fmt"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"

	"tidepull/internal/capture/probe"
	"tidepull/internal/testkit/cost"
	"tidepull/internal/tui/look"
)

func ctrl(r rune) tea.KeyPressMsg { return tea.KeyPressMsg{Code: r, Mod: tea.ModCtrl} }

func typed(m *Model, text string) {
	for _, r := range text {
		m.Update(tea.KeyPressMsg{Code: r, Text: string(r)})
	}
}

var enter = tea.KeyPressMsg{Code: tea.KeyEnter}

// until draws the view until it shows something.
func until(t *testing.T, m *Model, what string) string {
	t.Helper()
	p := look.NewPalette(true, colorprofile.NoTTY)
	for end := time.Now().Add(10 * time.Second); ; time.Sleep(5 * time.Millisecond) {
		m.Take()
		text := ansi.Strip(strings.Join(m.View(&p, 200, 60), "\n"))
		if strings.Contains(text, what) {
			return text
		}
		if time.Now().After(end) {
			t.Fatalf("it does not show %q:\n%s", what, text)
		}
	}
}

// TestNobody drives a view whose server is not there: what is typed is refused
// with the reason and stays to be sent later; what is typed wrongly is said, and
// stays to be put right; there are at most three clients.
func TestNobody(t *testing.T) {
	m := New(probe.Target{URL: "ws://127.0.0.1:1/"})
	defer m.Close()
	until(t, m, "REFUSED: nobody listens at 127.0.0.1:1")
	typed(m, "gate turning")
	m.Update(enter)
	until(t, m, "NOT SENT: the connection was refused")
	if m.input.Value() != "gate turning" || m.Notice() != "not sent: the connection was refused" || m.Empty() {
		t.Errorf("%q, %q", m.input.Value(), m.Notice())
	}
	m.Update(tea.KeyPressMsg{Code: tea.KeyEscape})
	for _, tc := range []struct {
		key   rune
		text  string
		wrong string
	}{{'b', "0g", "no hexadecimal digits"}, {'f', "/no/such/file", "no such file"}, {'x', "99", "from 1000 to 4999"},
		{'a', "nowhere", "has no scheme"}, {'e', "no colon", "is not NAME: VALUE"}} {
		m.Update(ctrl(tc.key))
		m.Update(ctrl('u'))
		typed(m, tc.text)
		m.Update(enter)
		if !strings.Contains(m.Notice(), tc.wrong) || m.input.Value() != tc.text {
			t.Errorf("ctrl+%c %q: %q, and %q stays", tc.key, tc.text, m.Notice(), m.input.Value())
		}
		m.Update(tea.KeyPressMsg{Code: tea.KeyEscape})
	}
	m.Update(ctrl('e'))
	typed(m, "X-Berth: 12; Cookie: a=b")
	m.Update(enter)
	m.Update(ctrl('l'))
	typed(m, "board.2, board.1")
	m.Update(enter)
	if got := fmt.Sprint(m.lanes[0].target.Fields,
		m.lanes[0].target.Protocols); got != "[{X-Berth 12} {Cookie a=b}] [board.2 board.1]" {
		t.Errorf("it says %s of itself", got)
	}
	m.Update(ctrl('n'))
	m.Update(ctrl('n'))
	m.Update(ctrl('n'))
	if len(m.lanes) != 3 || m.at != 2 || m.Notice() != "there are 3 clients already" {
		t.Errorf("%d clients, at %d, %q", len(m.lanes), m.at, m.Notice())
	}
	text := until(t, m, "▸ client 3")
	if strings.Count(text, "REFUSED: nobody listens") < 3 {
		until(t, m, "REFUSED")
	}
	m.Update(tea.KeyPressMsg{Code: tea.KeyTab})
	if m.at != 0 {
		t.Errorf("tab leads to %d", m.at)
	}
	if !m.Update(tea.KeyPressMsg{Code: tea.KeyEscape}) {
		t.Error("esc does not leave")
	}
}

// TestScrollBack: events are bounded, and looking back goes no further than
// they do.
func TestScrollBack(t *testing.T) {
	var events []probe.Event
	for i := range 300 {
		events = append(events, probe.Event{What: probe.In, Op: "text", Last: true,
			Payload: fmt.Appendf(nil, "notice %d", i), Text: fmt.Sprintf("notice %d", i)})
	}
	m := Shown(1, "ws://127.0.0.1:1/", events)
	p := look.NewPalette(true, colorprofile.NoTTY)
	screen := func() string { return ansi.Strip(strings.Join(m.View(&p, 100, 20), "\n")) }
	if text := screen(); !strings.Contains(text, "notice 299") || strings.Contains(text, "notice 200") {
		t.Errorf("at first:\n%s", text)
	}
	for range 100 {
		m.Update(tea.KeyPressMsg{Code: tea.KeyPgUp})
		screen()
	}
	if text := screen(); !strings.Contains(text, "notice 0\n") && !strings.Contains(text, "notice 0 ") {
		t.Errorf("at the beginning:\n%s", text)
	}
	for range 100 {
		m.Update(tea.KeyPressMsg{Code: tea.KeyPgDown})
	}
	if text := screen(); !strings.Contains(text, "notice 299") {
		t.Errorf("at the end again:\n%s", text)
	}
	m.inbox.events = nil
	for range 5 * maxEvents {
		m.inbox.put(probe.Event{Line: 1, What: probe.Opened})
	}
	m.Take()
	if n := len(m.lanes[0].events); n > maxEvents {
		t.Errorf("%d events are kept", n)
	}
	if !strings.Contains(screen(), "events came faster than they can be drawn") {
		t.Errorf("what is not kept is not said:\n%s", screen())
	}
	// A lane is drawn from its end alone: thousands of long messages cost what a
	// hundred cost.
	long := strings.Repeat(`{"kind":"notice","text":"turning"},`, 400)
	takes := func(n int) time.Duration {
		for range n {
			m.inbox.put(probe.Event{Line: 1, What: probe.In, Op: "text", Last: true, Payload: []byte(long), Text: long})
		}
		m.Take()
		best := time.Hour
		for range 5 {
			best = min(best, cost.Of(func() { screen() }))
		}
		return best
	}
	m.lanes[0].events = nil
	if few, many := takes(100), takes(maxEvents); many > 5*few+20*time.Millisecond {
		t.Errorf("a picture of %d messages takes %v, of a hundred %v", maxEvents, many, few)
	}
	if _, err := parseFields("a: b;;c:d"); err != nil {
		t.Error(err)
	}
	if _, err := parseFields("a"); err == nil {
		t.Errorf("%v", err)
	}
}
