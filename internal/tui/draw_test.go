package tui

import (
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"
	"unicode"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"

	"tidepull/internal/base/mono"
	"tidepull/internal/base/units"
	"tidepull/internal/capture/probe"
	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/mark"
	"tidepull/internal/run"
	"tidepull/internal/trial"
	"tidepull/internal/tui/look"
	"tidepull/internal/tui/probing"
	"tidepull/internal/tui/scene"
	"tidepull/internal/wire/http1"
)

// hostile is a name as a server or a trial may give one: escapes that clear the
// screen, wide and combining characters, a change of direction, no end.
const hostile = "\x1b[2J\x1b]0;x\x07 Schleuse水門 e\u0301\u202e\r\n\x9b31m" +
	"abcdefghijklmnopqrstuvwxyzabcdefghijklmnopqrstuvwxyz"

// hostileRun is a run in which every name is hostile and everything that can go
// wrong has.
func hostileRun(t *testing.T) *run.Snapshot {
	t.Helper()
	tr := &trial.Trial{Name: hostile, Prompt: time.Second, Grace: time.Second,
		Target: trial.Target{Name: hostile, Address: "ws://" + hostile},
		Crews:  []trial.Crew{{Name: hostile, Clients: 20}, {Name: "tugs", Clients: 20}},
		Feeds:  []trial.Feed{{Name: "silent"}, {Name: hostile}},
		Tide: trial.Tide{Legs: []trial.Leg{{Word: "flood", To: 1, Over: 5 * time.Second},
			{Word: "slack", To: 1, Over: 20 * time.Second}}},
		Limits: []trial.Limit{{Name: hostile, Figure: "fanout.p99", Rule: trial.Below, Value: 1},
			{Name: "lost", Figure: "ledger.lost", Rule: trial.Equals},
			{Name: "entering", Figure: "enter.p50", Rule: trial.Below, Value: 1}}}
	book := logbook.NewBook(0, 2)
	l := ledger.New(ledger.Config{Run: 1, Crews: 2, Prompt: tr.Prompt, Grace: tr.Grace, Keep: 50, Sample: 5,
		Spread: func(s ledger.Spread) { book.Second(s.Sheet.Second).Spread(s) }})
	room := l.Room(hostile)
	s := &run.Snapshot{Trial: tr, Started: time.Unix(0, 0), Elapsed: 12 * time.Second, Leg: "slack",
		Rooms: []string{ledger.EveryoneName, hostile}, Reasons: map[string]int{hostile: 3, "broken: " + hostile: 4,
			"gave up: " + hostile: 1}, RSSPerOpen: 3000,
		Happened: []run.Happened{{Name: hostile, Do: "restart", From: 3 * time.Second, To: 5 * time.Second},
			{Name: "x", Do: "stop", From: 6 * time.Second, Why: hostile}},
		Server: []run.Sample{{Memory: 1 << 20}, {At: 1, Runs: true, Memory: 1 << 30, CPU: time.Second, Files: 9,
			Threads: 7}}}
	for c := range ledger.Client(40) {
		l.AddClient(uint16(c / 20))
		l.Ask(c, room, 0)
		l.Enter(c, room, 0)
		s.Names = append(s.Names, fmt.Sprint(hostile, c))
		s.Sent, s.Got = append(s.Sent, 1), append(s.Got, 2)
		s.Events = append(s.Events, logbook.Event{Client: c, Room: room, What: logbook.Entered},
			logbook.Event{Client: c, Room: -1, What: logbook.Broke, Detail: hostile})
	}
	for second := range 12 {
		now := mono.Time(second) * mono.Time(time.Second)
		book.Advance(now)
		p := book.Now()
		p.Gauges = logbook.Gauges{Planned: 40, Out: 40, Open: 3 * second}
		p.Health = logbook.Health{Span: time.Second, Busy: time.Duration(second) * 90 * time.Millisecond}
		p.Tells(1, 1e300*float64(second-6))
		p.Counts.Broken, p.Counts.Sent = int64(second%4/3), 1
		p.Counts.Returns = logbook.ReturnCounts{Broke: 5, Tries: 1 << 40, Accepted: 3, Away: int64(second), GaveUp: 2}
		p.Counts.Routes = logbook.RouteCounts{On: [logbook.NumTransports]int64{int64(30 - second), int64(second), 0,
			5, 5, 1,
			1}, Down: 1, Up: 2, UpFailed: 3, NoneLeft: 1, Asked: 40, BytesUp: 1 << 40, Dials: 9, LostAt: 1,
			DoubledAt: 1}
		n := l.Say(ledger.Say{Room: room, Sender: ledger.Client(second), Due: now, Sent: now, Sheet: &p.Sheet})
		for c := range ledger.Client(39 + second%2) { // one lost each other second
			for range 1 + second/10 { // the last ones doubled
				v := l.Arrive(ledger.Arrival{To: c, Mark: mark.Mark{Run: 1, Room: uint32(room), Number: n},
					At: now + mono.Time(c)*1e5, Sheet: &p.Sheet})
				if v.Fate == ledger.Delivered {
					p.Delivery(uint16(c/20), v.Owed, v.Latency, v.Least)
				}
			}
		}
		p.Times[logbook.ReadingLag].Record(time.Millisecond)
	}
	book.Advance(mono.Time(12 * time.Second))
	l.Settle(mono.Never - 1)
	tr.Checks = []trial.Check{{Name: hostile, Kind: hostile}}
	for i := range 60 {
		c := ledger.Client(i % 7)
		r := lane.Record{At: time.Duration(i) * 230 * time.Millisecond, Client: c, Peer: (c + 3) % 7, Room: 1,
			Number: uint64(i % 9), What: lane.Happening(i % int(lane.NumWhats)),
			Fate: ledger.Fate(i % int(ledger.NumFates)), Kind: ledger.Kind(i % int(ledger.NumKinds)),
			Took: time.Duration(i) * time.Millisecond, Size: uint32(i)}
		s.Lanes = append(s.Lanes, r)
	}
	for n := range uint64(9) {
		s.Bodies = append(s.Bodies, lane.Body{Number: n,
			Text: []byte(`{"` + hostile + `":[1,{"a":"` + hostile + `"}]}`), Cut: true},
			lane.Body{Number: n, Text: []byte("\x00\xff" + hostile)})
	}
	s.FinalResults = []run.FinalResult{{Name: hostile, Verdict: run.Broken, Why: hostile}}
	book.Second(11).Check(0, false)
	s.Entries, _ = book.Take(true)
	s.Kept, s.Sampled = l.Kept, l.Sampled
	var err error
	if s.Total, err = logbook.Sum(s.Entries, nil); err != nil {
		t.Fatal(err)
	}
	s.Judgements = run.Judge(run.Limits(tr), run.EvidenceOf(s.Total))
	s.Reasons = map[string]int{"denied: " + hostile: 40, "not recognised: " + hostile: 3, "step down: " + hostile: 7,
		"no route left: " + hostile: 1}
	for i := range 40 {
		s.Reasons[fmt.Sprint("step up: ", i, hostile)] = i
	}
	if len(s.Kept) < 6 || s.Total.Total.Lost < 6 || s.Total.Total.Duplicate == 0 {
		t.Fatalf("too little is wrong: %+v", s.Total.Total)
	}
	return s
}

