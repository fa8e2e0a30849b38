package client

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/client/reading"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
	"tidepull/internal/trial/expr"
	"tidepull/internal/wire/transport"
)

// A routeState is what a client has whose crew has several routes. It goes down to the next
// route if one fails: it is refused, nothing answers in time, or the connection breaks
// before it has settled; the session then begins again at its connect. It goes up to a
// better one beside the one that it has, and changes over once the server agrees.
type routeState struct {
	setOut  mono.Time // when the first route was tried
	began   mono.Time // when the route at hand was
	settles mono.Time // until when a break leads down; 0: it is not open
	got     int64     // bytes that came over the route at hand
	pc      int32     // of the connect step
	depth   int8      // of repeats around it
	tryAt   mono.Time // when a better route is tried; 0: not
	up      int       // which of the client's routes is tried next
	next    *attempt  // of a better route, under way
	old     *attempt  // what it changed over from, until that has ended
}

// routeState is where the client is among its routes; nil if it has one route, or is not under way.
func (c *Client) routeState() *routeState {
	if c.more == nil {
		return nil
	}
	return c.more.routeState
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
func (e *Env) routesOf(c *Client) (routes [trial.MaxRoutes]uint8, n int) {
	cr := &e.Trial.Crews[c.crew]
	all := cr.Routes
	if len(all) == 0 {
		return routes, 1
	}
	for _, r := range all {
		if !cr.Forbids(r, int(c.n)) {
			routes[n] = r
			n++
		}
	}
	if n == 0 { // the reader sees to it that this cannot be
		n = 1
	}
	return routes, n
}

// io is what the client's transport asks for, and what a second one does beside it.
func (c *Client) io(e *Env) *transport.IO      { return e.ios(c.second) }
func (c *Client) otherIO(e *Env) *transport.IO { return e.ios(!c.second) }

func (e *Env) ios(second bool) *transport.IO {
	if second {
		return &e.Beside
	}
	return &e.IO
}

// takeRoute makes a route the client's.
func (c *Client) takeRoute(e *Env, route uint8) {
	if route == c.route {
		return
	}
	c.way.Drop(c.io(e))
	c.route, c.way = route, e.newWay(route)
}

// setsOutOn begins to connect over the first of the client's routes, or the last if it is
// to work its way up.
func (c *Client) setsOutOn(e *Env, now mono.Time) {
	routes, n := e.routesOf(c)
	first := 0
	if e.Trial.Crews[c.crew].Promote {
		first = n - 1
	}
	c.takeRoute(e, routes[first])
	if n == 1 {
		return
	}
	x := c.optional()
	if x.routeState == nil {
		x.routeState = &routeState{}
	}
	c.dropAttempts(e)
	*x.routeState = routeState{setOut: now, pc: c.pc, depth: c.depth}
}

// hasOtherRoute reports whether the client takes its next route when one has failed: it was not
// agreed on, or has not settled yet. That the last one failed is counted.
func (c *Client) hasOtherRoute(e *Env, now mono.Time, err error) bool {
	t := c.routeState()
	if t == nil || c.ebbing || c.phase == open && now >= t.settles || c.phase == closing {
		return false
	}
	routes, n := e.routesOf(c)
	if slices.Index(routes[:n], c.route) == n-1 {
		c.hasNoneLeft(e, n, err)
		return false
	}
	return true
}

// goesDown begins again at the connect step, over the next route.
func (c *Client) goesDown(e *Env, now mono.Time, err error) {
	t := c.routeState()
	routes, n := e.routesOf(c)
	at := slices.Index(routes[:n], c.route)
	down := &e.counts().Routes
	down.Down++
	down.TriedIn += now.Sub(t.began).Microseconds()
	down.TriedCost += t.got
	from := e.routeOf(c).Name
	c.takeRoute(e, routes[at+1])
	why := e.countReason("step down", fmt.Errorf("%s to %s, %s", from, e.routeOf(c).Name, reasonOf(err)))
	e.event(c, now, logbook.SteppedDown, noRoom, why)
	if c.wait == forOthers {
		e.note(c, now, fact.WaitsNot, 0, 0) // it will come to the barrier again
	}
	e.repeatsChange(c, now, int32(t.depth-c.depth))
	c.pc, c.depth = t.pc, t.depth
	t.settles, t.tryAt = 0, 0
	c.dialRoute(e, now, c.step())
}

// hasNoneLeft counts that the last of a client's routes failed.
func (c *Client) hasNoneLeft(e *Env, n int, err error) {
	e.counts().Routes.NoneLeft++
	e.countReason("no route left", fmt.Errorf("%s was the last of %d: %s", e.routeOf(c).Name, n, reasonOf(err)))
}

// isOn notes that a route is open.
func (c *Client) isOn(e *Env, at, now mono.Time) {
	setOut := c.began
	if t := c.routeState(); t != nil {
		crew := &e.Trial.Crews[c.crew]
		setOut = t.setOut
		t.settles = now.Add(crew.Settle)
		c.planUp(e, now, crew.Promote)
	}
	e.Book.Now().Times[logbook.ToUsable].Record(at.Sub(setOut))
}

// planUp arranges for a better route to be tried: at once, or at the crew's pace.
func (c *Client) planUp(e *Env, now mono.Time, atOnce bool) {
	t, crew := c.more.routeState, &e.Trial.Crews[c.crew]
	routes, n := e.routesOf(c)
	t.tryAt = 0
	if t.up = e.nextUp(routes[:n], 0, c.route); t.up < 0 {
		return
	}
	if atOnce {
		t.tryAt = now
	} else if crew.Retry > 0 {
		t.tryAt = now.Add(crew.Retry)
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

// due is when something of the client's routes is due; mono.Never if nothing is.
func (t *routeState) due() mono.Time {
	due := mono.Never
	if t.tryAt != 0 {
		due = t.tryAt
	}
	for _, a := range [...]*attempt{t.next, t.old} {
		if a != nil {
			due = min(due, a.until, a.way.Deadline())
		}
	}
	return due
}

// tickTravel does what is due.
func (c *Client) tickTravel(e *Env, now mono.Time) {
	t := c.more.routeState
	if t.tryAt != 0 && t.tryAt <= now {
		t.tryAt = 0
		c.triesUp(e, now)
	}
	if a := t.next; a != nil {
		if a.way.Deadline() <= now {
			a.way.Expire(c.otherIO(e))
			c.drainNext(e, mono.At(now), now)
		} else if a.until <= now {
			c.failsUp(e, now, errors.New("the server has not agreed in time"))
		}
	}
	if t = c.routeState(); t == nil {
		return
	}
	if a := t.old; a != nil {
		if a.way.Deadline() <= now {
			a.way.Expire(c.otherIO(e))
			c.drainOld(e, mono.At(now), now)
		} else if a.until <= now {
			c.dropOld(e)
		}
	}
}

// triesUp begins to connect over a better route.
func (c *Client) triesUp(e *Env, now mono.Time) {
	t := c.more.routeState
	routes, _ := e.routesOf(c)
	if c.phase != open || c.ebbing || t.next != nil || t.up < 0 {
		return
	}
	if t.old != nil {
		t.tryAt = now.Add(lingersFor)
		return
	}
	step := &c.session.Steps[t.pc]
	a := &attempt{way: e.newWay(routes[t.up]), route: routes[t.up], until: now.Add(step.Within +
		agreeWithin)}
	t.next = a
	o := c.openingOf(e, now, step, a.route)
	o.Early = nil
	a.way.Open(c.otherIO(e), &o, now.Add(step.Within))
}

// drainNext handles what a better route has to tell.
func (c *Client) drainNext(e *Env, came mono.Span, now mono.Time) {
	for t := c.routeState(); t != nil && t.next != nil; t = c.routeState() {
		a := t.next
		ev := a.way.Next(c.otherIO(e))
		switch ev.Kind {
		case transport.Nothing:
			return
		case transport.Opened:
			if s := e.Trial.Dialect.Switch.Send; s != nil {
				a.way.Say(c.otherIO(e), c.render(e, s), e.Trial.Dialect.Binary)
			}
			if e.Trial.Dialect.Switch.Confirmed == nil {
				c.onAgreed(e, now)
			}
		case transport.Message:
			if p := e.Trial.Dialect.Switch.Confirmed; !a.agreed && p != nil {
				c.load(e, reading.Part{Text: ev.Payload, JSON: ev.Payload})
				if p.True(&e.scope) {
					c.onAgreed(e, now)
					continue
				}
			}
			c.message(e, ev, came, now)
		case transport.Beat:
			a.way.Reply(c.otherIO(e), ev.Payload)
		case transport.Refused, transport.Broken, transport.Violated, transport.Ended:
			if ev.Err == nil {
				ev.Err = errors.New("it ended")
			}
			c.failsUp(e, now, ev.Err)
		}
	}
}

// render evaluates a template.
func (c *Client) render(e *Env, t *expr.Template) []byte {
	c.fill(e)
	e.body = t.Append(e.body[:0], &e.scope)
	return e.body
}

// onAgreed handles that the better route can be had: the one at hand comes to an end first,
// if it can, so that nothing overtakes what comes over it.
func (c *Client) onAgreed(e *Env, now mono.Time) {
	a := c.more.routeState.next
	a.agreed, a.pausing, a.until = true, now, now.Add(agreeWithin)
	if p, can := c.way.(transport.Pauser); can && p.Pause(c.io(e)) {
		c.drain(e, mono.At(now), now)
		return
	}
	c.switchTo(e, now, false)
}

// switchTo makes the better route the client's own.
func (c *Client) switchTo(e *Env, now mono.Time, ended bool) {
	t := c.more.routeState
	a := t.next
	if s := e.Trial.Dialect.Switch.Then; s != nil {
		a.way.Say(c.otherIO(e), c.render(e, s), e.Trial.Dialect.Binary)
	}
	from := e.routeOf(c).Name
	old := &attempt{way: c.way, route: c.route, until: now.Add(lingersFor)}
	c.second = !c.second
	c.way, c.route, t.next = a.way, a.route, nil
	if ended {
		old.way.Drop(c.otherIO(e))
	} else {
		t.old = old
	}
	e.counts().Routes.Up++
	why := e.countReason("step up", fmt.Errorf("%s to %s", from, e.routeOf(c).Name))
	e.event(c, now, logbook.SteppedUp, noRoom, why)
	e.tell(now, fact.Fact{Kind: fact.Switches, Client: c.id, Room: noRoom, Time: e.rel(a.pausing),
		Since: e.rel(now.Add(lingersFor))})
	c.planUp(e, now, false)
}

// failsUp gives a better route up; the next one is tried, or all again later.
func (c *Client) failsUp(e *Env, now mono.Time, err error) {
	t := c.more.routeState
	a := t.next
	paused := a.pausing != 0
	a.way.Drop(c.otherIO(e))
	t.next = nil
	e.counts().Routes.UpFailed++
	e.countReason("no step up", fmt.Errorf("to %s, %s", e.Trial.Target.Route(int(a.route)).Name,
		reasonOf(err)))
	if p, can := c.way.(transport.Pauser); paused && can {
		p.Resume(c.io(e))
		c.drain(e, mono.At(now), now)
		if c.routeState() == nil {
			return
		}
	}
	routes, n := e.routesOf(c)
	if up := e.nextUp(routes[:n], t.up+1, c.route); up >= 0 {
		t.up, t.tryAt = up, now
		return
	}
	c.planUp(e, now, false)
}

// drainOld handles what still comes over the route that the client changed over from.
func (c *Client) drainOld(e *Env, came mono.Span, now mono.Time) {
	for t := c.routeState(); t != nil && t.old != nil; t = c.routeState() {
		switch ev := t.old.way.Next(c.otherIO(e)); ev.Kind {
		case transport.Nothing:
			return
		case transport.Message:
			c.message(e, ev, came, now)
		case transport.Ended, transport.Broken, transport.Violated, transport.Refused:
			c.dropOld(e)
		}
	}
}

func (c *Client) dropOld(e *Env) {
	io := c.otherIO(e)
	c.more.routeState.old.way.Drop(io)
	io.Lines[transport.Main].Hangup = true
	c.more.routeState.old = nil
}

// dropAttempts gives up what there is beside the client's own transport.
func (c *Client) dropAttempts(e *Env) {
	t := c.routeState()
	if t == nil {
		return
	}
	for _, a := range [...]*attempt{t.next, t.old} {
		if a != nil {
			io := c.otherIO(e)
			a.way.Drop(io)
			io.Lines[transport.Main].Hangup, io.Lines[transport.Post].Hangup = true, true
		}
	}
	t.next, t.old, t.tryAt = nil, nil, 0
}

// besides hands an event of a line that is not of the client's own transport to whose it
// is.
func (c *Client) besides(e *Env, came mono.Span, now mono.Time, f func(transport.Machine, *transport.IO)) {
	switch t := c.routeState(); {
	case t == nil:
	case t.next != nil:
		f(t.next.way, c.otherIO(e))
		c.drainNext(e, came, now)
	case t.old != nil:
		f(t.old.way, c.otherIO(e))
		c.drainOld(e, came, now)
	}
}
