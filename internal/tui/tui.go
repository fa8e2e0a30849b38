// Package tui is the full-screen interface. The root takes the size, the
// background and quitting; a view draws an immutable snapshot of a run, five
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

	"tidepull/internal/ledger"
	"tidepull/internal/probe"
	"tidepull/internal/run"
	"tidepull/internal/tui/home"
	"tidepull/internal/tui/look"
	"tidepull/internal/tui/probing"
	"tidepull/internal/tui/scene"
)

// A Shell is what the interface asks the program to do.
type Shell interface {
	// Home makes the home screen afresh.
	Home() home.Model
	// Start begins or opens what the user picked.
	Start(home.Action) (Source, error)
	// Export writes a view of a run into files, and says which. clients are those
	// that lanes are of.
	Export(view string, s *run.Snapshot, w scene.Span, clients []ledger.Client) (string, error)
}

// An Exporter is a Shell's Export.
type Exporter func(view string, s *run.Snapshot, w scene.Span, clients []ledger.Client) (string, error)

// Show opens the interface on a run and returns when the user leaves it. Where
// that is before the run is over, the run is ended.
func Show(source Source, shell Shell) error {
	m := newModel(shell)
	m.run = newRunView(source, m.keys, shell.Export)
	return m.show()
}

// ShowHome opens the interface on the home screen.
func ShowHome(shell Shell) error {
	m := newModel(shell)
	h := shell.Home()
	m.home = &h
	return m.show()
}

// ShowProbe opens the interface on the probe.
func ShowProbe(t probe.Target) error {
	m := newModel(nil)
	m.probe = probing.New(t)
	return m.show()
}

func (m model) show() error {
	end, err := tea.NewProgram(m).Run()
	if last, ok := end.(model); ok {
		if last.run != nil {
			last.run.source.Abort()
		}
		if last.probe != nil {
			last.probe.Close()
		}
	}
	if errors.Is(err, tea.ErrInterrupted) {
		err = nil
	}
	return err
}

// refreshEvery is how often the snapshot is looked at.
const refreshEvery = 200 * time.Millisecond

type refresh struct{}

// started tells that what the user picked has begun.
type started struct {
	source Source
	err    error
}

type keys struct {
	help, stop, leave, interrupt, back                                   key.Binding
	window, earlier, later, wider, narrower, nextTick, lastTick          key.Binding
	move, export, message, order, down, pick, rename, drop, marks, knock key.Binding
}

func newKeys() keys {
	bind := func(shown, help string, names ...string) key.Binding {
		return key.NewBinding(key.WithKeys(names...), key.WithHelp(shown, help))
	}
	return keys{
		help:      bind("?", "explain", "?"),
		stop:      bind("s", "let the tide fall", "s"),
		leave:     bind("q", "leave", "q"),
		interrupt: bind("ctrl+c", "stop and save", "ctrl+c"),
		back:      bind("esc", "back", "esc"),
		window:    bind("w", "window", "w"),
		earlier:   bind("←", "earlier", "left"),
		later:     bind("→", "later", "right"),
		wider:     bind("+", "wider", "+", "="),
		narrower:  bind("-", "narrower", "-"),
		move:      bind("← → + -", "move it"),
		nextTick:  bind("n", "next amiss", "n"),
		lastTick:  bind("N", "last amiss", "N"),
		export:    bind("e", "export", "e"),
		message:   bind("m", "a message", "m"),
		order:     bind("b", "order", "b"),
		down:      bind("enter", "look into", "enter"),
		pick:      bind("enter", "open", "enter"),
		rename:    bind("r", "name", "r"),
		drop:      bind("d", "delete", "d"),
		marks:     bind("c", "mark to compare", "c"),
		knock:     bind("p", "probe", "p"),
	}
}

// A model is the root: either the home screen or a run.
type model struct {
	shell         Shell
	home          *home.Model
	run           *runView
	probe         *probing.Model
	keys          keys
	palette       look.Palette
	dark          bool
	profile       colorprofile.Profile
	width, height int
	explaining    bool // the home screen, or the probe
}

func newModel(shell Shell) model {
	return model{shell: shell, keys: newKeys(), dark: true, profile: colorprofile.TrueColor, palette: look.NewPalette(true, colorprofile.TrueColor)}
}

func tick() tea.Cmd { return tea.Tick(refreshEvery, func(time.Time) tea.Msg { return refresh{} }) }

