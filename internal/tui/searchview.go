package tui

import (
	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"tidepull/internal/base/plain"
	"tidepull/internal/tui/capacity"
	"tidepull/internal/tui/look"
)

// A Search is a search for a server's capacity.
type Search interface {
	State() *capacity.State
	// Stop cuts the window under way short and ends the search; what is known stays.
	Stop()
}

// ShowCapacity opens the interface on a search, and returns when the user leaves it; a search that goes on is stopped
// then.
func ShowCapacity(s Search) error {
	m := newModel(nil)
	m.search = &searchView{search: s, state: s.State()}
	return m.show()
}

// A searchView is a search on the screen.
type searchView struct {
	search Search
	state  *capacity.State
	view   capacity.Model
	asked  bool // q was pressed once
	stops  bool // it was stopped
}

// refresh looks at the search again.
func (v *searchView) refresh() {
	before := len(v.state.Tries)
	v.state = v.search.State()
	v.view.Added(len(v.state.Tries) - before)
}

func (v *searchView) stop() {
	v.stops = true
	v.search.Stop()
}

// pressInSearch handles a key: no single one ends what goes on, but for ctrl+c.
func (m model) pressInSearch(msg tea.KeyPressMsg) (tea.Model, tea.Cmd) {
	v := m.search
	asked := v.asked
	v.asked = false
	leave, interrupt := key.Matches(msg, m.keys.leave), key.Matches(msg, m.keys.interrupt)
	switch {
	case interrupt && (v.state.Over || v.stops), leave && v.state.Over && !m.help.open:
		return m, tea.Quit
	case interrupt:
		v.stop()
	case m.help.open:
		m.help.press(msg.String())
	case key.Matches(msg, m.keys.help):
		m.help.open = true
	case leave && asked:
		v.stop()
	case leave:
		v.asked = !v.stops
	default:
		v.view.Update(msg, v.state)
	}
	return m, nil
}

// drawSearch is the screen of a search.
func (m model) drawSearch() []string {
	p, v := &m.palette, m.search
	lines := []string{p.Draw(look.Strong, "tide pull") + "  capacity of " + plain.Text(v.state.Target, 200)}
	keys := []key.Binding{m.keys.leave, m.keys.help, m.keys.scroll, m.keys.interrupt}
	foot := hintsWithin(p, m.width, keys...)
	switch {
	case m.help.open:
		lines = append(lines, m.help.view(p, "capacity", capacity.Help, append(keys, m.keys.suspend), m.width,
			m.height-2)...)
		foot = hintsWithin(p, m.width, m.keys.back, m.keys.scroll)
	default:
		lines = append(lines, v.view.View(p, v.state, m.width, m.height-2)...)
	}
	switch {
	case v.asked:
		foot = p.Draw(look.Beware, "the search goes on: q again ends it, and keeps what is known")
	case v.stops && !v.state.Over:
		foot = p.Draw(look.Beware, "the window under way is cut short")
	}
	return m.over(lines, foot)
}
