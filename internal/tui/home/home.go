// Package home is the first screen: the trials in this folder, the demo, and
// the runs that are kept.
package home

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/capture/probe"
	"tidepull/internal/report/store"
	"tidepull/internal/report/versus"
	"tidepull/internal/run"
	"tidepull/internal/tui/look"
)

// Help explains the screen in words.
const Help = `This is where everything starts.

On the left there is what can be opened, on the right what the selected thing is: a
trial's plan with its tide, crews and limits, or how a run ended, and why.

enter on the demo runs the shipped trial against the shipped stand-in, a harbour
board. enter on a trial of this folder (a file that ends in .trial.hcl) runs it;
one with errors shows them instead. enter on a run opens it: a run that is kept is
looked at through the same views as one that is going on.

The probe asks for an address, and then one to three clients are driven by hand.
Deleting is asked twice. Two runs that are marked to compare are set side by side.`

// An Action is what the user wants the program to do.
type Action struct {
	Demo  bool
	Trial string // a file
	Run   int64  // a kept run
	Probe string // an address to probe
}

// Words says what the action is about.
func (a *Action) Words() string {
	switch {
	case a.Run != 0:
		return fmt.Sprintf("opening run %d", a.Run)
	case a.Trial != "":
		return "starting " + a.Trial
	}
	return "starting the demo"
}

// A Model is the screen's state.
type Model struct {
	store    *store.Store // nil if there is none
	trials   []string
	runs     []store.Run
	trouble  string
	notice   string
	cursor   int
	marked   []int64
	naming   bool
	dialling bool // an address for the probe is asked for
	input    textinput.Model
	deleting int64
	compared bool
	preview  preview
	rows     []int // by line of the list as it was drawn last: the item there, -1 for none
}

// New makes the screen. trouble says why there is no store, if there is
// none.
func New(trials []string, s *store.Store, trouble string) Model {
	m := Model{store: s, trials: trials, trouble: trouble, input: textinput.New()}
	m.input.CharLimit = 60
	m.input.Prompt = "name: "
	return m.Refresh().look()
}

// After gives the screen as it is when the user comes back to it from something that was opened or run: the cursor is
// on that run, if it is kept, or where it was. Nothing is run again by pressing enter once too often.
func (m Model) After(before Model, ran *Action) Model {
	m.cursor = min(before.cursor, m.items()-1)
	switch r := before.at(); {
	case ran != nil && (ran.Demo || ran.Trial != "") && len(m.runs) > 0 && !slices.ContainsFunc(before.runs,
		func(r store.Run) bool { return r.ID == m.runs[0].ID }):
		m.cursor = 1 + len(m.trials)
	case r != nil:
		if i := slices.IndexFunc(m.runs, func(other store.Run) bool { return other.ID == r.ID }); i >= 0 {
			m.cursor = 1 + len(m.trials) + i
		}
	}
	return m.look()
}

// Opens reports whether enter opens what is at hand; else it runs it.
func (m Model) Opens() bool { return m.at() != nil }

// Move moves the cursor.
func (m Model) Move(by int) Model {
	m.cursor = min(max(0, m.cursor+by), m.items()-1)
	return m.look()
}

// Click selects what is at a place on the screen, below the header.
func (m Model) Click(x, y int) Model {
	if y >= 0 && y < len(m.rows) && m.rows[y] >= 0 && !m.Typing() && !m.compared {
		m.cursor = m.rows[y]
	}
	return m.look()
}

// Paste puts text into the input.
func (m Model) Paste(msg tea.PasteMsg) Model {
	if m.Typing() {
		m.input, _ = m.input.Update(msg)
	}
	return m
}

// Refresh reads the list of runs again.
func (m Model) Refresh() Model {
	if m.store == nil {
		return m
	}
	runs, err := m.store.Runs()
	if err != nil {
		m.trouble = err.Error()
		return m
	}
	m.runs, m.trouble = runs, ""
	m.cursor = min(m.cursor, m.items()-1)
	return m
}

