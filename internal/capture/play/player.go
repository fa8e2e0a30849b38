package play

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"tidepull/internal/capture/probe"
	"tidepull/internal/capture/replay"
	"tidepull/internal/trial/expr"
	"tidepull/internal/wire/http1"
)

// A player is one copy of one of the plan's clients.
type player struct {
	plan     *replay.Plan
	actor    *replay.Actor
	copy     int
	options  Options
	values   []string // by guess; "" is not known yet
	programs []*expr.Program
	random   *rand.PCG

	turns      *turns // of all players of the copy
	hearings   []int  // the deeds of others before which it has to hear something
	web        *http.Client
	streams    []*stream
	line       *probe.Line
	events     chan probe.Event
	over       bool   // the connection is gone
	closes     bool   // this client has ended it, or the server has and that was said
	held       []byte // of Messages: what came of the one under way
	unheard    int    // messages beyond maxHeard
	heardBytes int
	recorded   []replay.Heard
	heard      []replay.Heard
	expected   int                  // that came in the recording
	came       int                  // that came now
	need       map[replay.Shape]int // of what was recorded up to now
	have       map[replay.Shape]int
	lacks      []replay.Heard  // of what was recorded up to now and has values: what has not come with them
	otherwise  map[string]bool // what messages that were not needed say that they are, since the last deed
	wants      int             // messages since the last deed, in the recording
	got        int             // and now
	before     int             // what had come before that
	bytes      flow
	asked      map[int]*asking // by step
	answers    chan answer
	lastAt     time.Time // when anything last happened
	failed     []replay.Difference
	gone       bool   // a request failed: nothing more is done
	reached    bool   // the server answered, or agreed to a connection
	refusal    string // why it did not
}

func newPlayer(p *replay.Plan, a *replay.Actor, copy int, o Options, programs []*expr.Program,
	began time.Time) *player {
	jar, err := cookiejar.New(nil)
	if err != nil {
		panic(err) // only of options, of which there are none
	}
	pl := &player{plan: p, actor: a, copy: copy, options: o, programs: programs, values: make([]string, len(p.Guesses)),
		need: map[replay.Shape]int{}, have: map[replay.Shape]int{}, asked: map[int]*asking{},
		otherwise: map[string]bool{}, answers: make(chan answer, len(a.Steps)),
		random: rand.NewPCG(uint64(began.UnixNano()), uint64(copy)<<20^uint64(a.Number))}
	pl.web = &http.Client{Jar: jar, Transport: o.way, CheckRedirect: func(*http.Request,
		[]*http.Request) error {
		return http.ErrUseLastResponse
	}}
	for i, g := range p.Guesses {
		if g.Kind == "secret" {
			pl.values[i] = o.Secrets[g.Value]
		}
		if g.Kind == "name" {
			if pl.values[i] = g.Value; copy > 0 {
				pl.values[i] = fmt.Sprintf("%s-%d", g.Value, copy)
			}
		}
	}
	return pl
}

// fresh gives values to what a step uses and the client makes itself. It makes each once.
func (p *player) fresh(step *replay.Step) {
	s := &expr.Scope{Now: time.Now().UnixMicro(), Random: p.random}
	s.Vars[expr.VarN] = expr.Num(float64(p.copy))
	for i, g := range p.plan.Guesses {
		if g.Kind == "name" && g.Actor == p.actor.Number {
			s.Vars[expr.VarName] = expr.Str(p.values[i])
		}
	}
	for _, i := range step.Uses {
		if g := &p.plan.Guesses[i]; g.Shared && g.Actor != p.actor.Number {
			p.values[i] = p.turns.given(i)
			continue
		}
		if program := p.programs[i]; program != nil && p.values[i] == "" {
			p.values[i] = string(program.Eval(s).Append(nil))
		}
	}
}

// fill puts this copy's values in the place of the recorded ones.
func (p *player) fill(s string) string { return p.plan.Fill(p.actor, s, p.values) }

