package play

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"strings"
	"time"

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

	web        *http.Client
	streams    []*stream
	line       *probe.Line
	events     chan probe.Event
	over       bool // the connection is gone
	why        string
	unheard    int // messages beyond maxHeard
	heardBytes int
	recorded   []replay.Heard
	heard      []replay.Heard
	need       map[replay.Shape]int // of what was recorded up to now
	have       map[replay.Shape]int
	deed       int
	deedAt     time.Time
	lastAt     time.Time // when anything last happened
	failed     []replay.Difference
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
		need: map[replay.Shape]int{}, have: map[replay.Shape]int{},
		random: rand.NewPCG(uint64(began.UnixNano()), uint64(copy)<<20^uint64(a.Number))}
	pl.web = &http.Client{Jar: jar, CheckRedirect: func(*http.Request,
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

// fresh gives new values to what is made afresh each time it is said.
func (p *player) fresh() {
	s := &expr.Scope{Now: time.Now().UnixMicro(), Random: p.random}
	s.Vars[expr.VarN] = expr.Num(float64(p.copy))
	for i, g := range p.plan.Guesses {
		if g.Kind == "name" && g.Actor == p.actor.Number {
			s.Vars[expr.VarName] = expr.Str(p.values[i])
		}
	}
	for i, program := range p.programs {
		if program != nil {
			p.values[i] = string(program.Eval(s).Append(nil))
		}
	}
}

// fill puts this copy's values in the place of the recorded ones.
func (p *player) fill(s string) string { return p.plan.Fill(p.actor, s, p.values) }

// run does what was recorded and returns what is different.
func (p *player) run(ctx context.Context) []replay.Difference {
	defer p.finish()
	steps := p.actor.Steps
	p.lastAt = time.Now()
	var lastDeed, last time.Duration
	if len(steps) > 0 {
		lastDeed, last = steps[0].At, steps[0].At
	}
	if !p.pause(ctx, p.actor.Begins) {
		return nil
	}
	for i := range steps {
		s := &steps[i]
		if s.Do == replay.Hear {
			h := replay.Heard{Shape: replay.ShapeOf(s.Payload, s.Binary, p.plan.ValuesOf(p.actor)), Sample: s.Payload,
				After: s.At - lastDeed, Deed: p.deed}
			p.recorded = append(p.recorded, h)
			p.need[h.Shape]++
			last = s.At
			continue
		}
		p.settle(ctx)
		if !p.pause(ctx, s.At-last) {
			return p.failed
		}
		p.deed++
		if p.options.Copies > 1 {
			// What other copies hear has the same shapes: an answer counts only
			// if it comes after what it answers.
			clear(p.need)
			clear(p.have)
		}
		p.deedAt, p.lastAt = time.Now(), time.Now()
		lastDeed, last = s.At, s.At
		p.fresh()
		if err := p.do(ctx, s); err != nil {
			p.failed = append(p.failed, replay.Difference{Kind: replay.Failed, What: string(s.Do), Now: err.Error()})
			break
		}
	}
	p.settle(ctx)
	p.listen(ctx, 50*time.Millisecond, func() bool { return false })
	if p.unheard > 0 {
		p.failed = append(p.failed, replay.Difference{Kind: replay.Failed, What: "hear",
			Now: fmt.Sprintf("%d messages more than are compared", p.unheard)})
	}
	return append(p.failed, replay.Compare(p.recorded, p.heard, p.options.Late)...)
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
// does not come is not waited for again.
func (p *player) settle(ctx context.Context) {
	within := p.options.Within
	if n := len(p.recorded); n > 0 { // others may have to do something first
		within = max(within, 2*p.recorded[n-1].After)
	}
	all := func() bool {
		for shape, n := range p.need {
			if p.have[shape] < n {
				return false
			}
		}
		return true
	}
	if !all() {
		p.listen(ctx, within, all)
	}
	for shape, n := range p.need {
		if p.have[shape] < n {
			p.need[shape] = p.have[shape]
		}
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
		events := p.events
		if p.over {
			if most >= p.options.Within {
				return // nothing more will come
			}
			events = nil
		}
		select {
		case e := <-events:
			p.take(e)
			if until() {
				return
			}
		case <-end.C:
			return
		case <-ctx.Done():
			return
		}
	}
}

func (p *player) take(e probe.Event) {
	switch {
	case e.What == probe.Ended:
		p.over, p.why = true, e.Why
	case e.What == probe.In && e.Message != nil:
		p.hear(e.Message, e.Binary, e.At)
	}
}

func (p *player) hear(payload []byte, binary bool, at time.Time) {
	vary := p.plan.ValuesOf(p.actor)
	for _, v := range p.values {
		if v != "" {
			vary = append(vary, v)
		}
	}
	h := replay.Heard{Shape: replay.ShapeOf(payload, binary, vary), Sample: payload, After: at.Sub(p.deedAt),
		Deed: p.deed}
	if p.heardBytes += len(payload); len(p.heard) >= maxHeard || p.heardBytes > maxHeardBytes {
		p.unheard++ // a server without end is different from any that was recorded
		return
	}
	p.heard = append(p.heard, h)
	p.have[h.Shape]++
	p.lastAt = at
	p.plan.Give(p.actor, h.Shape, payload, p.values)
}

// Bounds on what one player keeps of what it hears.
const (
	maxHeard      = 100_000
	maxHeardBytes = 64 << 20
)

func (p *player) do(ctx context.Context, s *replay.Step) error {
	switch s.Do {
	case replay.Ask:
		return p.ask(ctx, s)
	case replay.Connect:
		return p.connect(s)
	case replay.Follow:
		return p.follow(ctx, s)
	case replay.Say:
		payload := s.Payload
		if !s.Binary {
			payload = []byte(p.fill(string(s.Payload)))
		}
		return p.connected(func() error { return p.line.Send(payload, s.Binary) })
	}
	code := s.Code
	if code < 1000 || code == 1005 {
		code = 1000
	}
	return p.connected(func() error { return p.line.Close(uint16(code), s.Reason) })
}

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
	u.Scheme = scheme
	at, err := url.ParseRequestURI(path)
	if err != nil {
		return nil, err
	}
	u.Path, u.RawPath, u.RawQuery = at.Path, at.RawPath, at.RawQuery
	return u, nil
}

func (p *player) connect(s *replay.Step) error {
	t := probe.Target{URL: p.options.To}
	if p.actor.Speech == replay.WebSocket {
		u, err := p.address("ws", p.fill(s.Path))
		if err != nil {
			return err
		}
		t.URL = u.String()
		web := *u
		web.Scheme = "http"
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
	if p.over = false; len(p.streams) == 0 {
		p.events = make(chan probe.Event, 1024) // what is left of an earlier connection is of no use
	}
	events := p.events
	p.line = probe.Dial(p.actor.Number, t, func(e probe.Event) {
		if e.Message != nil || e.What == probe.Opened || e.What == probe.Refused || e.What == probe.Ended {
			events <- e
		}
	})
	for e := range events {
		switch e.What {
		case probe.Opened:
			p.reached = true
			p.deedAt = time.Now()
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

func (p *player) ask(ctx context.Context, s *replay.Step) error {
	ctx, cancel := context.WithTimeout(ctx, max(p.options.Within, 2*s.Took+time.Second)) // a long poll takes its time
	defer cancel()
	req, err := p.request(ctx, s)
	if err != nil {
		return err
	}
	label := fmt.Sprintf("answer to %s %s", s.Method, strings.SplitN(s.Path, "?", 2)[0])
	shape := func(status int, content []byte) replay.Shape {
		if len(s.Answer) == 0 { // there was none, or the browser did not tell
			return replay.Shape{Kind: fmt.Sprintf("%d, %s", status, label)}
		}
		form := replay.ShapeOf(bytes.TrimSpace(content), false, append(p.plan.ValuesOf(p.actor), p.values...))
		return replay.Shape{Kind: fmt.Sprintf("%d, %s", status, label), Form: form.Kind + form.Form}
	}
	then := replay.Heard{Shape: shape(s.Status, s.Answer), Sample: s.Answer, After: s.Took, Deed: p.deed}
	p.recorded = append(p.recorded, then)
	resp, err := p.web.Do(req)
	if err != nil {
		p.refusal = err.Error()
		return err
	}
	p.reached = true
	defer resp.Body.Close()
	content, err := io.ReadAll(io.LimitReader(resp.Body, 8<<20))
	if err != nil {
		return err
	}
	now := replay.Heard{Shape: shape(resp.StatusCode, content), Sample: content, After: time.Since(p.deedAt),
		Deed: p.deed}
	p.heard = append(p.heard, now)
	p.lastAt = time.Now()
	cookies := map[string]string{}
	for _, c := range resp.Cookies() {
		cookies[c.Name] = c.Value
	}
	for _, i := range s.Gives {
		p.plan.GiveFrom(i, content, cookies, p.values)
	}
	return nil
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
	if p.line != nil && !p.over && p.line.Open() {
		p.line.Close(1000, "")
		p.listen(context.Background(), 200*time.Millisecond, func() bool { return p.over })
	}
	p.hangUp()
	p.web.CloseIdleConnections()
}
