package client

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/base/plain"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
	"tidepull/internal/wire/transport"
	"tidepull/internal/wire/ws"
)

// connect begins to connect.
func (p *path) connect(e *Env, step *trial.Step) {
	if b := p.returns(e); b != nil && !b.active {
		b.connect = e.script.place().pc
	}
	p.setsOutOn(e, step)
	p.dialRoute(e, step)
}

// dialRoute begins to connect over the client's route.
func (p *path) dialRoute(e *Env, step *trial.Step) {
	e.mends(e.now)
	p.phase = connecting
	e.judge.isNobody()
	e.script.awaits(e, forOpen) // how long it may take is the transport's to watch
	if t := p.routes(); t != nil {
		t.began, t.got = e.now, 0
	}
	o := p.openingOf(e, step, p.route)
	if e.Trial.Dialect.Naming.Send == nil && !(step.Dial != nil && step.Dial.Nameless) {
		e.judge.enterAhead(e) // the server may let it in with the handshake
	}
	p.way.Open(p.io(e), &o, e.now.Add(step.Within))
}

// openingOf is what a transport needs to connect over a route.
func (p *path) openingOf(e *Env, step *trial.Step, route uint8) transport.Opening {
	place, r := e.placeOn(route), e.Trial.Target.Route(int(route))
	o := transport.Opening{Endpoint: e.endpointOn(route), Beside: place.Beside, Host: place.Host, Path: place.Path,
		Again: p.again}
	o.Endpoint.From, o.Endpoint.KeepAlive = e.fromOf(), e.Trial.Target.KeepAlive
	e.fill()
	if r.Whole != nil {
		o.Path = transport.Target(strings.TrimPrefix(string(r.Whole.Append(nil, &e.scope)), r.Origin()))
	}
	if r.Post != nil {
		o.Post = transport.Target(string(r.Post.Append(nil, &e.scope)))
	}
	if d := step.Dial; d != nil {
		if d.Path != nil {
			o.Path = transport.Target(string(d.Path.Append(nil, &e.scope)))
		}
		o.Fields = e.fields(d.Fields)
		o.Body = d.Words != ""
		if k := ws.KnockNamed(d.WrongOf(int(e.c.n))); k != nil {
			o.Mangle = k.Make
		}
		if d.Early != nil {
			o.Early = e.sayUnheard(d.Early)
		}
	}
	if p.rare != nil {
		o.Jar = &p.rare.jar
	}
	return o
}

func (p *path) opened(e *Env, at mono.Time) {
	p.phase, p.again = open, true
	e.counts().Opened++
	if !e.opened {
		e.opened = true
		e.note(fact.ConnOpen, 0, 1)
	}
	route := ""
	if len(e.Trial.Target.Routes) > 1 {
		route = e.routeOf().Name
	}
	e.event(logbook.Opened, noRoom, route)
	e.Book.Now().Times[logbook.ToConnect].Record(at.Sub(e.script.since()))
	if p.away() {
		p.isConnectedAgain(e, at)
	}
	p.isOn(e, at)
	if d := e.script.step().Dial; d != nil && d.Refused {
		why := "it was let in"
		if wrong := d.WrongOf(int(e.c.n)); wrong != "" {
			why += " with " + wrong
		}
		e.check(e.script.step().Check, false, why)
		e.script.ebbs(e)
		return
	}
	e.judge.sayName(e)
	e.pulse.follows(e, at)
	e.script.resume(e)
}

func (p *path) refused(e *Env, err error) {
	if lack := e.shortage(err); lack != nil {
		e.event(logbook.Hindered, noRoom, e.countReason("not opened", lack))
		p.ends(e, ending{cause: hindrance, err: lack, least: time.Second})
		return
	}
	switch {
	case p.mustBeRefused(e, err):
	case p.away() || e.script.isEbbing() || !e.faultRefuses(err):
		p.ends(e, ending{cause: refusal, err: err})
	default:
		e.countReason("kept out by a fault of the trial", err)
		if p.ends(e, ending{cause: keptOut, err: err}) == goesOn {
			e.script.await(e, forRetry, retryAfter)
		}
	}
}

// retryAfter is when a client tries again that a fault of the trial kept out.
const retryAfter = 500 * time.Millisecond

// mustBeRefused handles a refusal that the step at hand wants, if it does.
func (p *path) mustBeRefused(e *Env, err error) bool {
	d := e.script.step().Dial
	if d == nil || !d.Refused {
		return false
	}
	wrong, status, said := "", 0, reasonOf(err)
	var refusal *ws.Refusal
	if errors.As(err, &refusal) {
		status = refusal.Status
		if refusal.Body != "" {
			said += ": " + refusal.Body
		}
	}
	switch {
	case d.Status != 0 && status != d.Status:
		wrong = fmt.Sprintf("it was refused with status %d: %s", status, reasonOf(err))
	case !strings.Contains(said, d.Words):
		wrong = "it was refused with other words: " + plain.Text(said, 200)
	}
	e.check(e.script.step().Check, wrong == "", wrong)
	p.ends(e, ending{cause: refusalWanted})
	e.script.resume(e)
	return true
}