// Say shows a text above the list until the next key.
func (m Model) Say(text string) Model {
	m.notice = text
	return m
}

func (m Model) items() int { return 1 + len(m.trials) + len(m.runs) }

// at is the run under the cursor, nil if there is none.
func (m Model) at() *store.Run {
	if i := m.cursor - 1 - len(m.trials); i >= 0 && i < len(m.runs) {
		return &m.runs[i]
	}
	return nil
}

// Typing reports whether keys are text for the user's input.
func (m Model) Typing() bool { return m.naming || m.dialling }

// Update handles a key; done reports whether the key was one of the screen's.
func (m Model) Update(msg tea.KeyPressMsg) (next Model, action *Action, done bool) {
	if m.naming {
		return m.typed(msg), nil, true
	}
	if m.dialling {
		return m.typedAddress(msg)
	}
	m.notice = ""
	deleting := m.deleting
	m.deleting = 0
	if m.compared { // the list is not seen: nothing in it can be picked
		if msg.String() != "esc" && msg.String() != "c" {
			return m, nil, false
		}
		m.compared, m.marked = false, nil
		return m, nil, true
	}
	switch msg.String() {
	case "up", "k":
		return m.Move(-1), nil, true
	case "down", "j":
		return m.Move(1), nil, true
	case "pgup":
		return m.Move(-10), nil, true
	case "pgdown":
		return m.Move(10), nil, true
	case "home":
		return m.Move(-m.items()), nil, true
	case "end":
		return m.Move(m.items()), nil, true
	case "enter":
		return m, m.action(), true
	case "r":
		if r := m.at(); r != nil {
			m.naming = true
			m.input.Prompt, m.input.CharLimit = "name: ", 60
			m.input.SetValue(r.Name)
			m.input.Focus()
		}
	case "p":
		m.dialling = true
		m.input.Prompt, m.input.CharLimit = "address to probe: ", 400
		m.input.SetValue("ws://127.0.0.1:7411/live")
		m.input.CursorEnd()
		m.input.Focus()
	case "d":
		m = m.delete(deleting)
	case "c":
		m = m.mark()
	case "esc":
		if len(m.marked) == 0 {
			return m, nil, false
		}
		m.marked = nil
	default:
		return m, nil, false
	}
	return m.look(), nil, true
}

// typedAddress takes the address for the probe.
func (m Model) typedAddress(msg tea.KeyPressMsg) (Model, *Action, bool) {
	switch msg.String() {
	case "enter":
		if _, err := probe.ParseURL(m.input.Value()); err != nil {
			return m.Say(err.Error()), nil, true
		}
		m.dialling = false
		return m, &Action{Probe: m.input.Value()}, true
	case "esc":
		m.dialling, m.notice = false, ""
		return m, nil, true
	}
	m.input, _ = m.input.Update(msg)
	return m, nil, true
}

// typed takes a key while a run's name is being typed.
func (m Model) typed(msg tea.KeyPressMsg) Model {
	switch msg.String() {
	case "enter":
		m.naming = false
		if err := m.store.Rename(m.at().ID, strings.TrimSpace(m.input.Value())); err != nil {
			return m.Say(err.Error())
		}
		return m.Refresh()
	case "esc":
		m.naming = false
		return m
	}
	m.input, _ = m.input.Update(msg)
	return m
}

// action is what enter does with the line at hand; nil if nothing.
func (m Model) action() *Action {
	switch {
	case m.cursor == 0:
		return &Action{Demo: true}
	case m.cursor <= len(m.trials):
		return &Action{Trial: m.trials[m.cursor-1]}
	}
	if r := m.at(); r != nil {
		return &Action{Run: r.ID}
	}
	return nil
}

