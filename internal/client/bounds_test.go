package client

import (
	"bytes"
	"errors"
	"fmt"
	"testing"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/client/reading"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
	"tidepull/internal/trial/expr"
	"tidepull/internal/wire/jsonscan"
	"tidepull/internal/wire/transport"
)

// TestReasonsAreBounded: what servers say does not fill the table.
func TestReasonsAreBounded(t *testing.T) {
	e := &Env{Fixed: Fixed{Trial: &trial.Trial{}}}
	for i := range 2000 {
		e.countReason("closed", fmt.Errorf("reason %d", i))
	}
	if n := len(e.Reasons.All()); n != 51 || e.Reasons.Of("other reasons") != 1950 {
		t.Errorf("%d reasons are kept, %d others", n, e.Reasons.Of("other reasons"))
	}
}

// TestUnfinishedIsBounded: of a message that does not end as much is kept as may be, and no more.
func TestUnfinishedIsBounded(t *testing.T) {
	const now = mono.Time(20 * time.Second)
	for more, breaks := range map[int]bool{0: false, 1: true} {
		e, c := staged(t, 0, trial.Expect, now)
		e.Trial.Dialect.Across, e.Trial.Dialect.Split = true, []byte("\n")
		for _, n := range []int{maxUnfinished / 2, maxUnfinished / 2, more} {
			if c.Open() && n > 0 {
				c.judge.message(e, transport.Event{Payload: bytes.Repeat([]byte("x"), n)}, mono.At(now))
			}
		}
		if c.Open() == breaks || !breaks && e.Unfinished() != maxUnfinished || breaks && e.Unfinished() != 0 {
			t.Errorf("with %d more: open %v, %d bytes are held", more, c.Open(), e.Unfinished())
		}
	}
}

// TestLateHistory: a history that comes behind the confirmation is judged once it is as long as promised,
// or when its time is over, and not before.
func TestLateHistory(t *testing.T) {
	const now = mono.Time(20 * time.Second)
	judged := func(e *Env) (n int) {
		for _, f := range e.Facts.Facts {
			if f.Kind == fact.HasHistory {
				n++
			}
		}
		return n
	}
	for name, tc := range map[string]struct {
		came  int
		after time.Duration
		want  int
	}{
		"none, and time is left": {0, time.Second - 1, 0},
		"none in time":           {0, time.Second, 1},
		"two of three":           {2, time.Second - 1, 0},
		"all three":              {3, 0, 1},
	} {
		e, c := staged(t, 0, trial.Expect, now)
		j := &c.judge
		j.own().past = &pastWatch{room: j.room, promised: 3}
		j.expectsPast(e, time.Second)
		if j.due() != now.Add(time.Second) {
			t.Errorf("%s: it is due at %v", name, j.due())
		}
		if j.rare.past.count = tc.came; tc.came == 3 {
			j.judgePast(e)
		}
		if at := now.Add(tc.after); c.Next() <= at {
			c.Tick(e, at)
		}
		if judged(e) != tc.want {
			t.Errorf("%s: judged %d times", name, judged(e))
		}
	}
}

// did is a transport that says what it was last asked to do.
type did struct {
	transport.Machine
	last string
}

func (d *did) Pause(*transport.IO) bool    { return true }
func (d *did) Resume(*transport.IO)        { d.last = "goes on" }
func (d *did) Ping(*transport.IO, []byte)  { d.last = "pings" }
func (d *did) Reply(*transport.IO, []byte) { d.last = "replies" }

// TestBeatsWrongly: who is hurried pings, and who is deaf sends answers that nobody asked for, if the
// dialect has no words for either.
func TestBeatsWrongly(t *testing.T) {
	const now = mono.Time(20 * time.Second)
	for do, want := range map[trial.Misdeed]string{trial.Hurried: "pings", trial.Deaf: "replies"} {
		e, c := staged(t, 0, trial.Expect, now)
		e.Trial.Target.Promise = &trial.Promise{Every: time.Second}
		way := &did{Machine: c.path.way}
		c.path.way = way
		c.pulse.beatsWrongly(e, &misconduct{how: &trial.Misbehaviour{Do: do, Every: time.Second}, next: now})
		if way.last != want {
			t.Errorf("%v: it %s", do, way.last)
		}
	}
}

