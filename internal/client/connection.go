package client

import (
	"errors"
	"fmt"
	"strings"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
	"tidepull/internal/wire/transport"
	"tidepull/internal/wire/ws"
)

// connect begins to connect.
func (c *Client) connect(e *Env, now mono.Time, s *trial.Step) {
	if b := c.returns(e); b != nil && !b.under {
		b.connect = c.pc
	}
	c.setsOutOn(e, now)
	c.dialRoute(e, now, s)
}

// dialRoute begins to connect over the client's route.
func (c *Client) dialRoute(e *Env, now mono.Time, s *trial.Step) {
	c.connectsAnew(e, now)
	c.phase, c.naming = connecting, unnamed
	c.wait, c.began, c.deadline = forOpen, now, mono.Never // how long it may take is the transport's to watch
	if t := c.travels(); t != nil {
		t.began, t.got = now, 0
	}
	o := c.openingOf(e, now, s, c.route)
	if e.Trial.Dialect.Naming.Send == nil && !(s.Dial != nil && s.Dial.Nameless) {
		c.enterAhead(e, now) // the server may let it in with the handshake
	}
	c.way.Open(c.io(e), &o, now.Add(s.Within))
}

// openingOf is what a transport needs to connect over a route.
func (c *Client) openingOf(e *Env, now mono.Time, s *trial.Step, route uint8) transport.Opening {
	p, r := e.placeOn(c, route), e.Trial.Target.Route(int(route))
	o := transport.Opening{Endpoint: e.endpointOn(c, route), Beside: p.Beside, Host: p.Host, Path: p.Path,
		Again: c.again}
	o.Endpoint.From, o.Endpoint.KeepAlive = e.fromOf(c), e.Trial.Target.KeepAlive
	c.fill(e)
	if r.Whole != nil {
		o.Path = transport.Target(strings.TrimPrefix(string(r.Whole.Append(nil, &e.scope)), r.Origin()))
	}
	if r.Post != nil {
		o.Post = transport.Target(string(r.Post.Append(nil, &e.scope)))
	}
	if d := s.Dial; d != nil {
		if d.Path != nil {
			o.Path = transport.Target(string(d.Path.Append(nil, &e.scope)))
		}
		o.Fields = c.fields(e, d.Fields)
		if k := ws.KnockNamed(d.WrongOf(int(c.n))); k != nil {
			o.Mangle = k.Make
		}
		if d.Early != nil {
			o.Early = c.sayUnheard(e, now, d.Early)
		}
	}
	if c.more != nil {
		o.Jar = &c.more.jar
	}
	return o
}

// Connected tells the client that a line is open.
func (c *Client) Connected(e *Env, line int, now mono.Time) {
	e.at(c, now)
	switch {
	case line == transport.Side:
		c.extra().web.Connected(&e.IO)
		return
	case line >= transport.NumLines != c.second:
		c.besides(e, mono.At(now), now, func(m transport.Machine, io *transport.IO) {
			m.Connected(io, line%transport.NumLines)
		})
		return
	}
	line %= transport.NumLines
	c.way.Connected(c.io(e), line)
	c.drain(e, mono.At(now), now)
}

// Data gives the client bytes of a line, with when they arrived in the kernel: the
// last of them at came.To, the others not before came.From.
func (c *Client) Data(e *Env, line int, b []byte, came mono.Span, now mono.Time) {
	e.at(c, now)
	e.counts().Bytes += int64(len(b))
	if line == transport.Side {
		if c.more != nil {
			c.more.web.Take(&e.IO, b)
			c.drainWeb(e, came.To, now)
		}
		return
	}
	if t := c.travels(); t != nil {
		t.got += int64(len(b))
	}
	if line >= transport.NumLines != c.second {
		c.besides(e, came, now, func(m transport.Machine, io *transport.IO) { m.Take(io, line%transport.NumLines, b) })
		return
	}
	if line %= transport.NumLines; line == transport.Main {
		c.throttle(e, len(b), now)
		c.hearsAnything(e, came.To)
		if c.more == nil || c.more.perSec == 0 && c.misconduct() == nil { // else it reads late on purpose
			e.Book.Now().ReadingLag.Record(now.Sub(came.To))
		}
	}
	c.way.Take(c.io(e), line, b)
	c.drain(e, came, now)
}