// delete asks at the first call and deletes at the second.
func (m Model) delete(asked int64) Model {
	r := m.at()
	switch {
	case r == nil:
		return m
	case r.ID != asked:
		m.deleting = r.ID
		return m.Say(fmt.Sprintf("d again deletes run %d for good; any other key keeps it", r.ID))
	}
	if err := m.store.Delete(r.ID); err != nil {
		return m.Say(err.Error())
	}
	return m.Say(fmt.Sprintf("run %d is deleted", r.ID)).Refresh()
}

// mark marks the run under the cursor; with two marked they are compared.
func (m Model) mark() Model {
	r := m.at()
	if r == nil {
		return m
	}
	for i, id := range m.marked {
		if id == r.ID {
			m.marked = append(append([]int64(nil), m.marked[:i]...), m.marked[i+1:]...)
			return m
		}
	}
	m.marked = append(append([]int64(nil), m.marked...), r.ID)
	if len(m.marked) > 2 {
		m.marked = m.marked[1:]
	}
	m.compared = len(m.marked) == 2
	return m
}

// wide is from where on the list has what is selected beside it.
const wide = 110

// View draws the screen, without header and footer.
func (m *Model) View(p *look.Palette, width, height int) []string {
	var top []string
	if m.Typing() {
		m.input.SetWidth(max(10, width-len(m.input.Prompt)-2))
		top = []string{m.input.View(), ""}
	}
	if m.notice != "" {
		for _, l := range strings.Split(m.notice, "\n") {
			top = append(top, p.Draw(look.Beware, look.Fit(plain.Text(l, 0), width)))
		}
		top = append(top, "")
	}
	room := max(1, height-len(top))
	if m.compared {
		m.rows = nil
		return append(top, m.compare(p, width, room)...)
	}
	each := width
	if width >= wide {
		each = max(58, width*2/5)
	}
	list := m.list(p, each, room, width < wide)
	m.rows = append(slices.Repeat([]int{-1}, len(top)), m.rows...)
	if width < wide {
		return append(top, list...)
	}
	side := m.side(p, width-each-look.ColumnGap, room)
	for i := range room {
		left, right := "", ""
		if i < len(list) {
			left = list[i]
		}
		if i < len(side) {
			right = side[i]
		}
		top = append(top, look.Fit(left, each)+strings.Repeat(" ", look.ColumnGap)+right)
	}
	return top
}

// list draws what can be opened, scrolled to the cursor.
func (m *Model) list(p *look.Palette, width, room int, alone bool) []string {
	var lines []string
	var items []int
	selected := 0
	add := func(text string) { lines, items = append(lines, text), append(items, -1) }
	item := func(i int, text string) {
		pointer := "  "
		if i == m.cursor {
			pointer = p.Draw(look.Strong, "▸ ")
			selected = len(lines)
		}
		lines, items = append(lines, look.Fit(pointer+text, width)), append(items, i)
	}
	add(p.Rule("the demo", "", width))
	item(0, "morning tide, against the stand-in")
	add("")
	add(p.Rule("by hand", "", width))
	add("  " + p.Draw(look.Strong, "p") + " the probe: one to three clients, driven by hand")
	add("")
	add(p.Rule("trials in this folder", "", width))
	for i, t := range m.trials {
		item(1+i, plain.Text(t, 100))
	}
	if len(m.trials) == 0 {
		add("  " + p.Draw(look.Faint, "none; tidepull demo --write my.trial.hcl gives you one"))
	}
	add("")
	add(p.Rule("runs", p.Draw(look.Faint, runHead(width)), width))
	for i := range m.runs {
		item(1+len(m.trials)+i, m.runLine(p, &m.runs[i], width-2))
	}
	switch {
	case m.trouble != "":
		add("  " + p.Signal(look.Attention, plain.Text(m.trouble, 200)))
	case len(m.runs) == 0:
		add("  " + p.Draw(look.Faint, "none are kept yet"))
	}
	if r := m.at(); alone && r != nil && r.Why != "" && room > 6 { // there is no room beside it
		room -= 2
		from := min(max(0, selected-room+2), max(0, len(lines)-room))
		to := min(len(lines), from+room)
		m.rows = items[from:to]
		return append(slices.Clone(lines[from:to]), "",
			p.Draw(look.Faint, look.Fit("why: "+plain.Text(r.Why, 400), width)))
	}
	from := min(max(0, selected-room+2), max(0, len(lines)-room))
	to := min(len(lines), from+room)
	m.rows = items[from:to]
	return lines[from:to]
}