// run does what was recorded and returns what is different.
func (p *player) run(ctx context.Context) []replay.Difference {
	ctx, cancel := context.WithCancel(ctx)
	defer p.finish()
	defer cancel() // a request that was not answered in the recording may be under way
	p.lastAt = time.Now()
	var last time.Duration
	if len(p.actor.Steps) > 0 {
		last = p.actor.Steps[0].At
	}
	if !p.pause(ctx, p.actor.Begins) {
		p.giveUp(0)
		return nil
	}
	for _, m := range p.actor.Moments() {
		s := m.Step
		if s.IsHeard() || m.Answer {
			p.keepUp(ctx, p.turns.before(m.At))
			p.expects(m)
			last = m.At
			continue
		}
		n := p.turns.number[p.actor][m.Index]
		p.keepUp(ctx, n)
		p.waitFor(ctx, n, false)
		p.settle(ctx)
		p.waitFor(ctx, n, true)
		if !p.pause(ctx, s.At-last) || p.gone {
			p.giveUp(m.Index)
			return p.compared()
		}
		p.wants, p.got, p.before = 0, 0, len(p.heard)
		clear(p.otherwise)
		p.bytes.cut()
		if p.options.Copies > 1 {
			// What other copies hear has the same shapes: an answer counts only
			// if it comes after what it answers.
			clear(p.need)
			clear(p.have)
		}
		p.lastAt, last = time.Now(), s.At
		p.fresh(s)
		p.turns.begins(p.lastAt)
		err := p.do(ctx, m.Index, s)
		p.turns.did(n, time.Now())
		if err != nil {
			p.fail(string(s.Do), err)
			p.giveUp(m.Index)
			return p.compared()
		}
	}
	p.keepUp(ctx, len(p.turns.deeds))
	p.settle(ctx)
	p.listen(ctx, 50*time.Millisecond, func() bool { return false })
	// One that did not close was still there when the others had done all.
	if steps := p.actor.Steps; len(steps) == 0 || steps[len(steps)-1].Do != replay.Close {
		p.waitFor(ctx, len(p.turns.deeds), false)
	}
	return p.compared()
}

// keepUp waits for what had come to the client before each deed of the others that was
// before one of all deeds.
func (p *player) keepUp(ctx context.Context, until int) {
	for len(p.hearings) > 0 && p.hearings[0] < until {
		n := p.hearings[0]
		p.waitFor(ctx, n, false)
		p.settle(ctx)
		p.turns.hears(n)
		p.hearings = p.hearings[1:]
	}
}

func (p *player) waitFor(ctx context.Context, n int, heard bool) {
	p.turns.wait(ctx, n, heard, func(changed <-chan struct{}) { p.listenFor(ctx, changed) })
}

// giveUp says that the client does nothing more from a step on. What it had to hear by
// then is still compared.
func (p *player) giveUp(from int) {
	p.turns.gaveUp(p.actor, from, p.hearings)
	p.hearings = nil
}

// compared is what is different from the recording.
func (p *player) compared() []replay.Difference {
	if p.unheard > 0 {
		p.fail("hear", fmt.Errorf("%d messages more than are compared", p.unheard))
	}
	all, late := p.failed, p.options.Late
	late.Least += p.turns.inVain()
	for _, a := range p.asked {
		all = append(all, a.compared(late)...)
	}
	p.expected += len(p.recorded)
	p.came += len(p.heard)
	if p.actor.Speech == replay.Bytes {
		p.expected, p.came = p.expected+len(p.bytes.recorded), p.came+len(p.bytes.heard)
		return append(all, p.bytes.compared(p.plan.ValuesOf(p.actor), p.values, late)...)
	}
	for _, may := range []bool{false, true} { // what may differ has no order with the rest
		all = append(all, replay.Compare(p.ignorable(p.recorded, may), p.ignorable(p.heard, may), late)...)
	}
	return all
}

// ignorable gives those of what was heard that may differ, or the others.
func (p *player) ignorable(all []replay.Heard, may bool) []replay.Heard {
	if len(p.options.Ignore) == 0 && !may {
		return all
	}
	var some []replay.Heard
	for _, h := range all {
		matches := slices.ContainsFunc(p.options.Ignore, func(r *regexp.Regexp) bool {
			return r.MatchString(h.Shape.String()) || r.Match(h.Sample)
		})
		if matches == may {
			some = append(some, h)
		}
	}
	return some
}

func (p *player) fail(what string, err error) {
	p.failed = append(p.failed, replay.Difference{Kind: replay.Failed, What: what, Now: err.Error()})
}

