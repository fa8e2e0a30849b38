package tui

import (
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"tidepull/internal/run"
	"tidepull/internal/tui/home"
)

// A slowShell starts what it is asked for only once it is let.
type slowShell struct {
	starts  int
	aborted chan bool
}

func (s *slowShell) Home() home.Model                { return home.New([]string{"lock.trial.hcl"}, nil, "") }
func (s *slowShell) Export(Exported) (string, error) { return "", nil }
func (s *slowShell) Start(_ home.Action, done func(float64)) (Source, error) {
	s.starts++
	done(0.4)
	return abortable{Kept{&run.Snapshot{}}, s.aborted}, nil
}

type abortable struct {
	Kept
	aborted chan bool
}

func (a abortable) Abort() { a.aborted <- true }

// TestStart: one thing is started at a time, no other key works meanwhile, and
// what is given up is ended as soon as it is there.
func TestStart(t *testing.T) {
	shell := &slowShell{aborted: make(chan bool, 1)}
	m := newModel(shell)
	m.width, m.height = 120, 40
	h := shell.Home()
	m.home = &h
	press := func(key rune) tea.Cmd {
		next, cmd := m.Update(tea.KeyPressMsg{Code: key,
			Text: map[bool]string{true: string(key)}[key < 128 && key > 31]})
		m = next.(model)
		return cmd
	}
	begin := press(tea.KeyEnter)
	if begin == nil || m.starting == nil {
		t.Fatal("enter starts nothing")
	}
	if text := ansi.Strip(m.View().Content); !strings.Contains(text, "starting ") || !strings.Contains(text, "esc") {
		t.Errorf("it is not said that something starts:\n%s", text)
	}
	for _, key := range []rune{tea.KeyEnter, 'd', 'p', 'r', '?', tea.KeyDown} {
		if cmd := press(key); cmd != nil || m.help.open {
			t.Errorf("%q works while something starts", key)
		}
	}
	press(tea.KeyEscape)
	next, _ := m.Update(begin())
	m = next.(model)
	if m.run != nil || m.starting != nil || m.home == nil || shell.starts != 1 {
		t.Errorf("what was given up: %d starts, a run %v", shell.starts, m.run != nil)
	}
	<-shell.aborted
	begin = press(tea.KeyEnter)
	begun := begin()
	m.drawn.stale = true
	if text := ansi.Strip(m.View().Content); !strings.Contains(text, "▄▄▄▄▄▄▄▄▄▄▄▄··················") ||
		!strings.Contains(text, " 40 %") {
		t.Errorf("how far it is is not shown:\n%s", text)
	}
	next, _ = m.Update(begun)
	if m = next.(model); m.run == nil || shell.starts != 2 {
		t.Error("a second start opens no run")
	}
}