// A troubled source says hostile things of its store.
type troubled struct{ Kept }

func (troubled) Trouble() string { return "the store: " + hostile }

func press(name string) tea.KeyPressMsg {
	for code, text := range map[rune]string{tea.KeyEnter: "enter", tea.KeyEscape: "esc", tea.KeyDown: "down",
		tea.KeyUp: "up", tea.KeyLeft: "left", tea.KeyRight: "right"} {
		if text == name {
			return tea.KeyPressMsg{Code: code}
		}
	}
	return tea.KeyPressMsg{Code: rune(name[0]), Text: name}
}

func newTestView(s *run.Snapshot) *runView {
	v := newRunView(troubled{Kept{s}}, newKeys(), func(Exported) (string, error) {
		return "", errors.New(hostile)
	})
	return v
}

// check looks at a drawn screen: every line has at most the screen's width, no
// character in it moves the cursor, and no escape sequence is but a colour.
func check(t *testing.T, what string, m model) {
	t.Helper()
	lines := strings.Split(m.draw(), "\n")
	if len(lines) != m.height {
		t.Errorf("%s at %dx%d: %d lines", what, m.width, m.height, len(lines))
	}
	for i, line := range lines {
		if w := ansi.StringWidth(line); w > m.width {
			t.Errorf("%s at %dx%d: line %d is %d wide: %q", what, m.width, m.height, i, w, ansi.Strip(line))
		}
		for rest := line; rest != ""; {
			at := strings.IndexByte(rest, '\x1b')
			clean := rest
			if at >= 0 {
				clean = rest[:at]
			}
			for _, r := range clean {
				if !unicode.IsPrint(r) {
					t.Fatalf("%s: %U gets through in line %d: %q", what, r, i, line)
				}
			}
			if at < 0 {
				break
			}
			end := strings.IndexByte(rest[at:], 'm')
			if end < 0 || strings.Trim(rest[at+2:at+end], "0123456789;:") != "" || rest[at+1] != '[' {
				t.Fatalf("%s: an escape sequence that is no colour in line %d: %q", what, i, line)
			}
			rest = rest[at+end+1:]
		}
	}
}

