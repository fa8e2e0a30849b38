package tui

import (
	"errors"
	"slices"
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/run"
	"tidepull/internal/tui/balance"
	"tidepull/internal/tui/fanout"
	"tidepull/internal/tui/found"
	"tidepull/internal/tui/lanes"
	"tidepull/internal/tui/look"
	"tidepull/internal/tui/pulse"
	"tidepull/internal/tui/recovery"
	"tidepull/internal/tui/routes"
	"tidepull/internal/tui/scene"
	"tidepull/internal/tui/tide"
	"tidepull/internal/tui/watch"
)

// A Source is a run to be looked at, one that goes on or one that is kept.
type Source interface {
	Snapshot() *run.Snapshot
	Stop()                   // lets the tide fall
	Abort()                  // ends the run at once
	Trouble() string         // why the run is not being kept, or ""
	Faults() []run.LiveFault // what Throw can make happen; none once the run is over
	Throw(i int) error       // makes one happen, or ends it
	// Tune makes one be about more clients or fewer, or do more or less, before it happens.
	Tune(i, whom, more int) error
}

// Kept is a run that is over.
type Kept struct{ Run *run.Snapshot }

// Snapshot implements Source; the others have nothing to do.
func (k Kept) Snapshot() *run.Snapshot { return k.Run }

// Stop implements Source.
func (Kept) Stop() {}

// Abort implements Source.
func (Kept) Abort() {}

// Trouble implements Source.
func (Kept) Trouble() string { return "" }

// Faults implements Source.
func (Kept) Faults() []run.LiveFault { return nil }

// Tune implements Source.
func (Kept) Tune(int, int, int) error { return errors.New("the run is over") }

// Throw implements Source.
func (Kept) Throw(int) error { return errors.New("the run is over") }

type viewName uint8

const (
	viewWatch viewName = iota
	viewFanout
	viewLedger
	viewLanes
	viewRoutes
	viewRecovery
	viewPulse
	viewFindings
	numViews
)

var views = [numViews]struct{ key, name, help string }{
	{"1", "watch", watch.Help}, {"2", "fan-out", fanout.Help}, {"3", "ledger", balance.Help},
	{"4", "lanes", lanes.Help}, {"5", "routes", routes.Help}, {"6", "recovery", recovery.Help},
	{"7", "pulse", pulse.Help}, {"8", "findings", found.Help},
}

// A runView is one run on the screen.
type runView struct {
	source     Source
	snapshot   *run.Snapshot
	keys       keys
	view       viewName
	window     scene.Span
	bands      *watch.Cache
	watch      watch.Model
	fanout     fanout.Model
	balance    balance.Model
	lanes      lanes.Model
	pulse      pulse.Model
	recovery   recovery.Model
	found      found.Model
	summed     *logbook.Window // of summedOf
	summedOf   []*logbook.Entry
	summedSpan scene.Span
	help       helpPane
	faults     faultPane
	leaving    bool // q was pressed once while the run goes on
	stopping   bool // ctrl+c was pressed once
	export     exporter
	notice     string
	dragFrom   int              // the second at which the mouse button went down on the tide; -1: it did not
	tabs       [numViews][2]int // where the views' names stand in the footer
}

func newRunView(source Source, k keys, export exporter) *runView {
	return &runView{source: source, snapshot: source.Snapshot(), keys: k, bands: &watch.Cache{}, export: export,
		dragFrom: -1}
}

