// Package tui is the full-screen interface. The root takes the size, the
// background and quitting; a view draws an immutable snapshot of a run, five
// times a second, and never sees single messages.
package tui

import (
	"errors"
	"fmt"
	"strings"
	"sync/atomic"
	"time"
	"unicode"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/capture/probe"
	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/ledger"
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
	// Start begins or opens what the user picked. It says from time to time what share of it is done, if it knows.
	Start(what home.Action, done func(share float64)) (Source, error)
	// Export writes a view of a run into files, and says which.
	Export(Exported) (string, error)
}

// Exported is what is to be written.
type Exported struct {
	View    string
	Run     *run.Snapshot
	Window  scene.Span
	Clients []ledger.Client // to show the lanes of
	Focus   *lane.Record    // around which they are; may be nil
}

// An exporter is a Shell's Export.
type exporter func(Exported) (string, error)

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

// show runs until the user leaves. A run that goes on is ended then: nobody would see it.
func (m model) show() error {
	program := tea.NewProgram(m)
	stop := quitOnHangup(program)
	end, err := program.Run()
	stop()
	if last, ok := end.(model); ok {
		if last.run != nil {
			last.run.source.Abort()
		}
		if last.probe != nil {
			last.probe.Close()
		}
		if last.search != nil {
			last.search.stop()
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
	by     *start
	err    error
}

type keys struct {
	help, stop, leave, interrupt, back, suspend, scroll, views                                key.Binding
	window, earlier, later, wider, narrower, nextTick, lastTick                               key.Binding
	move, export, message, finding, page, order, down, pick, runIt, rename, drop, marks, dial key.Binding
	fault, pickFault, forWhom, howMuch                                                        key.Binding
	chooseRow, nextFound                                                                      key.Binding
}

// newKeys are the keys of the whole application; views have their own beside them.
func newKeys() keys {
	bind := func(shown, help string, names ...string) key.Binding {
		return key.NewBinding(key.WithKeys(names...), key.WithHelp(shown, help))
	}
	return keys{
		help:      bind("?", "help", "?"),
		stop:      bind("s", "stop", "s"),
		leave:     bind("q", "quit", "q"),
		interrupt: bind("ctrl+c", "stop and save; again: quit", "ctrl+c"),
		suspend:   bind("ctrl+z", "to the shell; fg comes back", "ctrl+z"),
		back:      bind("esc", "back", "esc"),
		scroll:    bind("↑ ↓", "scroll", "up", "down"),
		views:     bind("1 to 8", "the views", "1", "2", "3", "4", "5", "6", "7", "8"),
		window:    bind("w", "window", "w"),
		earlier:   bind("←", "earlier", "left"),
		later:     bind("→", "later", "right"),
		wider:     bind("+", "wider", "+", "="),
		narrower:  bind("-", "narrower", "-"),
		move:      bind("← → + -", "move it", "left", "right", "+", "-"),
		nextTick:  bind("n", "next problem", "n"),
		lastTick:  bind("N", "last problem", "N"),
		export:    bind("e", "export", "e"),
		message:   bind("m M", "message", "m", "M"),
		finding:   bind("↑ ↓", "choose", "up", "down"),
		page:      bind("pgdn", "more", "pgdown"),
		order:     bind("b", "group by", "b"),
		down:      bind("enter", "look into", "enter"),
		pick:      bind("enter", "open", "enter"),
		runIt:     bind("enter", "run", "enter"),
		rename:    bind("r", "rename", "r"),
		drop:      bind("d", "delete", "d"),
		marks:     bind("c", "compare", "c"),
		dial:      bind("p", "probe", "p"),
		chooseRow: bind("↑ ↓ ← →", "choose", "up", "down", "left", "right"),
		nextFound: bind("n", "next found", "n"),
		fault:     bind("f", "break", "f"),
		pickFault: bind("enter", "begin, end", "enter"),
		forWhom:   bind("← →", "clients", "left", "right"),
		howMuch:   bind("- +", "how much", "-", "+"),
	}
}

// A model is the root: either the home screen or a run.
type model struct {
	shell         Shell
	home          *home.Model
	run           *runView
	probe         *probing.Model
	search        *searchView
	keys          keys
	palette       look.Palette
	dark          bool
	profile       colorprofile.Profile
	width, height int
	help          helpPane     // of the home screen, or the probe
	starting      *start       // what the user picked, until it has begun
	ran           *home.Action // what the user picked last
	drawn         *drawn
}

// drawn is the last picture. It is drawn again if something may have changed: a picture costs as much as some thousand
// messages, and most times that the run is looked at it stands as it did.
type drawn struct {
	text  string
	stale bool
}

// A start is something that is being started. It cannot be interrupted; if the
// user does not wait for it, it is ended as soon as it is there.
type start struct {
	what   string
	since  time.Time
	done   atomic.Uint64 // what share of it is, in millionths
	gaveUp bool
}

func newModel(shell Shell) model {
	return model{shell: shell, keys: newKeys(), drawn: &drawn{stale: true}, dark: true, profile: colorprofile.TrueColor,
		palette: look.NewPalette(true, colorprofile.TrueColor)}
}

func tick() tea.Cmd { return tea.Tick(refreshEvery, func(time.Time) tea.Msg { return refresh{} }) }

func (m model) Init() tea.Cmd {
	if m.probe != nil {
		return tea.Batch(tick(), tea.RequestBackgroundColor, m.probe.Wait())
	}
	return tea.Batch(tick(), tea.RequestBackgroundColor)
}

// Update implements tea.Model: what concerns all screens, and then the screen at hand.
func (m model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	if _, is := msg.(refresh); !is {
		m.drawn.stale = true
	}
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
			if next := m.run.source.Snapshot(); next != m.run.snapshot {
				m.run.snapshot = next
				m.drawn.stale = true
			}
			m.drawn.stale = m.drawn.stale || m.run.alive()
			return m, tick()
		}
		if m.search != nil {
			m.search.refresh()
		}
		m.drawn.stale = true
		return m, tick()
	case started:
		return m.begun(msg), nil
	case tea.MouseMsg:
		m.mouse(msg)
	case probing.Arrived:
		if m.probe != nil {
			m.probe.Take()
			return m, m.probe.Wait()
		}
	case tea.PasteMsg:
		switch {
		case m.probe != nil:
			m.probe.Paste(msg)
		case m.run != nil:
			m.run.lanes = m.run.lanes.Paste(msg)
		case m.home != nil:
			h := m.home.Paste(msg)
			m.home = &h
		}
	case tea.KeyPressMsg:
		if msg.Mod == tea.ModAlt && msg.Code != tea.KeyEscape { // a key that came together with the esc before it
			next, first := m.Update(tea.KeyPressMsg{Code: tea.KeyEscape})
			msg.Mod = 0
			if msg.Text == "" && unicode.IsPrint(msg.Code) {
				msg.Text = string(msg.Code)
			}
			last, second := next.Update(msg)
			return last, tea.Sequence(first, second)
		}
		if key.Matches(msg, m.keys.suspend) {
			return m, suspend()
		}
		if m.search != nil {
			return m.pressInSearch(msg)
		}
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

// pressInRun hands a key to the run; who leaves it comes back to the home, if the application began there.
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
	h := m.shell.Home().After(*m.home, m.ran)
	m.home = &h
	return m, nil
}

// pressInProbe hands a key to the probe. A question mark may be part of what is typed: it is help only while
// nothing is.
func (m model) pressInProbe(msg tea.KeyPressMsg) (tea.Model, tea.Cmd) {
	switch {
	case m.help.open:
		m.help.press(msg.String())
		return m, nil
	case m.probe.Empty() && key.Matches(msg, m.keys.help):
		m.help.open = true
		return m, nil
	case !m.probe.Update(msg):
		return m, nil
	case m.home == nil:
		return m, tea.Quit
	}
	m.probe.Close()
	m.probe = nil
	h := m.shell.Home().After(*m.home, nil)
	m.home = &h
	return m, nil
}

// pressAtHome hands a key to the home.
func (m model) pressAtHome(msg tea.KeyPressMsg) (tea.Model, tea.Cmd) {
	interrupt := key.Matches(msg, m.keys.interrupt)
	switch {
	case m.starting != nil: // nothing else is started, or changed, meanwhile
		if interrupt || key.Matches(msg, m.keys.back, m.keys.leave) {
			m.starting.gaveUp = true
			if interrupt {
				return m, tea.Quit
			}
		}
		return m, nil
	case m.help.open && !interrupt:
		m.help.press(msg.String())
		return m, nil
	case interrupt:
		return m, tea.Quit
	}
	next, action, done := m.home.Update(msg)
	m.home = &next
	switch {
	case action != nil && action.Probe != "":
		m.probe = probing.New(probe.Target{URL: action.Probe})
		return m, m.probe.Wait()
	case action != nil:
		shell, mine := m.shell, &start{what: action.Words(), since: time.Now()}
		m.starting, m.ran = mine, action
		return m, func() tea.Msg {
			source, err := shell.Start(*action, func(share float64) { mine.done.Store(uint64(share * 1e6)) })
			return started{source, mine, err}
		}
	case done:
	case key.Matches(msg, m.keys.help):
		m.help.open = true
	case key.Matches(msg, m.keys.leave):
		return m, tea.Quit
	}
	return m, nil
}

// begun takes over what was started, or ends it where nobody waits for it any
// more.
func (m model) begun(msg started) model {
	if msg.by.gaveUp {
		if msg.err == nil {
			go msg.source.Abort()
		}
	} else if msg.err != nil {
		h := m.home.Say(msg.err.Error())
		m.home = &h
	} else {
		m.run = newRunView(msg.source, m.keys, m.shell.Export)
	}
	if m.starting == msg.by {
		m.starting = nil
	}
	return m
}

// mouse hands a click or the wheel to what is on the screen.
func (m *model) mouse(msg tea.MouseMsg) {
	switch {
	case m.run != nil:
		m.run.mouse(msg, m.run.scene(&m.palette, m.width, m.height), m.width, m.height)
	case m.search != nil:
		m.mouseInSearch(msg)
	case m.probe != nil:
	case m.home != nil && m.starting == nil:
		at := msg.Mouse()
		switch msg := msg.(type) {
		case tea.MouseWheelMsg:
			by := wheelBy(msg)
			if m.help.open {
				m.help.offset += by
				return
			}
			h := m.home.Move(by)
			m.home = &h
		case tea.MouseClickMsg:
			h := m.home.Click(at.X, at.Y-1)
			m.home = &h
		}
	}
}

// wheelBy is by how many rows the wheel moves: down, or up.
func wheelBy(msg tea.MouseWheelMsg) int {
	if msg.Button == tea.MouseWheelUp {
		return -1
	}
	return 1
}

// View implements tea.Model.
func (m model) View() tea.View {
	v := tea.NewView("")
	v.AltScreen = true
	v.MouseMode = tea.MouseModeCellMotion
	v.WindowTitle = "tide pull"
	if m.width > 0 && m.height > 0 {
		if m.drawn.stale {
			m.drawn.text, m.drawn.stale = m.draw(), false
		}
		v.SetContent(m.drawn.text)
	}
	return v
}

// The smallest screen that the views are drawn on.
const (
	minWidth  = 60
	minHeight = 18
)

// draw is the whole screen as text.
func (m model) draw() string {
	if m.width < minWidth || m.height < minHeight {
		text := fmt.Sprintf("tide pull needs %d x %d characters, and this is %d x %d", minWidth, minHeight, m.width,
			m.height)
		lines := strings.Split(ansi.Wrap(text, m.width, ""), "\n")
		return strings.Join(lines[:min(len(lines), m.height)], "\n")
	}
	var lines []string
	switch {
	case m.search != nil:
		lines = m.drawSearch()
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

// over sets lines above a last one, as many as the screen has.
func (m model) over(lines []string, foot string) []string {
	for len(lines) < m.height-1 {
		lines = append(lines, "")
	}
	return append(lines[:m.height-1], foot)
}

// drawProbe is the screen of a probe.
func (m model) drawProbe() []string {
	p := &m.palette
	lines := []string{p.Draw(look.Strong, "tide pull") + "  probe"}
	foot := probing.Hints(p)
	switch {
	case m.help.open:
		lines = append(lines, m.help.view(p, "probe", probing.Help, []key.Binding{m.keys.back, m.keys.interrupt},
			m.width, m.height-2)...)
		foot = hintsWithin(p, m.width, m.keys.back, m.keys.scroll)
	default:
		lines = append(lines, m.probe.View(p, m.width, m.height-2)...)
	}
	if n := m.probe.Notice(); n != "" {
		foot = p.Draw(look.Beware, n)
	}
	return m.over(lines, foot)
}

// drawHome is the first screen.
func (m model) drawHome() []string {
	p := &m.palette
	lines := []string{p.Draw(look.Strong, "tide pull")}
	enter := m.keys.runIt
	if m.home.Opens() {
		enter = m.keys.pick
	}
	keys := []key.Binding{enter, m.keys.help, m.keys.leave, m.keys.dial, m.keys.rename, m.keys.drop, m.keys.marks}
	foot := hintsWithin(p, m.width, keys...)
	switch {
	case m.help.open:
		lines = append(lines, m.help.view(p, "home", home.Help, keys, m.width, m.height-2)...)
		foot = hintsWithin(p, m.width, m.keys.back, m.keys.scroll)
	default:
		lines = append(lines, m.home.View(p, m.width, m.height-2)...)
	}
	if m.starting != nil {
		foot = p.Draw(look.Water, fmt.Sprintf("%s ... %.0f s", plain.Text(m.starting.what, 60),
			time.Since(m.starting.since).Seconds())) + "   " + hintsWithin(p, 30, m.keys.back)
		if done := float64(m.starting.done.Load()) / 1e6; done > 0 {
			foot = p.Draw(look.Water, plain.Text(m.starting.what, 60)) + " " + p.Bar(done, 30) +
				p.Draw(look.Faint, " "+units.Percent(done)) + "   " + hintsWithin(p, 30, m.keys.back)
		}
		if m.starting.gaveUp {
			foot = p.Draw(look.Beware, "it is ended as soon as it has started")
		}
	}
	return m.over(lines, foot)
}

// stripRows is how many rows of water the tide strip has.
func stripRows(height int) int { return min(8, max(3, height/6)) }