// expects books what was recorded next.
func (p *player) expects(m replay.Moment) {
	after := m.At - p.turns.lastBy(m.At)
	switch {
	case m.Answer:
		a := p.asked[m.Index]
		if a == nil { // nothing more was done
			return
		}
		a.then, a.expected = p.answerOf(m.Step, m.Step.Status, m.Step.Answer, m.Step.Took), true
		p.expected++
	case p.actor.Speech == replay.Bytes:
		p.bytes.expects(m.Step.Payload, after)
	default:
		h := replay.Heard{Shape: m.Step.Shape(p.plan.ValuesOf(p.actor)), Sample: m.Step.Sample(), After: after,
			Values: p.plan.Filled(p.actor, m.Step, p.values, p.options.Copies)}
		p.recorded = append(p.recorded, h)
		p.need[h.Shape]++
		p.wants++
		if came := func(is replay.Heard) bool { return is.Shape == h.Shape && h.Says(is.Sample) }; len(h.Values) > 0 &&
			!slices.ContainsFunc(p.heard[p.before:], came) {
			p.lacks = append(p.lacks, h)
		}
	}
}

// pause keeps the recording's pause before a deed, as far as it is not over;
// false if the replay was stopped.
func (p *player) pause(ctx context.Context, recorded time.Duration) bool {
	if p.options.Speed > 0 {
		left := time.Duration(float64(recorded)/p.options.Speed) - time.Since(p.lastAt)
		p.listen(ctx, left, func() bool { return false })
	}
	return ctx.Err() == nil
}

// settle waits for all that the server said up to here in the recording. What
// does not come is not waited for again; if something else has come in its place, it is
// not waited for long.
func (p *player) settle(ctx context.Context) {
	within := p.options.Within
	if n := len(p.recorded); n > 0 {
		within = max(within, 2*p.recorded[n-1].After)
	}
	all := func() bool { return p.hasAll() || p.hasOthers() }
	began := time.Now()
	if !all() {
		p.listen(ctx, within, all)
	}
	if !p.hasAll() {
		p.listen(ctx, min(within, instead), p.hasAll)
	}
	if !p.hasAll() {
		p.turns.waited(time.Since(began))
	}
	for shape, n := range p.need {
		p.need[shape] = min(n, p.have[shape])
	}
	p.lacks = nil
	for _, a := range p.asked {
		a.expected = a.expected && a.done
	}
}

// instead is how long something is waited for once as many other messages have come as
// were to come.
const instead = 300 * time.Millisecond

// hasOthers reports whether other messages may have come in the place of those that have
// not: as many as were to come, or for each one that says itself to be the same. Copies
// hear each other, so that their number says nothing.
func (p *player) hasOthers() bool {
	if p.options.Copies == 1 && p.wants > 0 && p.got >= p.wants {
		return true
	}
	lacks := false
	for shape, n := range p.need {
		if p.have[shape] < n {
			lacks = true
			if shape.Kind == "" || !p.otherwise[shape.Kind] {
				return false
			}
		}
	}
	return lacks
}

// hasAll reports whether everything came that had come in the recording by now.
func (p *player) hasAll() bool {
	if len(p.lacks) > 0 { // a message of the same shape may be another copy's
		return false
	}
	for shape, n := range p.need {
		if p.have[shape] < n {
			return false
		}
	}
	for _, a := range p.asked {
		if a.expected && !a.done {
			return false
		}
	}
	return !p.bytes.lacks()
}

// listenFor takes what comes until a channel is closed.
func (p *player) listenFor(ctx context.Context, changed <-chan struct{}) {
	for p.next(ctx, changed, nil) {
	}
}

// listen takes what comes until something holds, or for a while.
func (p *player) listen(ctx context.Context, most time.Duration, until func() bool) {
	if most <= 0 || until() {
		return
	}
	end := time.NewTimer(most)
	defer end.Stop()
	for {
		if p.over && most >= p.options.Within && len(p.asked) == 0 {
			return // nothing more will come
		}
		if !p.next(ctx, nil, end.C) || until() {
			return
		}
	}
}

// next takes one thing that comes; false if the wait is over before.
func (p *player) next(ctx context.Context, changed <-chan struct{}, end <-chan time.Time) bool {
	events := p.events
	if p.over {
		events = nil
	}
	select {
	case e := <-events:
		p.take(e)
	case a := <-p.answers:
		p.answered(a)
	case <-changed:
		return false
	case <-end:
		return false
	case <-ctx.Done():
		return false
	}
	return true
}