// press handles a key; leave tells that the user wants to leave the run.
func (v *runView) press(msg tea.KeyPressMsg, sc scene.Scene) (leave bool) {
	over := v.snapshot.Finished
	wasLeaving := v.leaving
	v.leaving, v.notice = false, ""
	if v.view == viewLanes && v.lanes.Typing() && !key.Matches(msg, v.keys.interrupt) {
		v.lanes, _ = v.lanes.Update(msg, sc)
		return false
	}
	if v.help.open && !key.Matches(msg, v.keys.interrupt) {
		v.help.press(msg.String())
		return false
	}
	if v.faults.open && !key.Matches(msg, v.keys.interrupt) {
		throw, whom, more := v.faults.press(msg.String(), v.source.Faults())
		if whom != 0 || more != 0 {
			if err := v.source.Tune(v.faults.at, whom, more); err != nil {
				v.notice = "nothing was changed: " + err.Error()
			}
			return false
		}
		v.throw(throw)
		return false
	}
	switch {
	case key.Matches(msg, v.keys.help):
		v.help.open = true
	case key.Matches(msg, v.keys.fault) && !over && len(v.source.Faults()) > 0:
		v.faults.open = true
	case key.Matches(msg, v.keys.interrupt):
		if over || v.snapshot.Stopped || v.stopping { // the snapshot is a moment old
			return true
		}
		v.stopping = true
		v.source.Stop()
	case key.Matches(msg, v.keys.stop) && !over:
		v.source.Stop()
	case key.Matches(msg, v.keys.leave):
		if over || wasLeaving {
			return true
		}
		v.leaving = true
	case key.Matches(msg, v.keys.export):
		v.save()
	case v.pickView(msg.String(), sc), v.view == viewLanes && v.pressInView(msg, sc), v.moveWindow(msg),
		v.pressInView(msg, sc):
	case key.Matches(msg, v.keys.back):
		if v.window.Set() {
			v.window = scene.Span{}
		} else if over {
			return true
		}
	}
	return false
}

// save writes the view at hand as a file.
func (v *runView) save() {
	path, err := v.export(Exported{View: views[v.view].name, Run: v.snapshot, Window: v.window,
		Clients: v.lanes.Clients(), Focus: v.lanes.Focus()})
	if err != nil {
		v.notice = "nothing was written: " + err.Error()
		return
	}
	v.notice = "written: " + path
}

// pickView goes to the view with a key; false if none has it.
func (v *runView) pickView(k string, sc scene.Scene) bool {
	for i, view := range views {
		if k == view.key {
			v.goTo(viewName(i), sc)
			return true
		}
	}
	return false
}

// goTo goes to a view. Lanes are around the message, or the client, that was looked at in the ledger.
func (v *runView) goTo(view viewName, sc scene.Scene) {
	if v.view == viewLedger && view == viewLanes {
		if f, is := v.balance.Focus(sc); is {
			v.lanes = v.lanes.FocusOn(sc, f.Message, f.Client)
		}
	}
	v.view = view
}

// pressInView hands a key to the view at hand; done says that it was for it.
func (v *runView) pressInView(msg tea.KeyPressMsg, sc scene.Scene) (done bool) {
	switch v.view {
	case viewWatch:
		v.watch, done = v.watch.Update(msg.String())
	case viewFanout:
		v.fanout, done = v.fanout.Update(msg, sc)
	case viewLedger:
		v.balance, done = v.balance.Update(msg, sc)
	case viewLanes:
		v.lanes, done = v.lanes.Update(msg, sc)
	case viewFindings:
		var to *found.Place
		if v.found, to, done = v.found.Update(msg, sc); to != nil {
			v.lanes, v.view = v.lanes.FocusOn(sc, to.Message, to.Client), viewLanes
		}
	}
	return done
}

// moveWindow sets and moves the window on the tide.
func (v *runView) moveWindow(msg tea.KeyPressMsg) bool {
	n := v.snapshot.Entries.Count()
	if n == 0 {
		return false
	}
	k := &v.keys
	set := func() {
		if !v.window.Set() {
			v.window = scene.Recent(v.snapshot).Within(n)
		}
	}
	switch {
	case key.Matches(msg, k.window):
		if v.window.Set() {
			v.window = scene.Span{}
		} else {
			set()
		}
	case key.Matches(msg, k.earlier):
		set()
		v.window = v.window.Move(-step(v.window), n)
	case key.Matches(msg, k.later):
		set()
		v.window = v.window.Move(step(v.window), n)
	case key.Matches(msg, k.wider):
		set()
		v.window = v.window.Resize(1.5, n)
	case key.Matches(msg, k.narrower):
		set()
		v.window = v.window.Resize(0.67, n)
	case key.Matches(msg, k.nextTick):
		v.jump(1)
	case key.Matches(msg, k.lastTick):
		v.jump(-1)
	default:
		return false
	}
	return true
}