// TestPauses: a pause with a longest is between the two, and each is another.
func TestPauses(t *testing.T) {
	e, _ := staged(t, 0, trial.Expect, mono.Time(20*time.Second))
	if p := pause(e, &trial.Step{For: time.Second}); p != time.Second {
		t.Errorf("without a longest it lasts %v", p)
	}
	least, most := time.Hour, time.Duration(0)
	for range 200 {
		p := pause(e, &trial.Step{For: time.Second, Most: 3 * time.Second})
		least, most = min(least, p), max(most, p)
	}
	if least < time.Second || least > 1200*time.Millisecond || most >= 3*time.Second || most < 2800*time.Millisecond {
		t.Errorf("they last from %v to %v", least, most)
	}
}

// TestRenumbered: the first live message after a return says whether the numbers of the room began again;
// of another room's, of history or before the client is back it says nothing.
func TestRenumbered(t *testing.T) {
	const now = mono.Time(20 * time.Second)
	for name, tc := range map[string]struct {
		m    reading.Message
		want int64
	}{
		"goes on":      {live(8), 0},
		"begins again": {live(1), 1},
		"the same one": {live(6), 1},
		"no number":    {live(-3), 0},
		"another room": {live(1), 0},
		"history":      {reading.Message{}, 0},
	} {
		e, c := staged(t, 1, trial.Expect, now)
		c.judge.own().newest, c.judge.own().newestIn = 8, c.judge.room // the last one had number 7
		if c.judge.breaks(); name == "another room" {
			c.judge.room++
		}
		if tc.m.Is |= reading.Live; name == "history" {
			tc.m.Is, tc.m.PastNumber = reading.History, reading.Number{N: 1, Whole: true}
		}
		c.judge.notesNumber(e, &tc.m)
		troubles := 0
		for _, f := range e.Facts.Facts {
			if f.Kind == fact.Troubles {
				troubles++
			}
		}
		if n := e.counts().Returns.Renumbered; n != tc.want || troubles != int(tc.want) {
			t.Errorf("%s: %d times, %d kept for the lanes", name, n, troubles)
		}
	}
}

// live is a message with a number.
func live(n int64) (m reading.Message) {
	m.Number = reading.Number{N: n, Whole: true}
	return m
}

// TestLoads: a message is looked at with the values of the client that got it, whoever was looked at before.
func TestLoads(t *testing.T) {
	e, c := staged(t, 0, trial.Expect, mono.Time(20*time.Second))
	c.name = []byte("tug-1")
	e.scope.Vars[expr.VarName] = expr.Value{Kind: expr.String, Str: []byte("tug-2")}
	if e.load(reading.Part{}); string(e.scope.Vars[expr.VarName].Str) != "tug-1" {
		t.Errorf("it is looked at as %s", e.scope.Vars[expr.VarName].Str)
	}
}

// TestChooses: an option is chosen by its part, and the last one if rounding leaves none.
func TestChooses(t *testing.T) {
	options := []trial.Option{{Below: 0.5, Goto: 3}, {Below: 0.9999, Goto: 5}}
	for at, want := range map[float64]int{0: 3, 0.4999: 3, 0.5: 5, 0.99995: 5} {
		if got := choose(options, at); got != want {
			t.Errorf("%v goes to %d, want %d", at, got, want)
		}
	}
}

