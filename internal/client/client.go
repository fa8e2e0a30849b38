// Package client is one simulated client as a state machine: bytes, timers and
// orders go in; bytes to send, a deadline and entries in the ledger come out.
// It has no socket, no clock and no goroutine.
//
// The loop calls a method when something happens to a client, then does what
// the Env asks for (send Out, Dial, Hangup) and looks at Next for when to call
// Tick.
//
// A client is four things, each in files that begin with its name: the script
// (what it does next and what it waits for), the path (its connection: routes,
// faults, coming back), the pulse (heartbeats, and what it does wrong about them
// on purpose) and the judge (what it hears means: rooms, history, presence,
// feeds). None touches what is in another; TestParts holds that. What a message
// means before it meets a client is package reading.
package client

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/excuse"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
	"tidepull/internal/trial/expr"
	"tidepull/internal/wire/transport"
)

// A Client is one simulated client. It is kept small: there may be tens of
// thousands.
type Client struct {
	path   path
	script script
	judge  judge
	pulse  pulse
	id     ledger.Client
	n      int32 // in its crew
	crew   uint16
	name   []byte
	random rand.PCG
}

// New makes the n-th client of a crew, with its number in the run.
func (e *Env) New(id ledger.Client, crew uint16, n int32) Client {
	cr := &e.Trial.Crews[crew]
	c := Client{id: id, crew: crew, n: n, path: path{way: e.newWay(0)},
		script: script{session: cr.Session, deadline: mono.Never}, judge: judge{room: noRoom}}
	c.random.Seed(e.Trial.Seed, uint64(id))
	e.about(&c, e.now)
	e.fill()
	c.name = cr.ClientName.Append(nil, &e.scope)
	e.Names.add(string(c.name), id)
	return c
}

// Name is the client's name.
func (c *Client) Name() string { return string(c.name) }

// ID is the client's number in the run.
func (c *Client) ID() ledger.Client { return c.id }

// Crew is the client's crew, by number.
func (c *Client) Crew() int { return int(c.crew) }

// InCrew is the client's number in its crew.
func (c *Client) InCrew() int { return int(c.n) }

// Route is the target's route that the client takes, by number.
func (c *Client) Route() int { return int(c.path.route) }

// Node is which of the nodes of its route the client connects to.
func (c *Client) Node(e *Env) int { return e.nodeOf(c, c.path.route) }

// IsIn reports whether the client entered a room last.
func (c *Client) IsIn(e *Env, room string) bool {
	in := c.judge.in()
	return in != noRoom && string(e.roomName(in)) == room
}

// Idle reports whether the client is not connected and does not try to be.
func (c *Client) Idle() bool { return c.path.is(idle) }

// Open reports whether the client's connection is agreed on and not being closed.
func (c *Client) Open() bool { return c.path.is(open) }

// Away reports whether the client's connection broke, and it is on its way back.
func (c *Client) Away() bool { return c.path.away() }

// UnplugsItself reports whether the client is unplugged by its own misconduct.
func (c *Client) UnplugsItself() bool { return c.pulse.unplugs() }

// Connecting reports whether the client is to be connected, for the first time, and is not
// yet; not if the trial wants it to be refused, or does something to its path.
func (c *Client) Connecting(e *Env) bool {
	if !c.path.is(connecting) || c.path.away() {
		return false
	}
	if _, disturbed := e.excuses.Since(c.id, excuse.Of(excuse.Disturbed), e.now+1); disturbed {
		return false
	}
	d := c.script.step().Dial
	return d == nil || !d.Refused && d.WrongOf(int(c.n)) == ""
}

// Next is when Tick is to be called.
func (c *Client) Next() mono.Time {
	return min(c.script.deadline, c.path.way.Deadline(), c.ownDeadline(), c.path.serverDue(), c.pulse.verdictDue(),
		c.judge.due())
}

// ownDeadline is when the client is to do something of its own beside its script: read on, send a
// heartbeat, try a better route; mono.Never if nothing.
func (c *Client) ownDeadline() mono.Time { return min(c.path.due(), c.pulse.due()) }

// AwaitsServer reports whether Next is how long the server may take, and not when
// the client is to act.
func (c *Client) AwaitsServer() bool {
	own, server := c.ownDeadline(), min(c.pulse.verdictDue(), c.judge.due(), c.path.serverDue())
	switch c.script.wait {
	case forNothing, forTime, forOthers, forFigures, forReturn, forRetry, forBreath:
		own = min(own, c.script.deadline)
	default:
		server = min(server, c.script.deadline)
	}
	way := c.path.way.Deadline()
	if p, paces := c.path.way.(transport.Pacer); paces && p.Paces() <= way {
		own = min(own, way)
	} else {
		server = min(server, way)
	}
	return server < own
}