// step is how far the window moves: a fifth of it.
func step(w scene.Span) int { return max(1, (w.To-w.From)/5) }

// jump puts a window of one second on the next or the last second in which
// something went wrong or a limit was broken.
func (v *runView) jump(by int) {
	entries := v.snapshot.Entries
	at := v.window.From
	if !v.window.Set() {
		at = -1
		if by < 0 {
			at = entries.Count()
		}
	}
	for {
		if e := entries.Of(at); e == nil {
			at += by
		} else if at = e.At - 1; by > 0 {
			at = e.At + e.Seconds()
		}
		e := entries.Of(at)
		if e == nil {
			break
		}
		if _, wrong := tide.TickOf(e); wrong || v.breaksLimit(e) {
			v.window = scene.Span{From: e.At, To: e.At + e.Seconds()}
			return
		}
	}
	v.notice = "no problem in that direction"
}

// breaksLimit reports whether a limit on a latency is broken within one second.
func (v *runView) breaksLimit(e *logbook.Entry) bool {
	w, err := logbook.Sum([]*logbook.Entry{e}, nil)
	if err != nil {
		return false
	}
	for _, j := range run.Judge(v.snapshot.Trial.Limits, run.EvidenceOf(w)) {
		if j.Verdict == run.Broken && j.Unit == logbook.Duration {
			return true
		}
	}
	return false
}

// scene makes what the views draw.
func (v *runView) scene(p *look.Palette, width, height int) scene.Scene {
	s := v.snapshot
	span, label := v.window.Within(s.Entries.Count()), ""
	switch {
	case span.Set():
		label = span.Label()
	case v.view == viewWatch && !s.Finished:
		span, label = scene.Recent(s), "last 10 s"
	default:
		span, label = scene.Span{From: 0, To: s.Entries.Count()}, "whole run"
	}
	sc := scene.Scene{Palette: p, Run: s, Label: label, Width: width, Height: height, Window: s.Total,
		Entries: s.Entries}
	if span.To-span.From < s.Entries.Count() {
		sc.Entries = span.Of(s.Entries)
		sc.Window = v.sum(span, sc.Entries)
	}
	return sc
}

// sum sums the window up. All but its newest seconds are summed once for many pictures: they change seldom, if at all.
func (v *runView) sum(span scene.Span, entries []*logbook.Entry) *logbook.Window {
	const newest = 2
	steady := entries[:max(0, len(entries)-newest)]
	if v.summed == nil || v.summedSpan.From != span.From || !same(v.summedOf, steady) {
		w, err := logbook.Sum(steady, nil)
		if err != nil {
			return &logbook.Window{}
		}
		v.summed, v.summedSpan, v.summedOf = w, span, steady
	}
	w := v.summed.Clone()
	for _, e := range entries[len(steady):] {
		if err := w.Add(e); err != nil {
			return &logbook.Window{}
		}
	}
	return w
}

// same reports whether two lists are of the same seconds, none of which has changed.
func same(a, b []*logbook.Entry) bool {
	return slices.EqualFunc(a, b, func(a, b *logbook.Entry) bool { return a == b || a.At == b.At && a.Same(b) })
}