// TestHostileNames draws every view, every level of the ledger and every
// message at many sizes, in colour and without.
func TestHostileNames(t *testing.T) {
	s := hostileRun(t)
	paths := map[string][]string{
		"watch": {"1"}, "watch, window": {"1", "w", "+"}, "fan-out": {"2"}, "fan-out, one message": {"2", "m"},
		"fan-out, the last": {"2", "M"},
		"ledger":            {"3"}, "by crew": {"3", "b"}, "by kind": {"3", "b", "b"}, "a room": {"3", "enter"},
		"a message":           {"3", "enter", "enter"},
		"a client":            {"3", "enter", "enter", "enter"},
		"its message":         {"3", "enter", "enter", "enter", "down", "down", "enter"},
		"window on the amiss": {"3", "n", "n"},
		"help":                {"2", "?"}, "help, scrolled": {"3", "?", "down", "down", "down"},
		"scrolled": {"1", "down", "down", "down", "down", "down", "down"}, "export": {"3", "e"}, "leaving": {"q"},
		"lanes": {"4"}, "routes": {"5"}, "routes, window": {"5", "w", "+"}, "help of routes": {"5", "?"},
		"recovery": {"6"}, "recovery, window": {"6", "w", "+"}, "help of recovery": {"6", "?"},
		"a payload": {"4", "enter"}, "as bytes": {"4", "down", "down", "enter", "space"},
		"what is odd": {"4", "f", "f", "f", "f", "f", "n", "n", "enter"}, "unfolded": {"4", "z", "up"},
		"picking": {"4", "g", "x", "enter"}, "help of lanes": {"4", "?"},
	}
	for _, profile := range []colorprofile.Profile{colorprofile.TrueColor, colorprofile.ANSI} {
		for _, finished := range []bool{false, true} {
			one := *s
			one.Finished = finished
			for name, path := range paths {
				for _, size := range [][2]int{{60, 18}, {80, 24}, {99, 31}, {120, 30}, {160, 47}, {233, 70}} {
					m := newModel(nil)
					m.width, m.height, m.palette = size[0], size[1], look.NewPalette(true, profile)
					m.run = newTestView(&one)
					for _, k := range path {
						m.run.press(press(k), m.run.scene(&m.palette, m.width, m.height))
					}
					check(t, name, m)
				}
			}
		}
	}
}

