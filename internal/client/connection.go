package client

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
	"tidepull/internal/wire/transport"
	"tidepull/internal/wire/ws"
)

// connect begins to connect.
func (c *Client) connect(e *Env, now mono.Time, s *trial.Step) {
	if b := c.returns(e); b != nil && !b.active {
		b.connect = c.pc
	}
	c.setsOutOn(e, now)
	c.dialRoute(e, now, s)
}

// dialRoute begins to connect over the client's route.
func (c *Client) dialRoute(e *Env, now mono.Time, s *trial.Step) {
	c.mends(e, now, now)
	c.phase, c.naming = connecting, unnamed
	c.wait, c.began, c.deadline = forOpen, now, mono.Never // how long it may take is the transport's to watch
	if t := c.routeState(); t != nil {
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
		c.optional().web.Connected(&e.IO)
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
	if t := c.routeState(); t != nil {
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
			e.Book.Now().Times[logbook.ReadingLag].Record(now.Sub(came.To))
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
			if t := c.routeState(); t != nil && t.next != nil {
				c.switchTo(e, now, true)
				return
			}
		case transport.Ended:
			if ev.Err != nil {
				e.countReason("close", ev.Err)
			}
			if c.ends(e, now, ending{cause: closed}) == goesOn {
				c.resume(e, now)
			}
		case transport.Refused:
			c.refused(e, now, ev.Err)
		case transport.Broken:
			c.broken(e, came.To, now, ev.Err)
		case transport.Violated:
			if !c.garbled(e) {
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
	e.Book.Now().Times[logbook.ToConnect].Record(at.Sub(c.began))
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
		c.ends(e, now, ending{cause: hindrance, err: lack, least: time.Second})
		return
	}
	if !c.mustBeRefused(e, now, err) {
		c.ends(e, now, ending{cause: refusal, err: err})
	}
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
	c.ends(e, now, ending{cause: refusalWanted})
	c.resume(e, now)
	return true
}

// broken handles that the server, or what is between, ended a connection, of which the client
// learned from what came at an instant.
func (c *Client) broken(e *Env, at, now mono.Time, err error) {
	x := ending{cause: byServer, err: err, at: at}
	wrong, closedAt := c.misconduct(), now
	switch {
	case c.wait == forBreak:
		x.cause = asAwaited
	case wrong != nil:
		x.cause = asEvicted
	case c.more != nil && c.more.slow.Is():
		x.cause = asSlow
	case c.cutFromServer(e, now):
		x.cause = byPath
	}
	if wrong != nil {
		closedAt = c.isEvicted(e, wrong, at, now)
	} else if (x.cause == byServer || x.cause == byPath) && e.Trial.Target.Promise != nil && !e.notHasty(now, err) {
		e.counts().Pulse.Hasty++
		e.doubts(e.closedInDoubt(now)).Hasty++
	}
	switch x.cause {
	case asEvicted:
		c.wasEvicted(e, closedAt, now, err)
	case asAwaited:
		c.wasEvicted(e, closedAt, now, err)
		step := c.step()
		c.ends(e, now, x)
		why := wrongEnd(step, err)
		e.check(c, now, step.Check, why == "", why)
		c.resume(e, now)
		return
	case asSlow: // its own doing: the session ends as planned
		c.wasEvicted(e, closedAt, now, err)
		step, _ := c.more.slow.Get()
		e.check(c, now, c.session.Steps[step].Check, true, "")
	}
	c.ends(e, now, x)
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

// wasEvicted books that the server closed a client at a time.
func (c *Client) wasEvicted(e *Env, when, now mono.Time, err error) {
	e.counts().Evicted++
	e.tellText(now, fact.Fact{Kind: fact.Happens, Client: c.id, Room: noRoom, What: uint8(logbook.Evicted),
		Time: e.rel(when)}, []byte(e.countReason("evicted", err)))
}