// draw draws the run: what it is, the tide, the verdict, the view at hand, and which keys there are.
func (v *runView) draw(p *look.Palette, width, height int) []string {
	lines := []string{v.header(p, width)}
	if v.help.open {
		lines = append(lines, v.help.view(p, views[v.view].name, views[v.view].help+windowHelp, v.bindings(true), width,
			height-1-footRows(width, height))...)
	} else {
		lines = append(lines, tide.Strip(p, v.snapshot, v.window, width, stripRows(height))...)
		lines = append(lines, v.outcome(p, width))
		sc := v.scene(p, width, height-len(lines)-footRows(width, height))
		switch {
		case v.faults.open:
			lines = append(lines, v.faults.view(p, v.source.Faults(), openNow(v.snapshot), width, sc.Height)...)
		default:
			lines = append(lines, v.drawView(sc)...)
		}
	}
	foot := v.footer(p, width, height)
	for len(lines) < height-len(foot) {
		lines = append(lines, "")
	}
	return append(lines[:height-len(foot)], foot...)
}

// twoFrom is the height from which on there is room for a second line.
const twoFrom = 21

// footRows is how many lines the footer has: on narrow screens that are not low the names of the views have one of
// their own.
func footRows(width, height int) int {
	if width < namesFrom && height >= twoFrom {
		return 2
	}
	return 1
}

// openNow is how many connections are open.
func openNow(s *run.Snapshot) int {
	if n := len(s.Entries); n > 0 {
		return s.Entries[n-1].Gauges.Open
	}
	return 0
}

// drawView draws the view that is chosen.
func (v *runView) drawView(sc scene.Scene) []string {
	switch v.view {
	case viewFanout:
		return v.fanout.View(sc)
	case viewLedger:
		return v.balance.View(sc)
	case viewLanes:
		return v.lanes.View(sc, v.window)
	case viewRoutes:
		return routes.View(sc, v.window)
	case viewPulse:
		return v.pulse.View(sc)
	case viewRecovery:
		return v.recovery.View(sc, v.window)
	case viewFindings:
		return v.found.View(sc)
	}
	return v.watch.View(v.bands, sc)
}

const windowHelp = `

The window: every figure below the tide is of the window on it, which w sets and
takes away. Drag on the tide sets it, too.`

// outcome is the verdict, or how it stands, and why in one line.
func (v *runView) outcome(p *look.Palette, width int) string {
	s := v.snapshot
	verdict, why := s.Outcome()
	signal := look.Attention
	switch {
	case verdict == run.Broken:
		signal = look.SomethingLost
	case verdict == run.Holds:
		signal = look.AllWell
	case s.Err != nil:
		signal = look.InDanger
	}
	word := "verdict: " + s.Word()
	if !s.Finished {
		word = "so far: " + string(verdict)
		if verdict == run.NotProven {
			signal, word = look.AllWell, "so far: nothing is wrong"
			if s.Judged(run.NotProven) {
				signal, word = look.Attention, "so far: not proven"
			}
		}
	}
	if verdict == run.Broken && len(s.Findings) > 0 && v.view != viewFindings {
		head := p.Signal(signal, word) + "  "
		return look.Fit(head+found.Line(p, s.Findings, max(0, width-ansi.StringWidth(head))), width)
	}
	text := p.Signal(signal, word) + "  " + plain.Text(why, 400)
	if verdict == run.Broken && v.view != viewLedger && strings.Contains(why, "ledger.") {
		text = look.Fit(text, max(0, width-18)) + p.Draw(look.Faint, "  3 shows where")
	}
	return look.Fit(text, width)
}

func (v *runView) header(p *look.Palette, width int) string {
	s := v.snapshot
	left := p.Draw(look.Strong, "tide pull") + "  " + plain.Text(s.Trial.Name, 40)
	left += p.Draw(look.Faint, " at ") + plain.Text(s.Trial.Target.Address, 60)
	if of := &s.Processes; len(of.Machines) > 0 {
		left += p.Draw(look.Faint, " from ") + units.Plural(len(of.Machines), "machine")
	} else if of.Workers > 0 {
		left += p.Draw(look.Faint, " by ") + units.Plural(of.Workers, "worker")
	}
	right := v.signal(p)
	return look.Fit(left, max(0, width-ansi.StringWidth(right)-3)) + "  " + right + " "
}