func runHead(width int) string {
	if width < 120 {
		return "verdict"
	}
	return fmt.Sprintf("%-19s  %7s  %8s  %9s  %11s", "started", "clients", "lost", "p99", "verdict")
}

// runLine is a run in the list; figures of it only if there is room for them.
func (m Model) runLine(p *look.Palette, r *store.Run, width int) string {
	name := fmt.Sprintf("%4d  %s", r.ID, plain.Text(r.Title(), 40))
	for _, id := range m.marked {
		if id == r.ID {
			name += p.Draw(look.Plan, " ◆ marked")
		}
	}
	word := verdict(p, r)
	if width < 118 {
		return p.Line(name, width, 0, word)
	}
	var sum run.Summary
	lost, p99 := "", ""
	if json.Unmarshal(r.Summary, &sum) == nil {
		lost, p99 = units.Count(sum.Ledger.Lost), units.Micros(sum.Fanout.P99)
	}
	tail := fmt.Sprintf("%s  %7s  %8s  %9s  ", r.Started.Local().Format("2006-01-02 15:04:05"),
		units.Count(int64(r.Clients)), lost, p99)
	return p.Line(name, width-14, 0, tail) + look.Right(word, 14)
}

// verdict is a run's in its ink. One that was cut short has none to speak of, whatever stands there.
func verdict(p *look.Palette, r *store.Run) string {
	switch {
	case r.CutShort():
		return p.Signal(look.Attention, "cut short")
	case r.State == "running":
		return p.Draw(look.Water, r.Outcome())
	case r.State == "unreachable":
		return p.Signal(look.InDanger, r.Outcome())
	case r.Verdict == string(run.Holds):
		return p.Signal(look.AllWell, r.Verdict)
	case r.Verdict == string(run.Broken):
		return p.Signal(look.SomethingLost, r.Verdict)
	}
	return p.Signal(look.Attention, r.Verdict)
}

// compare sets the two marked runs side by side.
func (m Model) compare(p *look.Palette, width, height int) []string {
	var sides [2]*versus.Side
	for i, id := range m.marked {
		k := slices.IndexFunc(m.runs, func(r store.Run) bool { return r.ID == id })
		if k < 0 {
			return []string{p.Draw(look.Faint, "one of them is not kept any more; esc goes back to the list")}
		}
		side, err := m.runs[k].Side()
		if err != nil {
			return []string{p.Draw(look.Beware, plain.Text(err.Error(), 200))}
		}
		sides[i] = side
	}
	each := min(width, 130)
	column := max(13, (each-30)/4)
	heads := []string{look.Clip(sides[0].Name, column-1), look.Clip(sides[1].Name, column-1), "difference"}
	lines := []string{p.Heading("two runs", each, column, heads...)}
	for _, r := range versus.Rows(sides[0], sides[1]) {
		if len(lines) >= height-2 {
			break
		}
		name := look.Clip(r.Name, max(10, each-3*column-3))
		lines = append(lines, p.Line(name, each, column, look.Clip(r.A, column-1), look.Clip(r.B, column-1),
			r.Difference))
	}
	return append(lines, "", p.Draw(look.Faint, look.Fit(fmt.Sprintf("esc goes back to the list; tidepull runs "+
		"compare %d "+
		"%d writes it, also as a drawing", m.marked[0], m.marked[1]), width)))
}