// TestHostileServer draws a probe whose three servers say hostile things.
func TestHostileServer(t *testing.T) {
	at := time.Unix(0, 0)
	events := []probe.Event{
		{What: probe.Phase, Phase: "name lookup", Took: time.Millisecond, Detail: hostile},
		{What: probe.Phase, Phase: "TLS", Took: time.Second, Detail: hostile},
		{What: probe.Request, Head: &http1.Head{Method: hostile, Path: hostile,
			Fields: []http1.Field{{Name: hostile, Value: hostile}}}},
		{What: probe.Answer, Head: &http1.Head{Status: 200, Reason: hostile,
			Fields: []http1.Field{{Name: hostile, Value: hostile}, {Name: "a", Value: ""}}}},
		{What: probe.Refused, Why: hostile, Try: []string{hostile, hostile}}, {What: probe.Opened, Detail: hostile},
		{What: probe.In, Op: "text", Last: true, Payload: []byte(hostile), Message: []byte(hostile),
			Text: probe.Show([]byte(hostile)), Why: hostile},
		{What: probe.In, Op: "binary", Last: true, Payload: []byte("\xff" + hostile), Binary: true,
			Text: probe.Show([]byte("\xff" + hostile))},
		{What: probe.In, Op: "close", Code: 4000, Detail: hostile, Payload: []byte(hostile),
			Text: probe.Show([]byte(hostile))},
		{What: probe.Out, Op: "text", Last: true, Payload: []byte("{\"a\":\"" + hostile + "\"}")},
		{What: probe.Unsent, Why: hostile}, {What: probe.Ended, Why: hostile, By: "server"},
	}
	for i := range events {
		events[i].At, events[i].Since, events[i].Size = at, time.Duration(i)*time.Millisecond, len(events[i].Payload)
	}
	for n := 1; n <= 3; n++ {
		for _, size := range [][2]int{{60, 18}, {80, 24}, {160, 47}, {233, 70}} {
			m := newModel(nil)
			m.width, m.height = size[0], size[1]
			m.probe = probing.Shown(n, "ws://"+hostile, events)
			check(t, "probe", m)
			m.probe.Update(tea.KeyPressMsg{Code: 'd', Mod: tea.ModCtrl})
			check(t, "probe, unfolded", m)
			m.help.open = true
			check(t, "probe, explained", m)
		}
	}
}

// TestWindowKeys moves the window about and compares with what it should be.
func TestWindowKeys(t *testing.T) {
	s := hostileRun(t)
	s.Finished = true
	n := len(s.Entries)
	v := newTestView(s)
	step := func(k string, want scene.Span) {
		t.Helper()
		v.press(press(k), scene.Scene{Run: s, Window: s.Total, Entries: s.Entries})
		if v.window != want {
			t.Fatalf("after %q the window is %v, want %v", k, v.window, want)
		}
	}
	step("w", scene.Span{From: n - 10, To: n})
	step("left", scene.Span{From: n - 12, To: n - 2})
	for range 20 {
		v.press(press("left"), scene.Scene{})
	}
	step("left", scene.Span{From: 0, To: 10})
	step("-", scene.Span{From: 4, To: 10})
	step("-", scene.Span{From: 6, To: 10})
	step("+", scene.Span{From: 4, To: 10})
	for range 30 {
		v.press(press("right"), scene.Scene{})
	}
	step("right", scene.Span{From: n - 6, To: n})
	step("esc", scene.Span{})
	step("n", scene.Span{From: 0, To: 1}) // lost in every other second, a limit broken in all
	step("n", scene.Span{From: 1, To: 2})
	step("N", scene.Span{From: 0, To: 1})
	step("N", scene.Span{From: 0, To: 1})
	if v.notice == "" {
		t.Error("nothing is said at the end of the jumps")
	}
	step("w", scene.Span{})
	if v.press(press("esc"), scene.Scene{Run: s, Window: s.Total}) != true {
		t.Error("esc does not leave a run that is over")
	}
}