// TestFailsUp: a route that was told to come to an end goes on if the better one fails after all; one that
// was not is left alone.
func TestFailsUp(t *testing.T) {
	const now = mono.Time(20 * time.Second)
	for pausing, want := range map[mono.Time]string{0: "", now: "goes on"} {
		e, c := staged(t, 0, trial.Expect, now)
		way := &did{Machine: c.path.way}
		c.path.way = way
		c.path.own().routes = &routeState{next: &attempt{way: &transport.Stream{}, pausing: pausing}}
		if c.path.failsUp(e, errors.New("refused")); way.last != want {
			t.Errorf("told to pause at %v: it '%s'", pausing, way.last)
		}
	}
}

// TestOtherType: what is said as text and comes as a binary message is counted, unless something is said as
// one, the dialect says that it may be, or it comes another way than over WebSockets.
func TestOtherType(t *testing.T) {
	say := func(binary bool) trial.Step { return trial.Step{Do: trial.Say, Binary: binary} }
	for name, tc := range map[string]struct {
		steps  []trial.Step
		kind   trial.Kind
		heard  bool // as binary, by the dialect
		binary bool // it comes so
		want   int64
	}{
		"text as text":        {steps: []trial.Step{say(false)}},
		"text as binary":      {steps: []trial.Step{say(false)}, binary: true, want: 1},
		"binary as binary":    {steps: []trial.Step{say(true)}, binary: true},
		"binary as text":      {steps: []trial.Step{say(true)}, want: 1},
		"both are said":       {steps: []trial.Step{say(true), say(false)}, binary: true},
		"as the dialect says": {steps: []trial.Step{say(false)}, heard: true, binary: true},
		"over HTTP":           {steps: []trial.Step{say(true)}, kind: trial.OverHTTP},
	} {
		e, c := staged(t, 0, trial.Expect, mono.Time(20*time.Second))
		tr := &trial.Trial{Target: trial.Target{Routes: []trial.Route{{Kind: tc.kind}}},
			Crews: []trial.Crew{{Session: &trial.Session{Steps: tc.steps}}}}
		tr.Dialect.Heard.Binary = tc.heard
		e.types = tr.MessageTypes()
		m := reading.Message{Binary: tc.binary}
		if c.judge.gets(e, &m, mono.At(e.now)); e.counts().OtherType != tc.want {
			t.Errorf("%s: %d counted", name, e.counts().OtherType)
		}
	}
}

// TestSharedName: the name is found that most clients have together.
func TestSharedName(t *testing.T) {
	name := func(parts ...string) *expr.Template {
		n := &expr.Template{}
		for _, p := range parts {
			n.Text(p)
		}
		return n
	}
	session := &trial.Session{}
	tr := &trial.Trial{Crews: []trial.Crew{{Clients: 2, ClientName: name("pilot"), Session: session},
		{Clients: 3, ClientName: name("gue", "st"), Session: session}, {Clients: 1, ClientName: name("harbour master"),
			Session: session}}, Fields: &jsonscan.Table{}}
	if name, n := SharedName(tr); name != "guest" || n != 3 {
		t.Errorf("%d clients are called %q", n, name)
	}
	tr.Crews = tr.Crews[2:]
	if name, n := SharedName(tr); name != "" || n != 0 {
		t.Errorf("%d clients are called %q", n, name)
	}
}

// ended is a transport that breaks once its line is lost.
type ended struct {
	transport.Machine
	tells []transport.Event
}

func (m *ended) Lost(_ *transport.IO, _ int, err error) {
	m.tells = []transport.Event{{Kind: transport.Broken, Err: err}}
}

func (m *ended) Next(*transport.IO) (ev transport.Event) {
	if len(m.tells) > 0 {
		ev, m.tells = m.tells[0], nil
	}
	return ev
}

