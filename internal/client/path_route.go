package client

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/client/reading"
	"tidepull/internal/measure/excuse"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
	"tidepull/internal/trial/expr"
	"tidepull/internal/wire/transport"
)

// A routeState is what a client has if its crew has several routes. It goes down to the next
// route if one fails: it is refused, nothing answers in time, or the connection breaks
// before it has settled; the session then begins again at its connect. It goes up to a
// better one beside the one that it has, and changes over once the server agrees.
type routeState struct {
	setOut  mono.Time // when the first route was tried
	began   mono.Time // when the route at hand was
	settles mono.Time // until when a break leads down; 0: it is not open
	got     int64     // bytes that came over the route at hand
	connect *trial.Step
	place   place     // where that is
	tryAt   mono.Time // when a better route is tried; 0: not
	up      int       // which of the client's routes is tried next
	next    *attempt  // of a better route, under way
	old     *attempt  // what it changed over from, until that has ended
}

// routes is where the client is among its routes; nil if it has one route, or is not under way.
func (p *path) routes() *routeState {
	if p.rare == nil {
		return nil
	}
	return p.rare.routes
}

// An attempt is a transport beside the client's own.
type attempt struct {
	way     transport.Machine
	route   uint8
	until   mono.Time // when it is given up
	agreed  bool      // the server has agreed to change over
	pausing mono.Time // when the client's own transport was told to come to an end; 0: not yet
}

const (
	// agreeWithin is how long a server may take to agree to a change of the route, and for
	// the old one to come to its end.
	agreeWithin = 5 * time.Second
	// lingersFor is how long an old transport that does not end by itself is listened to.
	lingersFor = time.Second
)

// routesOf are the routes that a client may take, the best first.
func (e *Env) routesOf() (routes [trial.MaxRoutes]uint8, n int) {
	cr := &e.Trial.Crews[e.c.crew]
	all := cr.Routes
	if len(all) == 0 {
		return routes, 1
	}
	for _, r := range all {
		if !cr.Forbids(r, int(e.c.n)) {
			routes[n] = r
			n++
		}
	}
	if n == 0 { // the reader sees to it that this cannot be
		n = 1
	}
	return routes, n
}

// takeRoute makes a route the client's.
func (p *path) takeRoute(e *Env, route uint8) {
	if route == p.route {
		return
	}
	p.way.Drop(p.io(e))
	p.route, p.way = route, e.newWay(route)
}

// setsOutOn begins to connect over the first of the client's routes, or the last if it is
// to work its way up.
func (p *path) setsOutOn(e *Env, connect *trial.Step) {
	routes, n := e.routesOf()
	first := 0
	if e.Trial.Crews[e.c.crew].Promote {
		first = n - 1
	}
	p.takeRoute(e, routes[first])
	if n == 1 {
		return
	}
	x := p.own()
	if x.routes == nil {
		x.routes = &routeState{}
	}
	p.dropAttempts(e)
	*x.routes = routeState{setOut: e.now, connect: connect, place: e.script.place()}
}

// hasOtherRoute reports whether the client takes its next route when one has failed: it was not
// agreed on, or has not settled yet. That the last one failed is counted.
func (p *path) hasOtherRoute(e *Env, err error) bool {
	t := p.routes()
	if t == nil || e.script.isEbbing() || p.phase == open && e.now >= t.settles || p.phase == closing {
		return false
	}
	routes, n := e.routesOf()
	if slices.Index(routes[:n], p.route) == n-1 {
		p.hasNoneLeft(e, n, err)
		return false
	}
	return true
}

// goesDown begins again at the connect step, over the next route.
func (p *path) goesDown(e *Env, err error) {
	t := p.routes()
	routes, n := e.routesOf()
	at := slices.Index(routes[:n], p.route)
	down := &e.counts().Routes
	down.Down++
	down.TriedIn += e.now.Sub(t.began).Microseconds()
	down.TriedCost += t.got
	from := e.routeOf().Name
	p.takeRoute(e, routes[at+1])
	why := e.countReason("step down", fmt.Errorf("%s to %s, %s", from, e.routeOf().Name, reasonOf(err)))
	e.event(logbook.SteppedDown, noRoom, why)
	e.script.goTo(e, t.place)
	e.hinder(excuse.BetweenRoutes)
	t.settles, t.tryAt = 0, 0
	p.dialRoute(e, e.script.step())
}

// hasNoneLeft counts that the last of a client's routes failed.
func (p *path) hasNoneLeft(e *Env, n int, err error) {
	e.counts().Routes.NoneLeft++
	e.countReason("no route left", fmt.Errorf("%s was the last of %d: %s", e.routeOf().Name, n, reasonOf(err)))
}