// TestFiguresOfTheWindow: what the views sum up is the window and nothing else.
func TestFiguresOfTheWindow(t *testing.T) {
	s := hostileRun(t)
	v := newTestView(s)
	p := look.NewPalette(true, colorprofile.TrueColor)
	whole := v.scene(&p, 100, 30)
	if whole.Label != "last 10 s" || whole.Window.Seconds != 10 {
		t.Errorf("watch sums up %q, %d seconds", whole.Label, whole.Window.Seconds)
	}
	v.view = viewLedger
	if sc := v.scene(&p, 100, 30); sc.Window != s.Total || sc.Label != "whole run" {
		t.Errorf("the ledger sums up %q", sc.Label)
	}
	v.window = scene.Span{From: 3, To: 5}
	sc := v.scene(&p, 100, 30)
	if sc.Window.Total.Said != 2 || sc.Window.Total.Owed != 80 || sc.Label != "0:03-0:05" || len(sc.Entries) != 2 {
		t.Errorf("%q: %+v", sc.Label, sc.Window.Total)
	}
}

// TestKeysAreShown: each key that the footer names is one that is bound.
func TestKeysAreShown(t *testing.T) {
	k := newKeys()
	for _, b := range []key.Binding{k.help, k.stop, k.leave, k.window, k.nextTick, k.export, k.message, k.order} {
		if !key.Matches(press(strings.Fields(b.Help().Key)[0]), b) {
			t.Errorf("the footer names %q, which does not do it", b.Help().Key)
		}
	}
	v := newTestView(hostileRun(t))
	p := look.NewPalette(true, colorprofile.NoTTY)
	v.source = Kept{v.snapshot}
	for view, want := range map[viewName]string{viewWatch: "w window", viewFanout: "m M message",
		viewLedger: "enter look into"} {
		v.view = view
		if got := ansi.Strip(strings.Join(v.footer(&p, 200, 50), "\n")); !strings.Contains(got, want) ||
			!strings.Contains(got, "? help") ||
			!strings.Contains(got, "q quit") {
			t.Errorf("footer: %s", got)
		}
	}
}