// TestBrokeWithin: when a connection broke is known as well as it was read: not before what had been read
// up to, and not after it was found.
func TestBrokeWithin(t *testing.T) {
	const now = mono.Time(20 * time.Second)
	e, c := staged(t, 1, trial.Expect, now)
	e.ReadUpTo = func() mono.Time { return now.Add(-400 * time.Millisecond) }
	c.path.way = &ended{Machine: c.path.way}
	c.Broke(e, transport.Main, now, errors.New("reset"))
	if b := c.path.comeback(); b == nil || b.came != (mono.Span{From: now.Add(-400 * time.Millisecond), To: now}) {
		t.Fatalf("it broke within %+v", b)
	}
	e.at(c, now.Add(time.Second))
	c.path.isConnectedAgain(e, e.now)
	w, err := logbook.Sum([]*logbook.Entry{e.Book.At(now).Entry()}, nil)
	if err != nil {
		t.Fatal(err)
	}
	least, most := w.TimesEarly(logbook.ToReconnect).Max(), w.Times[logbook.ToReconnect].Max()
	if near(least, time.Second) != "" || near(most, 1400*time.Millisecond) != "" {
		t.Errorf("it reconnected after %v to %v", least, most)
	}
}

// near says what is wrong with a time that is kept in a histogram.
func near(got, want time.Duration) string {
	if d := got - want; d < -want/500 || d > want/500 {
		return got.String()
	}
	return ""
}

// TestBreath: a session without waits lets others have their turn now and then.
func TestBreath(t *testing.T) {
	e, c := staged(t, 0, trial.Expect, mono.Time(20*time.Second))
	session := &trial.Session{Steps: make([]trial.Step, 1500)}
	for i := range session.Steps {
		session.Steps[i] = trial.Step{Do: trial.Set, Check: trial.NoCheck}
	}
	c.script.begins(e, session)
	if c.script.run(e); c.script.pc != stepsPerRun || c.script.wait != forBreath {
		t.Errorf("it did %d steps, and waits for %d", c.script.pc, c.script.wait)
	}
}

// TestGoesOnLater: what a client says when it goes on where it was held is due then, and not when it was held.
func TestGoesOnLater(t *testing.T) {
	e, c := staged(t, 0, trial.Expect, mono.Time(20*time.Second))
	session := c.script.session
	c.script.wait, c.script.clock = forTime, e.now
	h := c.script.hold(e)
	e.at(c, mono.Time(25*time.Second))
	if c.script.goOn(e, session, h, 5*time.Second); c.script.due() < e.now {
		t.Errorf("due at %v, %v too early", c.script.due(), e.now.Sub(c.script.due()))
	}
}

// TestNotRefused: a room that must be refused, and is not answered at all, is a check that failed; if it is refused it
// is one that passed.
func TestNotRefused(t *testing.T) {
	for refused, failed := range map[bool]int64{true: 0, false: 1} {
		e, c := staged(t, 0, trial.Expect, mono.Time(20*time.Second))
		c.script.session = &trial.Session{Steps: []trial.Step{{Do: trial.Enter, Denied: true, Check: 0},
			{Do: trial.Pause, For: time.Hour}}}
		c.script.pc, c.script.depth, c.script.began = 0, 0, e.now
		c.judge.asked = c.judge.room
		c.judge.notEntered(e, "it was not confirmed in time", refused)
		if n := e.counts().WaitsFailed; n != failed || c.script.pc != 1 {
			t.Errorf("refused: %v: %d failed, at step %d", refused, n, c.script.pc)
		}
	}
}

// TestSlowIsClosed: a client that reads slowly on purpose, and is closed for it, is what was looked for: the check of
// its step passes.
func TestSlowIsClosed(t *testing.T) {
	e, c := staged(t, 0, trial.Expect, mono.Time(20*time.Second))
	e.Trial.Checks = []trial.Check{{Name: "the slow one"}}
	c.path.own().slow = &trial.Step{Do: trial.Slow, Check: 0, PerSec: 10}
	c.path.broken(e, mono.At(e.now), errors.New("reset"))
	passed := 0
	for _, f := range e.Facts.Facts {
		if f.Kind == fact.Checks && f.Check == 0 && f.Is(fact.Good) {
			passed++
		}
	}
	if passed != 1 {
		t.Errorf("%d checks passed", passed)
	}
}