// namesFrom is the width from which on the footer has the names of the views and the keys in one line.
const namesFrom = 110

// namesRow is the width that the names of the views need with two spaces between them.
const namesRow = 86

// footer is the last line, or the last two: what needs an answer comes before what is only said, and that before the
// keys.
func (v *runView) footer(p *look.Palette, width, height int) []string {
	keys := ""
	switch {
	case v.leaving:
		keys = p.Draw(look.Beware, "the run is going on: q again ends it at once, s stops it in order first, any "+
			"other key stays")
	case v.notice != "":
		keys = p.Draw(look.Beware, plain.Text(v.notice, 200))
	case v.source.Trouble() != "":
		keys = p.Signal(look.Attention, plain.Text(v.source.Trouble(), 200))
	case v.help.open:
		keys = hintsWithin(p, width, v.keys.back, v.keys.scroll)
	case v.faults.open:
		keys = hintsWithin(p, width, v.keys.pickFault, v.keys.forWhom, v.keys.howMuch, v.keys.back, v.keys.scroll)
	}
	names, at, gap := "", 0, 2
	if footRows(width, height) == 2 && width < namesRow {
		gap = 1
	}
	for i, view := range views {
		ink := look.Faint
		if viewName(i) == v.view {
			ink = look.Strong
		}
		name := " " + view.name
		if width < namesFrom && height < twoFrom && viewName(i) != v.view {
			name = "" // the view's own keys are worth more
		}
		v.tabs[i] = [2]int{at, at + len(view.key+name)}
		names += p.Draw(look.Strong, view.key) + p.Draw(ink, name) + strings.Repeat(" ", gap)
		at += len(view.key+name) + gap
	}
	always := hints(p, v.keys.help, v.keys.leave)
	room := width - ansi.StringWidth(always) - 3
	if footRows(width, height) == 1 {
		room -= at + 2
	}
	if keys != "" && footRows(width, height) == 1 {
		return []string{keys}
	}
	if keys == "" {
		if shown := hintsWithin(p, max(0, room), v.bindings(false)...); shown != "" {
			keys = shown + "   "
		}
		keys += always
	}
	if footRows(width, height) == 1 {
		return []string{names + "  " + keys}
	}
	return []string{names, keys}
}

// bindings are the keys that do something now: the view's own first, then the
// general ones, those that are needed most before the others. all has those too
// that are only in the help.
func (v *runView) bindings(all bool) []key.Binding {
	k := &v.keys
	var own []key.Binding
	switch v.view {
	case viewWatch:
		own = append(own, k.scroll)
	case viewFanout:
		own = append(own, k.message)
	case viewLedger:
		own = append(own, k.order, k.down)
	case viewFindings:
		own = append(own, k.finding, k.down, k.page)
	case viewLanes:
		for _, h := range lanes.Hints() {
			own = append(own, key.NewBinding(key.WithKeys(h[0]), key.WithHelp(h[0], h[1])))
		}
	}
	var general []key.Binding
	if all {
		general = append(general, k.help, k.leave)
	}
	if !v.snapshot.Finished {
		general = append(general, k.stop)
		if len(v.source.Faults()) > 0 {
			general = append(general, k.fault)
		}
	}
	if v.goesBack() { // it is in every footer, whatever else there is no room for
		const first = 3
		own = slices.Insert(own, min(first, len(own)), k.back)
	}
	if v.view != viewLanes {
		general = append(general, k.nextTick)
	}
	general = append(general, k.export, k.window)
	general = append(general, k.move)
	if all {
		general = append(general, k.lastTick, k.interrupt, k.suspend, k.views)
	}
	return append(own, general...)
}

// alive reports whether what is on the screen may change although the snapshot has not: the source has something to
// say, or a fault that goes on is shown.
func (v *runView) alive() bool { return v.faults.open || v.source.Trouble() != "" }

