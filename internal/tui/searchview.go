package tui

import (
	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"tidepull/internal/base/plain"
	"tidepull/internal/tui/capacity"
	"tidepull/internal/tui/look"
	"tidepull/internal/tui/surveying"
)

// A Search is a search for a server's capacity.
type Search interface {
	State() *capacity.State
	// Stop cuts the window under way short and ends the search; what is known stays.
	Stop()
}

// A Survey is one under way.
type Survey interface {
	State() *surveying.State
	// Stop cuts the experiment under way short and ends the survey; what is known stays.
	Stop()
	// Export writes what is known so far, and says where.
	Export() (string, error)
}

// ShowCapacity opens the interface on a search, and returns when the user leaves it; a search that goes on is stopped
// then.
func ShowCapacity(s Search) error {
	m := newModel(nil)
	m.search = &searchView{series: &capacitySeries{search: s, state: s.State()}}
	return m.show()
}

// ShowSurvey opens the interface on a survey, and returns when the user leaves it; one that goes on is stopped then.
func ShowSurvey(s Survey) error {
	m := newModel(nil)
	m.search = &searchView{series: &surveySeries{survey: s, state: s.State()}}
	return m.show()
}

// A series is several runs one after another, for one purpose, on the screen.
type series interface {
	refresh()
	stop()
	isOver() bool
	title() string
	help() (name, text string)
	keys(k keys) []key.Binding
	press(msg tea.KeyPressMsg, k keys, p *look.Palette, width, height int) bool
	move(by int)
	click(x, y int, p *look.Palette, width, height int)
	draw(p *look.Palette, width, height int) []string
	// notice is a line for the foot; "": none. Once it is told it is gone.
	notice() string
	// goesOn and cut say what leaving would end, and that it was ended.
	goesOn() string
	cut() string
}

// A searchView is a series on the screen.
type searchView struct {
	series
	asked bool // q was pressed once
	stops bool // it was stopped
}

func (v *searchView) end() {
	v.stops = true
	v.stop()
}

// pressInSearch handles a key: no single one ends what goes on, but for ctrl+c.
func (m model) pressInSearch(msg tea.KeyPressMsg) (tea.Model, tea.Cmd) {
	v := m.search
	asked := v.asked
	v.asked = false
	leave, interrupt := key.Matches(msg, m.keys.leave), key.Matches(msg, m.keys.interrupt)
	switch {
	case interrupt && (v.isOver() || v.stops), leave && v.isOver() && !m.help.open:
		return m, tea.Quit
	case interrupt:
		v.end()
	case m.help.open:
		m.help.press(msg.String())
	case key.Matches(msg, m.keys.help):
		m.help.open = true
	case leave && asked:
		v.end()
	case leave:
		v.asked = !v.stops
	default:
		v.press(msg, m.keys, &m.palette, m.width, m.height-2)
	}
	return m, nil
}

// mouseInSearch handles a click or the wheel.
func (m *model) mouseInSearch(msg tea.MouseMsg) {
	switch msg := msg.(type) {
	case tea.MouseWheelMsg:
		m.search.move(wheelBy(msg))
	case tea.MouseClickMsg:
		if !m.help.open {
			m.search.click(msg.X, msg.Y-1, &m.palette, m.width, m.height-2)
		}
	}
}

// drawSearch is the screen of a series.
func (m model) drawSearch() []string {
	p, v := &m.palette, m.search
	lines := []string{p.Draw(look.Strong, "tide pull") + "  " + v.title()}
	keys := v.keys(m.keys)
	foot := hintsWithin(p, m.width, keys...)
	if m.help.open {
		name, text := v.help()
		lines = append(lines, m.help.view(p, name, text, append(keys, m.keys.suspend), m.width, m.height-2)...)
		foot = hintsWithin(p, m.width, m.keys.back, m.keys.scroll)
	} else {
		lines = append(lines, v.draw(p, m.width, m.height-2)...)
	}
	switch notice := v.notice(); {
	case v.asked:
		foot = p.Draw(look.Beware, v.goesOn())
	case v.stops && !v.isOver():
		foot = p.Draw(look.Beware, v.cut())
	case notice != "":
		foot = p.Draw(look.Strong, plain.Text(notice, m.width))
	}
	return m.over(lines, foot)
}

// A capacitySeries is a search for a capacity.
type capacitySeries struct {
	search Search
	state  *capacity.State
	view   capacity.Model
}

func (s *capacitySeries) refresh() {
	before := len(s.state.Tries)
	s.state = s.search.State()
	s.view.Added(len(s.state.Tries) - before)
}

func (s *capacitySeries) stop()        { s.search.Stop() }
func (s *capacitySeries) isOver() bool { return s.state.Over }
func (s *capacitySeries) title() string {
	return "capacity of " + plain.Text(s.state.Target,
		200)
}
func (s *capacitySeries) help() (name, text string)                 { return "capacity", capacity.Help }
func (s *capacitySeries) move(by int)                               { s.view.Move(by, s.state) }
func (s *capacitySeries) click(_, _ int, _ *look.Palette, _, _ int) {}
func (s *capacitySeries) notice() string                            { return "" }
func (s *capacitySeries) cut() string                               { return "the window under way is cut short" }
func (s *capacitySeries) goesOn() string {
	return "the search goes on: q again ends it, and keeps what is known"
}

func (s *capacitySeries) keys(k keys) []key.Binding {
	return []key.Binding{k.leave, k.help, k.scroll, k.interrupt}
}

func (s *capacitySeries) press(msg tea.KeyPressMsg, _ keys, _ *look.Palette, _, _ int) bool {
	s.view.Update(msg, s.state)
	return true
}

func (s *capacitySeries) draw(p *look.Palette, width, height int) []string {
	return s.view.View(p, s.state, width, height)
}

// A surveySeries is a survey.
type surveySeries struct {
	survey Survey
	state  *surveying.State
	view   surveying.Model
	says   string
}

func (s *surveySeries) refresh()                  { s.state = s.survey.State() }
func (s *surveySeries) stop()                     { s.survey.Stop() }
func (s *surveySeries) isOver() bool              { return s.state.Over }
func (s *surveySeries) title() string             { return "a survey of " + plain.Text(s.state.Target, 200) }
func (s *surveySeries) help() (name, text string) { return "survey", surveying.Help }
func (s *surveySeries) move(by int)               { s.view.Move(by, s.state) }
func (s *surveySeries) notice() string            { return s.says }
func (s *surveySeries) cut() string               { return "the experiment under way is cut short" }
func (s *surveySeries) goesOn() string {
	return "the survey goes on: q again ends it, and keeps what is known"
}

func (s *surveySeries) click(x, y int, p *look.Palette, width, height int) {
	s.view.Click(x, y, s.state, p, width, height)
}

func (s *surveySeries) keys(k keys) []key.Binding {
	if s.view.IsDown() {
		return []key.Binding{k.back, k.help, k.finding, k.down, k.leave}
	}
	return []key.Binding{k.leave, k.help, k.chooseRow, k.nextFound, k.down, k.page, k.export, k.interrupt}
}

func (s *surveySeries) press(msg tea.KeyPressMsg, k keys, p *look.Palette, width, height int) bool {
	s.says = ""
	if key.Matches(msg, k.export) && !s.view.IsDown() {
		where, err := s.survey.Export()
		if s.says = "written to " + where; err != nil {
			s.says = err.Error()
		}
		return true
	}
	return s.view.Update(msg, s.state, p, width, height)
}

func (s *surveySeries) draw(p *look.Palette, width, height int) []string {
	return s.view.View(p, s.state, width, height)
}