// Start makes a client that is idle set out.
func (c *Client) Start(e *Env, now mono.Time) {
	e.at(c, now)
	c.script.setsOut(e)
	c.script.begins(e, e.Trial.Crews[c.crew].Session)
	c.path.setsOut()
	c.judge, c.pulse = judge{room: noRoom}, pulse{}
	e.counts().Started++
	e.event(logbook.SetOut, noRoom, "")
	c.script.run(e)
}

// Ebb asks the client to go: it finishes its session from after its repeats, and closes. One that waits in
// a pause or at a barrier outside of them says goodbye as its session does, and closes.
func (c *Client) Ebb(e *Env, now mono.Time) {
	e.at(c, now)
	if !c.path.is(idle) && !c.script.isEbbing() {
		c.ebb(e)
	}
}

func (c *Client) ebb(e *Env) {
	s := &c.script
	s.ebbing = true
	s.catchUp(e)
	switch {
	case s.waitsFor(forReturn), s.waitsFor(forRetry), c.path.is(connecting):
		if c.path.is(connecting) && !c.path.away() {
			e.countReason("not answered", fmt.Errorf("clients were still connecting when they were to go"))
		}
		c.path.ends(e, ending{cause: ebb})
	case c.pulse.stands():
		s.ebbs(e)
	case !s.waitsFor(forTime) && !s.waitsFor(forOthers):
	case s.depth > 0:
		s.goesPastRepeats(e)
		s.run(e)
	default: // what is behind a pause is for a client that stays
		s.goesToGoodbye()
		s.run(e)
	}
}

// Go tells a client that waits at a barrier that all are there.
func (c *Client) Go(e *Env, now mono.Time, barrier int32) {
	e.at(c, now)
	switch {
	case c.path.away():
		if c.path.passes(e, barrier) { // it goes on once it is back
			e.check(e.Trial.Barriers[barrier].Check, true, "")
		}
	case c.script.waitsFor(forOthers) && int32(c.script.step().Barrier) == barrier:
		e.check(e.Trial.Barriers[barrier].Check, true, "")
		c.script.resume(e)
	}
}

// Figured tells a client that waits for figures that newer ones are known.
func (c *Client) Figured(e *Env, now mono.Time) {
	e.at(c, now)
	c.script.figured(e)
}

// Tick tells the client that its deadline has come.
func (c *Client) Tick(e *Env, now mono.Time) {
	e.at(c, now)
	c.path.tickReading(e)
	c.pulse.tick(e)
	if c.judge.due() <= now {
		c.judge.judgePast(e)
	}
	c.path.tickRoutes(e)
	switch {
	case c.path.way.Deadline() <= now:
		c.path.way.Expire(c.path.io(e))
		c.path.drain(e, mono.At(now))
	case c.script.deadline <= now:
		c.isLate(e)
	}
}

// isLate handles that what the script waits for has not come, or that it has waited for long enough.
func (c *Client) isLate(e *Env) {
	s := &c.script
	switch s.wait {
	case forName:
		c.judge.unnamedInTime(e)
	case forExpected:
		c.judge.unmet(e)
	case forEntry:
		c.judge.notEntered(e, "its room was not confirmed in time", false)
	case forLeave:
		s.resume(e) // it stays at the edge: allowed, not owed
	case forAnswer:
		c.path.web().GiveUp(&e.IO)
		s.unanswered(e, errors.New("no answer in time"))
	case forBreak:
		if c.path.looksUp(e) { // it may be closed, and the client has not read so far
			s.deadline = e.now.Add(lookFor)
			return
		}
		why := "the connection is still open"
		if s.isAt(trial.Malform) {
			why += " after " + s.step().WrongOf(int(c.n))
		}
		e.fails(s.step().Check, why, e.inDoubt(s.began))
		s.resume(e)
	case forTime:
		s.clock = max(s.clock, s.deadline)
		s.carryOn(e)
	case forOthers:
		s.giveUpBarrier(e)
		e.fails(e.Trial.Barriers[s.step().Barrier].Check, "the others have not come in time", e.inDoubt(s.began))
		s.resume(e)
	case forFigures:
		e.fails(s.step().Check, "the figures were not known in time", true) // they are the tool's
		s.resume(e)
	case forReturn:
		c.path.setsOutAgain(e)
	case forBreath, forRetry:
		s.run(e)
	default:
		s.deadline = mono.Never
	}
}