// goesBack reports whether esc does something: out of a row, out of the window, or out of a run that is over.
func (v *runView) goesBack() bool {
	return v.snapshot.Finished || v.window.Set() || v.view == viewLedger && v.balance.IsDown() ||
		v.view == viewFindings && v.found.IsDown() ||
		v.view == viewLanes && v.lanes.IsOpen()
}

func hints(p *look.Palette, bindings ...key.Binding) string {
	parts := make([]string, len(bindings))
	for i, b := range bindings {
		parts[i] = p.Draw(look.Strong, b.Help().Key) + " " + p.Draw(look.Faint, b.Help().Desc)
	}
	return strings.Join(parts, "   ")
}

// signal is how the run is going, in one shape.
func (v *runView) signal(p *look.Palette) string {
	s := v.snapshot
	t, c := &s.Total.Total, &s.Total.Counts
	signal, word := look.AllWell, ""
	switch {
	case t.Lost > 0:
		signal, word = look.SomethingLost, units.Count(t.Lost)+" lost"
	case s.Err != nil:
		signal, word = look.InDanger, "ended early"
	case c.Broken > 0 || c.Refused > 0 || c.Malformed > 0:
		signal, word = look.InDanger, "connections fail"
	case s.Judged(run.Broken):
		signal, word = look.SomethingLost, "a limit is broken"
	case t.Late > 0 || t.Stray > 0 || t.Duplicate > 0 || t.Defects() > 0:
		signal = look.Attention
	case s.Finished && s.Overall() != run.Holds, !s.Finished && s.Judged(run.NotProven):
		signal, word = look.Attention, string(run.NotProven)
	}
	return p.Signal(signal, word)
}

// mouse handles the views' names, the window on the tide, the wheel.
func (v *runView) mouse(msg tea.Msg, sc scene.Scene, width, height int) {
	switch m := msg.(type) {
	case tea.MouseClickMsg:
		if m.Y == height-footRows(width, height) {
			for i, tab := range v.tabs {
				if m.X >= tab[0] && m.X < tab[1] {
					v.goTo(viewName(i), sc)
				}
			}
			return
		}
		strip := stripRows(height) + 3 // with its rule, its problems and its clock
		top, foot := 1+strip+1, 1      // with the header and the verdict
		switch sc.Height = height - top - foot; {
		case m.Y >= 1 && m.Y < strip:
			v.dragFrom = v.secondAt(m.X, width)
		case m.Y < top || v.help.open || v.faults.open:
		case v.view == viewLedger:
			v.balance = v.balance.Click(m.Y-top, sc)
		case v.view == viewLanes:
			v.lanes = v.lanes.Click(m.Y - top)
		case v.view == viewFindings:
			v.found = v.found.Click(m.Y-top, sc)
		}
	case tea.MouseMotionMsg:
		v.drag(m.X, width)
	case tea.MouseReleaseMsg:
		v.drag(m.X, width)
		v.dragFrom = -1
	case tea.MouseWheelMsg:
		press := tea.KeyPressMsg{Code: tea.KeyDown}
		if wheelBy(m) < 0 {
			press.Code = tea.KeyUp
		}
		if v.help.open {
			v.help.press(press.String())
		} else {
			v.pressInView(press, sc)
		}
	}
}

// drag has the window reach from where the button was pressed to where the mouse is.
func (v *runView) drag(x, width int) {
	if v.dragFrom < 0 {
		return
	}
	at := v.secondAt(x, width)
	from, to := min(v.dragFrom, at), max(v.dragFrom, at)
	v.window = scene.Span{From: from, To: to + 1}.Within(v.snapshot.Entries.Count())
}

// secondAt is the second of the run below a column of the screen.
func (v *runView) secondAt(x, width int) int {
	return int(tide.NewScale(v.snapshot, width).Second(2 * max(0, x-look.Gutter)))
}