// drain handles what the transport has to tell.
func (c *Client) drain(e *Env, came mono.Span, now mono.Time) {
	for {
		ev := c.way.Next(c.io(e))
		switch ev.Kind {
		case transport.Nothing:
			return
		case transport.Opened:
			at := came.To
			if ev.At != 0 {
				at = ev.At
			}
			c.opened(e, at, now)
		case transport.Message:
			if ev.Shared {
				c.message(e, ev, came, now)
			} else {
				c.message(e, ev, mono.At(came.To), now)
			}
		case transport.Beat:
			c.beat(e, ev.Payload, came.To, now)
		case transport.Pong:
			c.pong(e, came.To)
		case transport.Sign:
			c.hearsBeat(e, came.To)
		case transport.Answered:
			c.isGone(e, now)
		case transport.Paused:
			if t := c.travels(); t != nil && t.next != nil {
				c.changesOver(e, now, true)
				return
			}
		case transport.Ended:
			if ev.Err != nil {
				e.countReason("close", ev.Err)
			}
			c.closed(e, now)
		case transport.Refused:
			c.refused(e, now, ev.Err)
		case transport.Broken:
			c.broken(e, came.To, now, ev.Err)
		case transport.Violated:
			if !c.garbled() {
				e.counts().Malformed++
			}
			c.broken(e, came.To, now, ev.Err)
		}
	}
}

func (c *Client) opened(e *Env, at, now mono.Time) {
	c.phase, c.again = open, true
	e.counts().Opened++
	if !e.opened {
		e.opened = true
		e.note(c, now, fact.ConnOpen, 0, 1)
	}
	e.event(c, now, logbook.Opened, noRoom, "")
	e.Book.Now().Connect.Record(at.Sub(c.began))
	if c.Away() {
		c.isConnectedAgain(e, at)
	}
	c.isOn(e, at, now)
	if d := c.step().Dial; d != nil && d.Refused {
		why := "it was let in"
		if wrong := d.WrongOf(int(c.n)); wrong != "" {
			why += " with " + wrong
		}
		e.check(c, now, c.step().Check, false, why)
		c.ebbing = true
		c.sayClose(e, now, ws.CloseNormal, "")
		return
	}
	c.sayName(e, now)
	c.followsBeats(e, at, now)
	c.resume(e, now)
}

// Broke tells the client that a line is gone.
func (c *Client) Broke(e *Env, line int, now mono.Time, err error) {
	e.at(c, now)
	switch {
	case line != transport.Side && line >= transport.NumLines != c.second:
		c.besides(e, mono.At(now), now, func(m transport.Machine, io *transport.IO) {
			m.Lost(io, line%transport.NumLines, err)
		})
	case line != transport.Side:
		c.way.Lost(c.io(e), line%transport.NumLines, err)
		c.drain(e, mono.At(now), now)
	case c.more != nil:
		c.more.web.Lost(&e.IO, err)
		c.drainWeb(e, now, now)
	}
}

func (c *Client) refused(e *Env, now mono.Time, err error) {
	if lack := e.shortage(err, now); lack != nil {
		e.event(c, now, logbook.Hindered, noRoom, e.countReason("not opened", lack))
		if !c.shortOf(e, now, lack) {
			c.land(e, now)
		}
		return
	}
	if c.more != nil && c.more.ahead.room.Is() {
		c.more.ahead = ahead{}
		c.isGone(e, now)
	}
	if c.mustBeRefused(e, now, err) || c.goesDown(e, now, err) {
		return
	}
	if c.Away() {
		c.failsToReturn(e, now, err)
		return
	}
	if !c.garbled() { // or it was the trial that spoilt the request
		e.counts().Refused++
		e.doubts(e.inDoubt(c.began, now)).Refused++
	}
	e.note(c, now, fact.ConnsFail, 0, 1)
	e.event(c, now, logbook.Refused, noRoom, e.countReason("refused", err))
	c.land(e, now)
}

// mustBeRefused handles a refusal that the step at hand wants, if it does.
func (c *Client) mustBeRefused(e *Env, now mono.Time, err error) bool {
	d := c.step().Dial
	if d == nil || !d.Refused {
		return false
	}
	wrong, status := "", 0
	var refusal *ws.Refusal
	if errors.As(err, &refusal) {
		status = refusal.Status
	}
	switch {
	case d.Status != 0 && status != d.Status:
		wrong = fmt.Sprintf("it was refused with status %d: %s", status, reasonOf(err))
	case !strings.Contains(reasonOf(err), d.Words):
		wrong = "it was refused with other words: " + reasonOf(err)
	}
	e.check(c, now, c.step().Check, wrong == "", wrong)
	c.goOffline(e, now)
	c.resume(e, now)
	return true
}