// isOn notes that a route is open.
func (p *path) isOn(e *Env, at mono.Time) {
	setOut := e.script.since()
	if t := p.routes(); t != nil {
		crew := &e.Trial.Crews[e.c.crew]
		setOut = t.setOut
		t.settles = e.now.Add(crew.Settle)
		p.planUp(e, crew.Promote)
	}
	e.Book.Now().Times[logbook.ToUsable].Record(at.Sub(setOut))
}

// planUp arranges for a better route to be tried: at once, or at the crew's pace.
func (p *path) planUp(e *Env, atOnce bool) {
	t, crew := p.rare.routes, &e.Trial.Crews[e.c.crew]
	routes, n := e.routesOf()
	t.tryAt = 0
	if t.up = e.nextUp(routes[:n], 0, p.route); t.up < 0 {
		return
	}
	if atOnce {
		t.tryAt = e.now
	} else if crew.Retry > 0 {
		t.tryAt = e.now.Add(crew.Retry)
	}
}

// nextUp is the place of the next route, from one place on, that is better than the one
// at hand and can be had beside it; -1 if there is none. Those over HTTP cannot: to ask
// for messages there would end the asking here, before anybody has agreed to it.
func (e *Env) nextUp(routes []uint8, from int, at uint8) int {
	for i := from; i < len(routes) && routes[i] != at; i++ {
		if e.Trial.Target.Route(int(routes[i])).Kind != trial.OverHTTP {
			return i
		}
	}
	return -1
}

// due is when a better route is tried; mono.Never if none is.
func (t *routeState) due() mono.Time {
	if t.tryAt != 0 {
		return t.tryAt
	}
	return mono.Never
}

// tickRoutes does what is due.
func (p *path) tickRoutes(e *Env) {
	t := p.routes()
	if t == nil || min(t.due(), p.serverDue()) > e.now {
		return
	}
	if t.tryAt != 0 && t.tryAt <= e.now {
		t.tryAt = 0
		p.triesUp(e)
	}
	if a := t.next; a != nil {
		if a.way.Deadline() <= e.now {
			a.way.Expire(p.otherIO(e))
			p.drainNext(e, mono.At(e.now))
		} else if a.until <= e.now {
			p.failsUp(e, errors.New("the server has not agreed in time"))
		}
	}
	if t = p.routes(); t == nil {
		return
	}
	if a := t.old; a != nil {
		if a.way.Deadline() <= e.now {
			a.way.Expire(p.otherIO(e))
			p.drainOld(e, mono.At(e.now))
		} else if a.until <= e.now {
			p.dropOld(e)
		}
	}
}

// triesUp begins to connect over a better route.
func (p *path) triesUp(e *Env) {
	t := p.rare.routes
	routes, _ := e.routesOf()
	if p.phase != open || e.script.isEbbing() || t.next != nil || t.up < 0 {
		return
	}
	if t.old != nil {
		t.tryAt = e.now.Add(lingersFor)
		return
	}
	step := t.connect
	a := &attempt{way: e.newWay(routes[t.up]), route: routes[t.up], until: e.now.Add(step.Within +
		agreeWithin)}
	t.next = a
	o := p.openingOf(e, step, a.route)
	o.Early = nil
	a.way.Open(p.otherIO(e), &o, e.now.Add(step.Within))
}

// drainNext handles what a better route has to tell.
func (p *path) drainNext(e *Env, came mono.Span) {
	for t := p.routes(); t != nil && t.next != nil; t = p.routes() {
		a := t.next
		ev := a.way.Next(p.otherIO(e))
		switch ev.Kind {
		case transport.Nothing:
			return
		case transport.Opened:
			if s := e.Trial.Dialect.Switch.Send; s != nil {
				a.way.Say(p.otherIO(e), p.render(e, s), e.Trial.Dialect.Binary)
			}
			if e.Trial.Dialect.Switch.Confirmed == nil {
				p.onAgreed(e)
			}
		case transport.Message:
			if confirmed := e.Trial.Dialect.Switch.Confirmed; !a.agreed && confirmed != nil {
				e.load(reading.Part{Text: ev.Payload, JSON: ev.Payload})
				if confirmed.True(&e.scope) {
					p.onAgreed(e)
					continue
				}
			}
			e.judge.message(e, ev, came)
		case transport.Beat:
			a.way.Reply(p.otherIO(e), ev.Payload)
		case transport.Refused, transport.Broken, transport.Violated, transport.Ended:
			if ev.Err == nil {
				ev.Err = errors.New("it ended")
			}
			p.failsUp(e, ev.Err)
		}
	}
}

// render evaluates a template.
func (p *path) render(e *Env, t *expr.Template) []byte {
	e.fill()
	e.body = t.Append(e.body[:0], &e.scope)
	return e.body
}