func (p *player) take(e probe.Event) {
	switch {
	case e.What == probe.Ended:
		p.over = true
		p.ended(0, "", e.At)
	case e.What == probe.In && e.Op == "close":
		p.ended(e.Code, string(e.Payload), e.At)
	case e.What == probe.In && e.Message != nil && p.actor.Speech == replay.Bytes:
		p.bytes.hears(e.Message, e.At, p.turns.lastDid())
		p.lastAt = e.At
	case e.What == probe.In && e.Message != nil:
		p.receive(&e)
	}
}

// receive takes a message, or bytes with messages in them.
func (p *player) receive(e *probe.Event) {
	if p.actor.Speech != replay.Messages {
		for _, r := range replay.Records(e.Message, e.Binary) {
			p.hear(r, e.Binary, e.At)
		}
		return
	}
	for p.held = append(p.held, e.Message...); len(p.held) > 0; {
		message, n, err := p.actor.Ends.Next(p.held, 0)
		if err != nil { // it is another difference than all before it
			p.fail("hear", err)
			message, n = p.held, len(p.held)
		}
		if n == 0 {
			return
		}
		p.hear(slices.Clone(message), !utf8.Valid(message), e.At)
		p.held = p.held[n:]
	}
}

// ended takes that the server ends the connection: with a close frame that has a code, or without one.
func (p *player) ended(code int, reason string, at time.Time) {
	if p.closes {
		return
	}
	p.closes = true
	p.book(replay.Heard{Shape: replay.ShapeOfEnd(code), Sample: replay.SampleOfEnd(code, reason)}, at)
}

// book books what came.
func (p *player) book(h replay.Heard, at time.Time) {
	h.After = max(0, at.Sub(p.turns.lastDid()))
	p.heard = append(p.heard, h)
	p.lacks = slices.DeleteFunc(p.lacks, func(l replay.Heard) bool { return l.Shape == h.Shape && l.Says(h.Sample) })
	p.have[h.Shape]++
	p.got++
	if h.Shape.Kind != "" && p.need[h.Shape] == 0 {
		p.otherwise[h.Shape.Kind] = true
	}
	p.lastAt = at
}

func (p *player) hear(payload []byte, binary bool, at time.Time) {
	vary := p.plan.ValuesOf(p.actor)
	for _, v := range p.values {
		if v != "" {
			vary = append(vary, v)
		}
	}
	if p.heardBytes += len(payload); len(p.heard) >= maxHeard || p.heardBytes > maxHeardBytes {
		p.unheard++ // a server without end is different from any that was recorded
		return
	}
	h := replay.Heard{Shape: replay.ShapeOf(payload, binary, vary), Sample: payload}
	p.book(h, at)
	p.plan.Give(p.actor, h.Shape, payload, p.values)
	p.share()
}

// share lets the other clients of this copy have what they say and this one was given.
func (p *player) share() {
	for i := range p.plan.Guesses {
		if g := &p.plan.Guesses[i]; g.Shared && g.Actor == p.actor.Number {
			p.turns.gives(i, p.values[i])
		}
	}
}

// Bounds on what one player keeps of what it hears.
const (
	maxHeard      = 100_000
	maxHeardBytes = 64 << 20
)

func (p *player) do(ctx context.Context, index int, s *replay.Step) error {
	switch s.Do {
	case replay.Ask:
		return p.ask(ctx, index, s)
	case replay.Connect:
		return p.connect(s)
	case replay.Follow:
		return p.follow(ctx, s)
	case replay.Say:
		payload := []byte(p.fill(string(s.Payload)))
		if s.Binary && len(payload) != len(s.Payload) {
			payload = s.Payload // lengths may stand in it
		}
		if p.actor.Speech == replay.Messages {
			payload = p.actor.Ends.Append(nil, payload)
		}
		return p.connected(func() error { return p.line.Send(payload, s.Binary) })
	case replay.Vanish:
		p.closes = true
		p.hangUp()
		return nil
	}
	code := s.Code
	if code < 1000 || code == 1005 {
		code = 1000
	}
	p.closes = true
	err := p.connected(func() error { return p.line.Close(uint16(code), s.Reason) })
	var closed *probe.NotOpen
	if errors.As(err, &closed) && index > 0 && s.At-p.actor.Steps[index-1].At < closeRace {
		return nil // the server was faster, after what the client said last
	}
	return err
}