// TestFigures: what the views show is what was measured, to the last digit, and
// what went wrong is seen at every size.
func TestFigures(t *testing.T) {
	s := hostileRun(t)
	s.Finished = true
	w, sum := s.Total, &s.Total.Total
	draw := func(width, height int, path ...string) string {
		m := newModel(nil)
		m.width, m.height, m.palette = width, height, look.NewPalette(true, colorprofile.NoTTY)
		m.run = newRunView(Kept{s}, newKeys(), nil)
		for _, k := range path {
			m.run.press(press(k), m.run.scene(&m.palette, m.width, m.height))
		}
		return ansi.Strip(m.draw())
	}
	has := func(what, screen string, patterns ...string) {
		t.Helper()
		for _, p := range patterns {
			if !regexp.MustCompile(p).MatchString(screen) {
				t.Errorf("%s does not show %s:\n%s", what, p, screen)
			}
		}
	}
	n := func(v int64) string { return regexp.QuoteMeta(units.Count(v)) }
	d := func(v time.Duration) string { return regexp.QuoteMeta(units.Duration(v)) }
	f := w.Fanout()
	has("watch", draw(160, 47), `owed \.+ +`+n(sum.Owed), `delivered \.+ +`+n(sum.Delivered), `lost \.+ +`+n(sum.Lost),
		`duplicate \.+ +`+n(sum.Duplicate), `stray \.+ +`+n(sum.Stray),
		`fan-out p50 \.+ +`+d(f.Quantile(0.5)), `p99 \.+ +`+d(f.Quantile(0.99)), `max \.+ +`+d(f.Max()),
		`first recipient \.+ +`+d(w.First.Quantile(0.5)), `last recipient \.+ +`+d(w.Last.Quantile(0.5)),
		`reading lag p99 \.+ +`+d(w.Times[logbook.ReadingLag].Quantile(0.99)), `checks failed \.+ +1`,
		`verdict: broken`,
		`40 x denied: `, n(sum.Lost)+` lost`)
	for _, size := range [][2]int{{60, 18}, {80, 24}, {100, 30}} {
		for _, path := range [][]string{{"1"}, {"1", "down", "down", "down"}} {
			has(fmt.Sprint("watch at ", size), draw(size[0], size[1], path...), `(?m)^lost `+n(sum.Lost)+
				`   duplicate `+n(sum.Duplicate)+`   stray `+n(sum.Stray),
				n(sum.Lost)+` lost`, `■ .*ledger\.lost is `+
					n(sum.Lost))
		}
	}
	has("fan-out", draw(160, 47, "2"), `p50 `+d(f.Quantile(0.5)), `p99 `+d(f.Quantile(0.99)), `32 to 63 +`+
		n(int64(f.Count()))+` +`+d(f.Quantile(0.5)))
	has("ledger", draw(200, 47, "3"), `sum +`+n(sum.Said)+` +`+n(sum.Owed)+` +`+n(sum.Delivered)+` +`+n(sum.Late)+` +`+
		n(sum.Lost)+` +`+n(sum.Excused)+` +`+n(sum.Open())+` +`+n(sum.Duplicate)+` +`+n(sum.Stray), `passed +failed`)
	one, err := logbook.Sum(s.Entries[1:2], nil)
	if err != nil {
		t.Fatal(err)
	}
	screen := draw(160, 47, "3", "n", "n")
	has("one second", screen, `sum +`+n(one.Total.Said)+` +`+n(one.Total.Owed)+` +`+n(one.Total.Delivered)+` +`+
		n(one.Total.Late)+` +`+n(one.Total.Lost))
	// A message of the window alone is stepped to in fan-out.
	second := regexp.MustCompile(`message (\d+)`).FindStringSubmatch(draw(160, 47, "3", "n", "n", "2", "m"))
	if second == nil {
		t.Error("m shows no message of the window")
	} else {
		number, _ := strconv.Atoi(second[1])
		for _, m := range s.Kept {
			if at := int(time.Duration(m.Due) / time.Second); m.Number == uint64(number) && at != 1 {
				t.Errorf("m shows message %d of second %d", number, at)
			}
		}
	}
	for _, key := range []string{"1", "2", "3", "4"} { // its own keys first, and as many as fit
		foot := func(width int) string {
			lines := strings.Split(draw(width, 47, key), "\n")
			return lines[len(lines)-1]
		}
		own := map[string]string{"1": "scroll", "2": "m M message", "3": "b group by", "4": "step"}[key]
		if short, long := foot(80), foot(160); !strings.Contains(short, own) || !strings.Contains(long, own) ||
			!strings.Contains(long, "? help") || !strings.Contains(long, "q quit") ||
			len(strings.Fields(long)) <= len(strings.Fields(short)) {
			t.Errorf("the footers of view %s:\n%s\n%s", key, short, long)
		}
	}
	has("help", draw(80, 60, "3", "?"), `■ +something was lost`, `b +group by`, `excused +the recipient left`)
}

// TestEscTogether: esc and a letter that come in one read are two keys, and not one with alt.
func TestEscTogether(t *testing.T) {
	m := newModel(nil)
	m.width, m.height = 160, 47
	m.run = newTestView(hostileRun(t))
	m.run.view = viewLedger
	after, _ := m.Update(press("enter"))
	m = after.(model)
	if !m.run.balance.IsDown() {
		t.Fatal("enter goes nowhere")
	}
	after, _ = m.Update(tea.KeyPressMsg{Code: '2', Mod: tea.ModAlt})
	if m = after.(model); m.run == nil || m.run.view != viewFanout || m.run.balance.IsDown() {
		t.Errorf("esc and 2 together: %+v", m.run)
	}
}
