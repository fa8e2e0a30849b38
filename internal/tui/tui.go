// Package tui is the full-screen interface. The root takes the size, the
// background and quitting; a view draws an immutable snapshot of the run, five
// times a second, and never sees single messages.
package tui

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"

	"tidepull/internal/plain"
	"tidepull/internal/run"
	"tidepull/internal/tui/look"
	"tidepull/internal/tui/tide"
	"tidepull/internal/tui/watch"
	"tidepull/internal/units"
)

// Show opens the interface on a run and returns when the user leaves it. Where
// that is before the run is over, the run is ended.
func Show(r *run.Run, version string) error {
	m := model{run: r, version: version, bands: &watch.Cache{}, dark: true, profile: colorprofile.TrueColor, keys: newKeys(), snapshot: r.Snapshot()}
	m.palette = look.NewPalette(m.dark, m.profile)
	_, err := tea.NewProgram(m).Run()
	if errors.Is(err, tea.ErrInterrupted) {
		err = nil
	}
	r.Abort()
	return err
}

// refreshEvery is how often the snapshot is looked at.
const refreshEvery = 200 * time.Millisecond

type refresh struct{}

type keys struct{ help, stop, leave, interrupt, back key.Binding }

func newKeys() keys {
	bind := func(help string, names ...string) key.Binding {
		return key.NewBinding(key.WithKeys(names...), key.WithHelp(names[0], help))
	}
	return keys{
		help:      bind("explain this view", "?"),
		stop:      bind("let the tide fall now", "s"),
		leave:     bind("leave", "q"),
		interrupt: bind("stop and save", "ctrl+c"),
		back:      bind("back", "esc"),
	}
}

type model struct {
	run           *run.Run
	version       string
	snapshot      *run.Snapshot
	palette       look.Palette
	dark          bool
	profile       colorprofile.Profile
	keys          keys
	width, height int
	bands         *watch.Cache
	explaining    bool
	leaving       bool // q was pressed once while the run goes on
}

func tick() tea.Cmd { return tea.Tick(refreshEvery, func(time.Time) tea.Msg { return refresh{} }) }

func (m model) Init() tea.Cmd { return tea.Batch(tick(), tea.RequestBackgroundColor) }

func (m model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height = msg.Width, msg.Height
	case tea.BackgroundColorMsg:
		m.dark = msg.IsDark()
		m.palette = look.NewPalette(m.dark, m.profile)
	case tea.ColorProfileMsg:
		m.profile = msg.Profile
		m.palette = look.NewPalette(m.dark, m.profile)
	case refresh:
		m.snapshot = m.run.Snapshot()
		return m, tick()
	case tea.KeyPressMsg:
		return m.press(msg)
	}
	return m, nil
}

func (m model) press(msg tea.KeyPressMsg) (tea.Model, tea.Cmd) {
	over := m.snapshot.Finished
	wasLeaving := m.leaving
	m.leaving = false
	switch {
	case key.Matches(msg, m.keys.help):
		m.explaining = !m.explaining
	case key.Matches(msg, m.keys.back):
		m.explaining = false
	case key.Matches(msg, m.keys.stop) && !over:
		m.run.Stop()
	case key.Matches(msg, m.keys.interrupt):
		if over || m.snapshot.Stopped {
			return m, tea.Quit
		}
		m.run.Stop()
	case key.Matches(msg, m.keys.leave):
		if over || wasLeaving {
			return m, tea.Quit
		}
		m.leaving = true
	}
	return m, nil
}

func (m model) View() tea.View {
	v := tea.NewView("")
	v.AltScreen = true
	v.WindowTitle = "tide pull"
	if m.width > 0 && m.height > 0 {
		v.SetContent(m.draw())
	}
	return v
}

// The smallest screen that the views are drawn on.
const (
	minWidth  = 60
	minHeight = 18
)

func (m model) draw() string {
	p := &m.palette
	if m.width < minWidth || m.height < minHeight {
		return look.Fit(fmt.Sprintf("tide pull needs %d x %d characters", minWidth, minHeight), m.width)
	}
	lines := []string{m.header()}
	if m.explaining {
		lines = append(lines, p.Rule("watch, in words", "", m.width))
		lines = append(lines, strings.Split(watch.Help, "\n")...)
	} else {
		strip := tide.Strip(p, m.snapshot, m.width, stripRows(m.height))
		lines = append(lines, strip...)
		lines = append(lines, watch.View(p, m.bands, m.snapshot, m.width, m.height-len(strip)-2)...)
	}
	for len(lines) < m.height-1 {
		lines = append(lines, "")
	}
	lines = append(lines[:m.height-1], m.footer())
	for i := range lines {
		lines[i] = look.Fit(lines[i], m.width)
	}
	return strings.Join(lines, "\n")
}

// stripRows is how many rows of water the tide strip has.
func stripRows(height int) int { return min(8, max(3, height/6)) }

func (m model) header() string {
	p, s := &m.palette, m.snapshot
	left := p.Draw(look.Strong, "tide pull") + "  " + plain.Text(s.Trial.Name, 40)
	left += p.Draw(look.Faint, " at ") + plain.Text(s.Trial.Target.WebSocket, 60)
	right := m.signal()
	return look.Fit(left, max(0, m.width-ansi.StringWidth(right)-2)) + "  " + right
}

func (m model) footer() string {
	p := &m.palette
	if m.leaving {
		return p.Draw(look.Beware, "the run is going on: q again ends it at once, s lets the tide fall first, any other key stays")
	}
	bindings := []key.Binding{m.keys.help}
	if m.explaining {
		bindings = []key.Binding{m.keys.back}
	}
	if !m.snapshot.Finished && m.snapshot.Leg != "" {
		bindings = append(bindings, m.keys.stop)
	}
	bindings = append(bindings, m.keys.leave)
	var parts []string
	for _, b := range bindings {
		parts = append(parts, p.Draw(look.Strong, b.Help().Key)+" "+p.Draw(look.Faint, b.Help().Desc))
	}
	return strings.Join(parts, "     ")
}

// signal is how the run is going, in one sea-mark.
func (m model) signal() string {
	p, s := &m.palette, m.snapshot
	t, c := &s.Total.Total, &s.Total.Counts
	signal, word := look.AllWell, ""
	switch {
	case t.Lost > 0:
		signal, word = look.SomethingLost, units.Count(t.Lost)+" lost"
	case s.Err != nil:
		signal, word = look.InDanger, "ended early"
	case c.Broken > 0 || c.Refused > 0 || c.Malformed > 0:
		signal, word = look.InDanger, "connections fail"
	case t.Late > 0 || t.Stray > 0 || t.Duplicate > 0 || c.Missed > 0 || c.Denied > 0 || c.Unsent > 0:
		signal = look.Attention
	}
	text := p.Signal(signal, word)
	if s.Finished {
		text = p.Draw(look.Strong, "verdict: "+string(run.Overall(s.Judgements))) + "  " + text
	}
	return text
}