// closeRace is how soon after something else a client closes if the server may close as
// well, as an answer to that.
const closeRace = 250 * time.Millisecond

func (p *player) connected(f func() error) error {
	if p.line == nil {
		return errors.New("there is no connection")
	}
	return f()
}

// address gives the target with another scheme and path.
func (p *player) address(scheme, path string) (*url.URL, error) {
	u, err := url.Parse(p.options.To)
	if err != nil {
		return nil, err
	}
	if u.Scheme == "wss" || u.Scheme == "https" {
		scheme += "s"
	}
	u.Scheme = scheme
	at, err := url.ParseRequestURI(path)
	if err != nil {
		return nil, err
	}
	u.Path, u.RawPath, u.RawQuery = at.Path, at.RawPath, at.RawQuery
	return u, nil
}

func (p *player) connect(s *replay.Step) error {
	raw := p.actor.Speech == replay.Bytes || p.actor.Speech == replay.Messages
	t := probe.Target{URL: p.options.To, TLS: p.options.TLS, Addrs: p.options.Addrs, Raw: raw, Ending: p.actor.Ending}
	if p.actor.Speech == replay.WebSocket {
		u, err := p.address("ws", p.fill(s.Path))
		if err != nil {
			return err
		}
		t.URL = u.String()
		web := *u
		web.Scheme = strings.Replace(u.Scheme, "ws", "http", 1)
		var cookies []string
		for _, c := range p.web.Jar.Cookies(&web) {
			cookies = append(cookies, c.Name+"="+c.Value)
		}
		if len(cookies) > 0 {
			t.Fields = append(t.Fields, http1.Field{Name: "Cookie", Value: strings.Join(cookies, "; ")})
		}
		for _, f := range s.Fields {
			if strings.EqualFold(f.Name, "Sec-WebSocket-Protocol") {
				t.Protocols = strings.Split(strings.ReplaceAll(f.Value, " ", ""), ",")
			} else {
				t.Fields = append(t.Fields, http1.Field{Name: f.Name, Value: p.fill(f.Value)})
			}
		}
	}
	p.hangUp()
	p.closes, p.held = false, nil
	if p.over = false; len(p.streams) == 0 {
		p.events = make(chan probe.Event, 1024) // what is left of an earlier connection is of no use
	}
	events := p.events
	p.line = probe.Dial(p.actor.Number, t, func(e probe.Event) {
		switch {
		case e.Message != nil, e.What == probe.In && e.Op == "close", e.What == probe.Opened, e.What == probe.Refused,
			e.What == probe.Ended:
			events <- e
		}
	})
	for e := range events {
		switch e.What {
		case probe.Opened:
			p.reached = true
			return nil
		case probe.Refused:
			p.refusal = e.Why
			return errors.New(e.Why)
		case probe.Ended:
			p.over = true
			return errors.New(e.Why)
		}
	}
	return nil
}

// request makes the HTTP request of a step.
func (p *player) request(ctx context.Context, s *replay.Step) (*http.Request, error) {
	u, err := p.address("http", p.fill(s.Path))
	if err != nil {
		return nil, err
	}
	req, err := http.NewRequestWithContext(ctx, s.Method, u.String(), strings.NewReader(p.fill(string(s.Payload))))
	if err != nil {
		return nil, err
	}
	for _, f := range s.Fields {
		req.Header.Set(f.Name, p.fill(f.Value))
	}
	return req, nil
}

func (p *player) hangUp() {
	if p.line == nil {
		return
	}
	line, events := p.line, p.events
	p.line = nil
	go func() { // what still comes must not hold the line up
		for {
			select {
			case <-events:
			case <-line.Done():
				return
			}
		}
	}()
	line.Hangup()
}

// finish closes in order, if the recording did not, and ends the connection.
func (p *player) finish() {
	for _, s := range p.streams {
		s.stop()
	}
	if p.closes = true; p.line != nil && !p.over && p.line.Open() {
		p.line.Close(1000, "")
		p.listen(context.Background(), 200*time.Millisecond, func() bool { return p.over })
	}
	p.hangUp()
	p.web.CloseIdleConnections()
}
