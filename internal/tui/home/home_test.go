package home

import (
	"path/filepath"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"

	"tidepull/internal/report/store"
	"tidepull/internal/tui/look"
)

func press(t *testing.T, m Model, keys ...string) (Model, *Action) {
	t.Helper()
	var action *Action
	for _, k := range keys {
		msg := tea.KeyPressMsg{Code: rune(k[0]), Text: k}
		switch k {
		case "enter":
			msg = tea.KeyPressMsg{Code: tea.KeyEnter}
		case "esc":
			msg = tea.KeyPressMsg{Code: tea.KeyEscape}
		case "down":
			msg = tea.KeyPressMsg{Code: tea.KeyDown}
		case "up":
			msg = tea.KeyPressMsg{Code: tea.KeyUp}
		}
		m, action, _ = m.Update(msg)
	}
	return m, action
}

func shown(m Model) string {
	p := look.NewPalette(true, colorprofile.NoTTY)
	return ansi.Strip(strings.Join(m.View(&p, 140, 40), "\n"))
}

// TestHome walks over the list by keys: the demo, two trials, three runs; opens
// each, names one, compares two, and deletes one, asked twice.
func TestHome(t *testing.T) {
	s, err := store.Open(filepath.Join(t.TempDir(), "runs.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	for i, summary := range []string{`{"verdict":"holds","ledger":{"lost":0},"fanout":{"p99_us":1500}}`,
		`{"verdict":"broken","ledger":{"lost":7},"fanout":{"p99_us":2500}}`, ``} {
		if err := s.Insert(store.Run{Trial: "morning \x1b[2J tide", Clients: 400,
			State: []string{"finished", "finished", "running"}[i], Verdict: []string{"holds", "broken", ""}[i],
			Summary: []byte(summary)}); err != nil {
			t.Fatal(err)
		}
	}
	m := New([]string{"a.trial.hcl", "b.trial.hcl"}, s, "")
	text := shown(m)
	for _, part := range []string{"▸ morning tide, against the stand-in", "  a.trial.hcl", "▲ holds", "■ broken",
		"╳ cut short", "morning ␛[2J tide"} {
		if !strings.Contains(text, part) {
			t.Errorf("%q is not shown:\n%s", part, text)
		}
	}
	if text := shown(press1(t, m, "down", "down", "down", "down", "down")); !strings.Contains(text,
		"fan-out p99 ...") || !strings.Contains(text, "1.50 ms") {
		t.Errorf("beside the run does not stand what it was:\n%s", text)
	}
	if text := shown(m); !strings.Contains(text, "the plan of morning tide") ||
		!strings.Contains(text, "240 clients, session watch a lock") || !strings.Contains(text, "nothing is lost") {
		t.Errorf("beside the demo does not stand its plan:\n%s", text)
	}
	if text := shown(press1(t, m, "down")); !strings.Contains(text, "what is wrong with it") ||
		!strings.Contains(text, "a.trial.hcl: no such file") {
		t.Errorf("beside a trial that cannot be read does not stand why:\n%s", text)
	}
	if _, a := press(t, m, "enter"); a == nil || !a.Demo {
		t.Errorf("enter on the demo is %+v", a)
	}
	if _, a := press(t, m, "down", "down", "enter"); a == nil || a.Trial != "b.trial.hcl" {
		t.Errorf("enter on a trial is %+v", a)
	}
	if _, a := press(t, m, "down", "down", "down", "down", "enter"); a == nil || a.Run != 2 {
		t.Errorf("enter on a run is %+v", a)
	}
	if last, _ := press(t, m, "down", "down", "down", "down", "down", "down", "down"); last.cursor != 5 {
		t.Errorf("the cursor leaves the list: %d", last.cursor)
	}
	m, _ = press(t, m, "down", "down", "down", "down", "r", "n", "e", "w", "enter")
	if m.Typing() || !strings.Contains(shown(m), "▸    2  new") {
		t.Errorf("not named:\n%s", shown(m))
	}
	m, _ = press(t, m, "c", "down", "c")
	if text := shown(m); !strings.Contains(text, "two runs") || !strings.Contains(text, "2 new") ||
		!strings.Contains(text, "fan-out p99") || !strings.Contains(text, "2.50 ms") ||
		!strings.Contains(text, "1.50 ms") {
		t.Errorf("not compared:\n%s", text)
	}
	if _, a := press(t, m, "enter", "d", "d", "down", "enter"); a != nil {
		t.Errorf("a key works behind the comparison: %+v", a)
	}
	m, _ = press(t, m, "esc", "up", "d")
	if !strings.Contains(shown(m), "d again deletes run 2") {
		t.Errorf("not asked:\n%s", shown(m))
	}
	m, _ = press(t, m, "down", "d") // another key, so it is asked again
	if runs, _ := s.Runs(); len(runs) != 3 {
		t.Fatal("deleted without being asked twice")
	}
	m, _ = press(t, m, "d")
	if runs, _ := s.Runs(); len(runs) != 2 || !strings.Contains(shown(m), "run 1 is deleted") {
		t.Errorf("not deleted:\n%s", shown(m))
	}
}

func press1(t *testing.T, m Model, names ...string) Model {
	m, _ = press(t, m, names...)
	return m
}

// TestNoStore: without a store the screen works, and says why there is none.
func TestNoStore(t *testing.T) {
	m := New(nil, nil, "the store: disk \x07 gone")
	if text := shown(m); !strings.Contains(text, "╳ the store: disk ␇ gone") ||
		!strings.Contains(text, "none; tidepull demo --write") {
		t.Errorf("it shows\n%s", text)
	}
	if _, a := press(t, m, "down", "r", "d", "c", "enter"); a == nil || !a.Demo {
		t.Errorf("%+v", a)
	}
}