func (m model) Init() tea.Cmd {
	if m.probe != nil {
		return tea.Batch(tick(), tea.RequestBackgroundColor, m.probe.Wait())
	}
	return tea.Batch(tick(), tea.RequestBackgroundColor)
}

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
		if m.run != nil {
			m.run.snapshot = m.run.source.Snapshot()
		}
		return m, tick()
	case started:
		if msg.err != nil {
			h := m.home.Say(msg.err.Error())
			m.home = &h
			return m, nil
		}
		m.run = newRunView(msg.source, m.keys, m.shell.Export)
	case probing.Arrived:
		if m.probe != nil {
			m.probe.Take()
			return m, m.probe.Wait()
		}
	case tea.PasteMsg:
		if m.probe != nil {
			m.probe.Paste(msg)
		}
	case tea.KeyPressMsg:
		if m.probe != nil {
			return m.pressInProbe(msg)
		}
		if m.run != nil {
			return m.pressInRun(msg)
		}
		return m.pressAtHome(msg)
	}
	return m, nil
}

func (m model) pressInRun(msg tea.KeyPressMsg) (tea.Model, tea.Cmd) {
	sc := m.run.scene(&m.palette, m.width, m.height)
	if !m.run.press(msg, sc) {
		return m, nil
	}
	if m.home == nil {
		return m, tea.Quit
	}
	m.run.source.Abort()
	m.run = nil
	h := m.shell.Home()
	m.home = &h
	return m, nil
}

func (m model) pressInProbe(msg tea.KeyPressMsg) (tea.Model, tea.Cmd) {
	switch {
	case m.explaining:
		m.explaining = false
		return m, nil
	case m.probe.Empty() && key.Matches(msg, m.keys.help):
		m.explaining = true
		return m, nil
	case !m.probe.Update(msg):
		return m, nil
	case m.home == nil:
		return m, tea.Quit
	}
	m.probe.Close()
	m.probe = nil
	h := m.shell.Home()
	m.home = &h
	return m, nil
}

func (m model) pressAtHome(msg tea.KeyPressMsg) (tea.Model, tea.Cmd) {
	if m.explaining {
		m.explaining = false
		return m, nil
	}
	next, action, done := m.home.Update(msg)
	m.home = &next
	switch {
	case action != nil && action.Probe != "":
		m.probe = probing.New(probe.Target{URL: action.Probe})
		return m, m.probe.Wait()
	case action != nil:
		shell := m.shell
		return m, func() tea.Msg {
			source, err := shell.Start(*action)
			return started{source, err}
		}
	case done:
	case key.Matches(msg, m.keys.help):
		m.explaining = true
	case key.Matches(msg, m.keys.leave, m.keys.interrupt):
		return m, tea.Quit
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
	if m.width < minWidth || m.height < minHeight {
		return look.Fit(fmt.Sprintf("tide pull needs %d x %d characters", minWidth, minHeight), m.width)
	}
	var lines []string
	switch {
	case m.probe != nil:
		lines = m.drawProbe()
	case m.run != nil:
		lines = m.run.draw(&m.palette, m.width, m.height)
	default:
		lines = m.drawHome()
	}
	for i := range lines {
		lines[i] = look.Fit(lines[i], m.width)
	}
	return strings.Join(lines, "\n")
}

func (m model) drawProbe() []string {
	p := &m.palette
	lines := []string{p.Draw(look.Strong, "tide pull") + "  probe"}
	foot := probing.Hints(p)
	switch {
	case m.explaining:
		lines = append(lines, p.Rule("probe, in words", "", m.width))
		lines = append(lines, strings.Split(probing.Help, "\n")...)
		foot = hints(p, m.keys.back)
	default:
		lines = append(lines, m.probe.View(p, m.width, m.height-2)...)
	}
	if n := m.probe.Notice(); n != "" {
		foot = p.Draw(look.Beware, n)
	}
	for len(lines) < m.height-1 {
		lines = append(lines, "")
	}
	return append(lines[:m.height-1], foot)
}

func (m model) drawHome() []string {
	p := &m.palette
	lines := []string{p.Draw(look.Strong, "tide pull")}
	foot := hints(p, m.keys.pick, m.keys.knock, m.keys.rename, m.keys.drop, m.keys.marks, m.keys.help, m.keys.leave)
	if m.explaining {
		lines = append(lines, p.Rule("home, in words", "", m.width))
		lines = append(lines, strings.Split(home.Help, "\n")...)
		foot = hints(p, m.keys.back)
	} else {
		lines = append(lines, m.home.View(p, m.width, m.height-2)...)
	}
	for len(lines) < m.height-1 {
		lines = append(lines, "")
	}
	return append(lines[:m.height-1], foot)
}

// stripRows is how many rows of water the tide strip has.
func stripRows(height int) int { return min(8, max(3, height/6)) }
