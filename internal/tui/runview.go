package tui

import (
	"fmt"
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"tidepull/internal/logbook"
	"tidepull/internal/plain"
	"tidepull/internal/run"
	"tidepull/internal/tui/balance"
	"tidepull/internal/tui/fanout"
	"tidepull/internal/tui/lanes"
	"tidepull/internal/tui/look"
	"tidepull/internal/tui/scene"
	"tidepull/internal/tui/tide"
	"tidepull/internal/tui/watch"
	"tidepull/internal/units"
)

// A Source is a run to be looked at, one that goes on or one that is kept.
type Source interface {
	Snapshot() *run.Snapshot
	Stop()           // lets the tide fall
	Abort()          // ends the run at once
	Trouble() string // why the run is not being kept, or ""
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

type viewName uint8

const (
	viewWatch viewName = iota
	viewFanout
	viewLedger
	viewLanes
	numViews
)

var views = [numViews]struct{ key, name, help string }{
	{"1", "watch", watch.Help}, {"2", "fan-out", fanout.Help}, {"3", "ledger", balance.Help}, {"4", "lanes", lanes.Help},
}

// A runView is one run on the screen.
type runView struct {
	source     Source
	snapshot   *run.Snapshot
	keys       keys
	view       viewName
	window     scene.Span
	bands      *watch.Cache
	fanout     fanout.Model
	balance    balance.Model
	lanes      lanes.Model
	summed     *logbook.Window // of summedSpan, where it is settled
	summedSpan scene.Span
	explaining bool
	leaving    bool // q was pressed once while the run goes on
	export     Exporter
	notice     string
}

func newRunView(source Source, k keys, export Exporter) *runView {
	return &runView{source: source, snapshot: source.Snapshot(), keys: k, bands: &watch.Cache{}, export: export}
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
	if v.explaining && (key.Matches(msg, v.keys.back) || key.Matches(msg, v.keys.help)) {
		v.explaining = false
		return false
	}
	switch {
	case key.Matches(msg, v.keys.help):
		v.explaining = true
	case key.Matches(msg, v.keys.interrupt):
		if over || v.snapshot.Stopped {
			return true
		}
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
	case v.pickView(msg.String()), v.view == viewLanes && v.pressInView(msg, sc), v.moveWindow(msg), v.pressInView(msg, sc):
	case key.Matches(msg, v.keys.back):
		if v.window.Set() {
			v.window = scene.Span{}
		} else if over {
			return true
		}
	}
	return false
}

func (v *runView) save() {
	path, err := v.export(views[v.view].name, v.snapshot, v.window, v.lanes.Clients())
	if err != nil {
		v.notice = "nothing was written: " + err.Error()
		return
	}
	v.notice = "written: " + path
}

func (v *runView) pickView(k string) bool {
	for i, view := range views {
		if k == view.key {
			v.view = viewName(i)
			return true
		}
	}
	return false
}

func (v *runView) pressInView(msg tea.KeyPressMsg, sc scene.Scene) (done bool) {
	switch v.view {
	case viewFanout:
		v.fanout, done = v.fanout.Update(msg, v.snapshot)
	case viewLedger:
		v.balance, done = v.balance.Update(msg, sc)
	case viewLanes:
		v.lanes, done = v.lanes.Update(msg, sc)
	}
	return done
}

// moveWindow sets and moves the window on the tide.
func (v *runView) moveWindow(msg tea.KeyPressMsg) bool {
	n := len(v.snapshot.Entries)
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
			at = len(entries)
		}
	}
	for at += by; at >= 0 && at < len(entries); at += by {
		if _, amiss := tide.TickOf(entries[at]); amiss || v.breaksLimit(entries[at]) {
			v.window = scene.Span{From: at, To: at + 1}
			return
		}
	}
	v.notice = "nothing amiss in that direction"
}

// breaksLimit tells whether a limit on a latency is broken within one second.
func (v *runView) breaksLimit(e *logbook.Entry) bool {
	w, err := logbook.Sum([]*logbook.Entry{e}, run.Clean)
	if err != nil {
		return false
	}
	for _, j := range run.Judge(v.snapshot.Trial.Limits, w, w) {
		if j.Verdict == run.Broken && j.Unit == logbook.Duration {
			return true
		}
	}
	return false
}

// scene makes what the views draw.
func (v *runView) scene(p *look.Palette, width, height int) scene.Scene {
	s := v.snapshot
	span, label := v.window.Within(len(s.Entries)), ""
	switch {
	case span.Set():
		label = span.Label()
	case v.view == viewWatch && !s.Finished:
		span, label = scene.Recent(s), "last 10 s"
	default:
		span, label = scene.Span{From: 0, To: len(s.Entries)}, "whole run"
	}
	sc := scene.Scene{P: p, S: s, Label: label, Width: width, Height: height, W: s.Total, Entries: s.Entries}
	if span.To-span.From < len(s.Entries) {
		sc.Entries = span.Of(s.Entries)
		sc.W = v.sum(span, sc.Entries)
	}
	return sc
}