// broken handles the end of an open connection, of which the client learned from what came
// at an instant. A session that waits for it goes on; otherwise there is nothing more to do.
func (c *Client) broken(e *Env, at, now mono.Time, err error) {
	awaited, slow := c.wait == forBreak, c.more != nil && c.more.slow.Is()
	wrong, promise := c.misconduct(), e.Trial.Target.Promise
	evicted := now
	switch {
	case wrong != nil:
		evicted = c.isEvicted(e, wrong, at, now)
	case promise != nil && !awaited && !slow && !e.notHasty(now, err):
		e.counts().Pulse.Hasty++
		e.doubts(e.closedInDoubt(now)).Hasty++
	}
	c.beatsEnd(e, at)
	if wrong != nil && !awaited {
		c.goesEvicted(e, evicted, now, err)
		return
	}
	if !awaited && !slow && c.brokeUnsettled(e, now, err) {
		return
	}
	if !awaited && !slow && c.goesAway(e, now, err) {
		return
	}
	c.failPending(e, now, err)
	c.goes(e, now)
	c.isGone(e, now)
	c.room = noRoom
	if !awaited && !slow && c.cutFromServer(e, now) {
		c.brokeByFault(e, now, err)
		return
	}
	if !awaited && !slow {
		e.counts().Broken++
		e.doubts(e.closedInDoubt(now)).Broken++
		e.event(c, now, logbook.Broke, noRoom, e.countReason("broken", err))
		e.trouble(c, now)
		c.land(e, now)
		return
	}
	c.wasEvicted(e, evicted, now, err)
	if !awaited { // a slow reader's own doing: the session ends as planned
		step, _ := c.more.slow.Get()
		e.check(c, now, c.session.Steps[step].Check, true, "")
		c.end(e, now)
		return
	}
	c.goOffline(e, now)
	why := wrongEnd(c.step(), err)
	e.check(c, now, c.step().Check, why == "", why)
	c.resume(e, now)
}

// wrongEnd says what is not as it must be in the end of a connection that was waited
// for, or "".
func wrongEnd(s *trial.Step, err error) string {
	if s.Do != trial.Closed {
		return ""
	}
	var closed *transport.ServerClosed
	framed := errors.As(err, &closed)
	switch {
	case s.Abrupt && framed:
		return "it ended with a close frame: " + reasonOf(err)
	case s.Abrupt || s.Code == 0 && s.Reason == "":
	case !framed:
		return "it ended without a close frame"
	case s.Code != 0 && closed.Code != s.Code, !strings.Contains(closed.Reason, s.Reason):
		return reasonOf(err)
	}
	return ""
}

// failPending fails what a client waits for when its connection breaks.
func (c *Client) failPending(e *Env, now mono.Time, err error) {
	if c.wait != forExpected || c.step().Never {
		return
	}
	e.counts().Missed++
	doubt := e.closedInDoubt(now)
	e.doubts(doubt).Missed++
	why := "the connection broke before it came: " + reasonOf(err)
	e.event(c, now, logbook.Missed, noRoom, e.countReason("missed", errors.New(c.step().Label)))
	e.fails(c, now, c.step().Check, why, doubt)
}

// goesEvicted handles that the server closed a client that misbehaved, when it did: the client comes
// back if its crew does, and behaves from then on.
func (c *Client) goesEvicted(e *Env, when, now mono.Time, err error) {
	c.wasEvicted(e, when, now, err)
	if c.goesAway(e, now, err) {
		return
	}
	c.failPending(e, now, err)
	c.goes(e, now)
	c.isGone(e, now)
	c.room = noRoom
	c.land(e, now)
}

// wasEvicted books that the server closed a client at a time.
func (c *Client) wasEvicted(e *Env, when, now mono.Time, err error) {
	e.counts().Evicted++
	e.tellText(now, fact.Fact{Kind: fact.Happens, Client: c.id, Room: noRoom, What: uint8(logbook.Evicted),
		Time: e.rel(when)}, []byte(e.countReason("evicted", err)))
}

// goOffline ends a connection in the middle of a session, which may connect again.
func (c *Client) goOffline(e *Env, now mono.Time) {
	c.phase, c.naming = offline, unnamed
	c.beatsEnd(e, e.readUpTo())
	c.dropAttempts(e)
	c.letGo(e)
	c.way.Drop(c.io(e))
	c.readOn(e, now, 0)
}

// closed handles the end of a connection that the client closed in order.
func (c *Client) closed(e *Env, now mono.Time) {
	c.isGone(e, now)
	if int(c.pc) < len(c.session.Steps) && c.step().Do == trial.Close && !c.ebbing {
		c.goOffline(e, now)
		e.event(c, now, logbook.Closed, noRoom, "")
		c.resume(e, now)
		return
	}
	c.end(e, now)
}