// CutOff breaks the client's connection, as a fault of the trial's does; it stays away for so
// long at least.
func (c *Client) CutOff(e *Env, now mono.Time, fault string, least time.Duration, reset bool) {
	e.at(c, now)
	if c.path.is(open) && !c.script.isEbbing() && !c.path.away() {
		c.path.ends(e, ending{cause: byCut, err: fmt.Errorf("cut by the fault '%s'", fault), least: least,
			reset: reset})
	}
}

// Cut ends a client that is still there when the run has to be over.
func (c *Client) Cut(e *Env, now mono.Time) {
	e.at(c, now)
	if c.path.is(idle) {
		return
	}
	e.countReason("cut off", errors.New("still there at the end of the run"))
	c.path.ends(e, ending{cause: runEnd})
}

// Overrun ends a client, as its server takes nothing of what is sent to it, once
// more waits than may.
func (c *Client) Overrun(e *Env, now mono.Time, waiting string) {
	e.at(c, now)
	if c.path.is(open) || c.path.is(closing) {
		c.path.breaksOff(e, errors.New("the server does not read: "+waiting))
	}
}

// Connected tells the client that a line is open.
func (c *Client) Connected(e *Env, line int, now mono.Time) {
	e.at(c, now)
	if line == transport.Side {
		c.path.web().Connected(&e.IO)
		return
	}
	c.path.happens(e, line, mono.At(now), transport.Machine.Connected)
}

// Data gives the client bytes of a line, with when they arrived in the kernel: the
// last of them at came.To, the others not before came.From.
func (c *Client) Data(e *Env, line int, b []byte, came mono.Span, now mono.Time) {
	e.at(c, now)
	e.counts().Bytes += int64(len(b))
	if line == transport.Side {
		c.path.web().Take(&e.IO, b)
		c.path.drainWeb(e, came.To)
		return
	}
	c.path.isActive(e, came.To)
	c.path.got(e, line, len(b), came)
	c.path.happens(e, line, came, func(m transport.Machine, io *transport.IO, line int) {
		m.Take(io, line, b)
	})
}

// Broke tells the client that a line is gone.
func (c *Client) Broke(e *Env, line int, now mono.Time, err error) {
	e.at(c, now)
	if line == transport.Side {
		c.path.web().Lost(&e.IO, err)
		c.path.drainWeb(e, now)
		return
	}
	// It would have been read before if it had ended before that.
	came := mono.Span{From: e.readUpTo(), To: now}
	c.path.happens(e, line, came, func(m transport.Machine, io *transport.IO, line int) {
		m.Lost(io, line, err)
	})
}

// fill sets the variables that expressions see to this client's.
func (e *Env) fill() {
	c, v := e.c, &e.scope.Vars
	groups := max(1, e.Trial.Crews[c.crew].Groups)
	v[expr.VarN] = expr.Num(float64(c.n))
	v[expr.VarGroup], v[expr.VarPlace] = expr.Num(float64(int(c.n)/groups)), expr.Num(float64(int(c.n)%groups))
	v[expr.VarNode] = expr.Num(float64(e.nodeOf(c, c.path.route)))
	v[expr.VarName] = expr.Value{Kind: expr.String, Str: c.name}
	v[expr.VarCrew] = expr.Value{Kind: expr.String, Str: e.crewNames[c.crew]}
	v[expr.VarRoom] = expr.Value{}
	if in := c.judge.in(); in != noRoom {
		e.setRoom(in)
	}
	v[expr.VarMark], v[expr.VarMarkBytes], v[expr.VarTo], v[expr.VarPayload] = expr.Value{}, expr.Value{}, expr.Value{},
		expr.Value{}
	v[expr.VarRound], v[expr.VarLast] = expr.Num(float64(c.script.round())), expr.Num(float64(c.judge.last()))
	e.scope.Locals = c.script.locals
	e.scope.Random, e.scope.Now = &c.random, e.wall(e.now)
}

// setRoom lets expressions see a room as the client's.
func (e *Env) setRoom(r ledger.Room) {
	e.scope.Vars[expr.VarRoom] = expr.Value{Kind: expr.String, Str: e.roomName(r)}
}

// fraction is random, from 0 up to but without 1.
func (e *Env) fraction() float64 { return expr.Fraction(&e.c.random) }