// sum sums the window up, and keeps the sum of one that is settled: a wide
// window is drawn many times.
func (v *runView) sum(span scene.Span, entries []*logbook.Entry) *logbook.Window {
	if v.summed != nil && v.summedSpan == span {
		return v.summed
	}
	v.summed = nil
	w, err := logbook.Sum(entries, nil)
	if err != nil {
		return &logbook.Window{}
	}
	if n := len(entries); n > 0 && entries[n-1].Settled && entries[0].Settled {
		v.summed, v.summedSpan = w, span
	}
	return w
}

func (v *runView) draw(p *look.Palette, width, height int) []string {
	lines := []string{v.header(p, width)}
	if v.explaining {
		lines = append(lines, p.Rule(views[v.view].name+", in words", "", width))
		lines = append(lines, strings.Split(views[v.view].help+windowHelp, "\n")...)
	} else {
		strip := tide.Strip(p, v.snapshot, v.window, width, stripRows(height))
		lines = append(lines, strip...)
		sc := v.scene(p, width, height-len(lines)-1)
		switch v.view {
		case viewFanout:
			lines = append(lines, v.fanout.View(sc)...)
		case viewLedger:
			lines = append(lines, v.balance.View(sc)...)
		case viewLanes:
			lines = append(lines, v.lanes.View(sc, v.window)...)
		default:
			lines = append(lines, watch.View(v.bands, sc)...)
		}
	}
	for len(lines) < height-1 {
		lines = append(lines, "")
	}
	return append(lines[:height-1], v.footer(p, width))
}

const windowHelp = `

The window: w sets it and takes it away, left and right move it, + and - make it
wider and narrower, n and N jump to the next and the last second with something
amiss. Every figure below the tide is of the window.`

func (v *runView) header(p *look.Palette, width int) string {
	s := v.snapshot
	left := p.Draw(look.Strong, "tide pull") + "  " + plain.Text(s.Trial.Name, 40)
	left += p.Draw(look.Faint, " at ") + plain.Text(s.Trial.Target.WebSocket, 60)
	right := v.signal(p)
	return look.Fit(left, max(0, width-ansi.StringWidth(right)-3)) + "  " + right + " "
}

func (v *runView) footer(p *look.Palette, width int) string {
	switch {
	case v.leaving:
		return p.Draw(look.Beware, "the run is going on: q again ends it at once, s lets the tide fall first, any other key stays")
	case v.notice != "":
		return p.Draw(look.Beware, plain.Text(v.notice, 200))
	case v.source.Trouble() != "":
		return p.Signal(look.Attention, plain.Text(v.source.Trouble(), 200))
	case v.explaining:
		return hints(p, v.keys.back)
	}
	var names []string
	for i, view := range views {
		ink := look.Faint
		if viewName(i) == v.view {
			ink = look.Strong
		}
		names = append(names, p.Draw(look.Strong, view.key)+" "+p.Draw(ink, view.name))
	}
	text := strings.Join(names, "  ")
	bindings := []key.Binding{v.keys.window, v.keys.move, v.keys.nextTick, v.keys.export, v.keys.help}
	if v.view == viewLanes {
		bindings = nil
		for _, h := range lanes.Hints() {
			bindings = append(bindings, key.NewBinding(key.WithHelp(h[0], h[1])))
		}
		bindings = append(bindings, v.keys.window, v.keys.export, v.keys.help)
	}
	switch v.view {
	case viewFanout:
		bindings = append([]key.Binding{v.keys.message}, bindings...)
	case viewLedger:
		bindings = append([]key.Binding{v.keys.order, v.keys.down}, bindings...)
	}
	if !v.snapshot.Finished && v.snapshot.Leg != "" {
		bindings = append(bindings, v.keys.stop)
	}
	all := text + "     " + hints(p, append(bindings, v.keys.leave)...)
	if ansi.StringWidth(all) > width { // the least needed go first
		all = text + "   " + hints(p, v.keys.window, v.keys.help, v.keys.stop, v.keys.leave)
	}
	return all
}

func hints(p *look.Palette, bindings ...key.Binding) string {
	parts := make([]string, len(bindings))
	for i, b := range bindings {
		parts[i] = p.Draw(look.Strong, b.Help().Key) + " " + p.Draw(look.Faint, b.Help().Desc)
	}
	return strings.Join(parts, "   ")
}

// signal is how the run is going, in one sea-mark.
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
	case t.Late > 0 || t.Stray > 0 || t.Duplicate > 0 || t.Defects() > 0 || s.Total.ChecksFailed() > 0 || c.Missed > 0 || c.Denied > 0 || c.Unsent > 0:
		signal = look.Attention
	case s.Judged(run.Broken):
		signal, word = look.Attention, "a limit is broken"
	case s.Judged(run.NotProven):
		signal, word = look.Attention, "not proven"
	}
	text := p.Signal(signal, word)
	if s.Finished {
		text = p.Draw(look.Strong, fmt.Sprintf("verdict: %s", s.Overall())) + "  " + text
	}
	return text
}