// onAgreed handles that the better route can be had: the one at hand comes to an end first,
// if it can, so that nothing overtakes what comes over it.
func (p *path) onAgreed(e *Env) {
	a := p.rare.routes.next
	a.agreed, a.pausing, a.until = true, e.now, e.now.Add(agreeWithin)
	if pauser, can := p.way.(transport.Pauser); can && pauser.Pause(p.io(e)) {
		p.drain(e, mono.At(e.now))
		return
	}
	p.switchTo(e, false)
}

// switchTo makes the better route the client's own.
func (p *path) switchTo(e *Env, ended bool) {
	t := p.rare.routes
	a := t.next
	if s := e.Trial.Dialect.Switch.Then; s != nil {
		a.way.Say(p.otherIO(e), p.render(e, s), e.Trial.Dialect.Binary)
	}
	from := e.routeOf().Name
	old := &attempt{way: p.way, route: p.route, until: e.now.Add(lingersFor)}
	p.second = !p.second
	p.way, p.route, t.next = a.way, a.route, nil
	if ended {
		old.way.Drop(p.otherIO(e))
	} else {
		t.old = old
	}
	e.pulse.moves(e)
	e.counts().Routes.Up++
	why := e.countReason("step up", fmt.Errorf("%s to %s", from, e.routeOf().Name))
	e.event(logbook.SteppedUp, noRoom, why)
	e.tell(fact.Fact{Kind: fact.Switches, Client: e.c.id, Room: noRoom, Time: e.rel(a.pausing),
		Since: e.rel(e.now.Add(lingersFor))})
	p.planUp(e, false)
}

// failsUp gives a better route up; the next one is tried, or all again later.
func (p *path) failsUp(e *Env, err error) {
	t := p.rare.routes
	a := t.next
	paused := a.pausing != 0
	a.way.Drop(p.otherIO(e))
	t.next = nil
	e.counts().Routes.UpFailed++
	e.countReason("no step up", fmt.Errorf("to %s, %s", e.Trial.Target.Route(int(a.route)).Name, reasonOf(err)))
	if pauser, can := p.way.(transport.Pauser); paused && can {
		pauser.Resume(p.io(e))
		p.drain(e, mono.At(e.now))
		if p.routes() == nil {
			return
		}
	}
	routes, n := e.routesOf()
	if up := e.nextUp(routes[:n], t.up+1, p.route); up >= 0 {
		t.up, t.tryAt = up, e.now
		return
	}
	p.planUp(e, false)
}

// drainOld handles what still comes over the route that the client changed over from.
func (p *path) drainOld(e *Env, came mono.Span) {
	for t := p.routes(); t != nil && t.old != nil; t = p.routes() {
		switch ev := t.old.way.Next(p.otherIO(e)); ev.Kind {
		case transport.Nothing:
			return
		case transport.Message:
			e.judge.message(e, ev, came)
		case transport.Ended, transport.Broken, transport.Violated, transport.Refused:
			p.dropOld(e)
		}
	}
}

func (p *path) dropOld(e *Env) {
	io := p.otherIO(e)
	p.rare.routes.old.way.Drop(io)
	io.Lines[transport.Main].Hangup = true
	p.rare.routes.old = nil
}

// dropAttempts gives up what there is beside the client's own transport.
func (p *path) dropAttempts(e *Env) {
	t := p.routes()
	if t == nil {
		return
	}
	for _, a := range [...]*attempt{t.next, t.old} {
		if a != nil {
			io := p.otherIO(e)
			a.way.Drop(io)
			io.Lines[transport.Main].Hangup, io.Lines[transport.Post].Hangup = true, true
		}
	}
	t.next, t.old, t.tryAt = nil, nil, 0
}

// besides hands something that happened to a line of another transport than the client's own to the one
// that has it.
func (p *path) besides(e *Env, line int, came mono.Span, f func(transport.Machine, *transport.IO, int)) {
	switch t := p.routes(); {
	case t == nil:
	case t.next != nil:
		f(t.next.way, p.otherIO(e), line)
		p.drainNext(e, came)
	case t.old != nil:
		f(t.old.way, p.otherIO(e), line)
		p.drainOld(e, came)
	}
}

// carriesBeats reports whether heartbeats of the server can come over the client's route: an answer to each poll is as
// good as one, and none comes between.
func (p *path) carriesBeats(e *Env) bool {
	r, promise := e.Trial.Target.Route(int(p.route)), e.Trial.Target.Promise
	return r.Kind != trial.OverHTTP || r.Habits.Mode != transport.LongPolling && r.Habits.Mode != transport.Polling ||
		promise == nil || promise.AnyData
}
