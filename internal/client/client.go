// Package client is one simulated client as a state machine: bytes, timers and
// orders go in; bytes to send, a deadline and entries in the ledger come out.
// It has no socket, no clock and no goroutine.
//
// The loop calls a method when something happens to a client, then does what
// the Env asks for (send Out, Dial, Hangup) and looks at Next for when to call
// Tick.
package client

import (
	"errors"
	"math/rand/v2"
	"time"

	"tidepull/internal/base/maybe"
	"tidepull/internal/base/mono"
	"tidepull/internal/measure/excuse"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
	"tidepull/internal/trial/expr"
	"tidepull/internal/wire/http1"
	"tidepull/internal/wire/transport"
	"tidepull/internal/wire/ws"
)

// A Client is one simulated client. It is kept small: there may be tens of
// thousands.
type Client struct {
	// What each arriving message touches comes first, close together: with
	// thousands of clients that decides how fast they are served.
	way      transport.Machine
	deadline mono.Time // of what it waits for
	id       ledger.Client
	crew     uint16
	phase    phase
	wait     wait
	naming   naming
	depth    int8
	ebbing   bool
	came     bool // it ended, after it had set out
	expected bool // the message at hand was what an expect waited for
	again    bool // it was connected before, since it set out
	second   bool // its transport is the one of Env.Beside
	route    uint8

	more    *optional // what few clients need; nil if this one does not
	name    []byte
	session *trial.Session
	random  rand.PCG
	began   mono.Time // when that wait began
	// clock is where the script would be if it were followed without any delay of
	// the tool: what is said next is due then. Waiting for the server moves it to
	// when that was over, a pause by its length, an iteration
	// of a repeat to the time that it was due at.
	clock      mono.Time
	iterations *[trial.MaxNesting]iteration // nil until a repeat begins
	n          int32                        // in its crew
	room       ledger.Room
	asked      ledger.Room // the room that an answer is awaited for
	pc         int32
}

// optional is what a client has that uses more of the language than most do.
type optional struct {
	locals     []expr.Value // what it captured
	routeState *routeState  // nil if there is one route
	comeback   *comeback    // nil if it does not come back
	jar        http1.Jar
	web        transport.Requests
	past       *pastWatch
	feeds      map[feedKey]int64 // the last number of each part of a feed
	resume     mono.Time         // when it reads on; 0: it is reading
	perSec     int               // how many bytes it reads in a second; 0: as fast as they come
	inbox      inbox
	beatAt     mono.Time          // when it sends a sign of life unasked; 0: it does not
	slow       maybe.Index[int32] // the step that has it read slowly
	early      earlyEntry         // of the enter step, if the server lets clients in by itself
	last       int64              // the number of the last message that came, plus 1; 0: none has
	before     int64              // the same as it was before the connection broke; 0: it has not, or it is judged
	elsewhere  int32              // by how many nodes it was sent on
	resends    bool               // what a fault on its path has lost is sent again
	pulse      *pulse             // nil if nothing is promised of heartbeats, and it behaves
	unfinished []byte             // what has come of a message that goes on in the next frame
	inside     []ledger.Room      // if some rate is dealt out in rooms: those that it is in
}

func (c *Client) optional() *optional {
	if c.more == nil {
		c.more = &optional{web: transport.Requests{Line: transport.Side}}
		c.more.web.Jar = &c.more.jar
	}
	return c.more
}

// forgetOptional forgets what the client had on its way through its session, but not what
// happens on its path.
func (c *Client) forgetOptional() {
	was := c.more
	if c.more = nil; was != nil && was.resends {
		c.optional().resends = true
	}
}

// An iteration is where the client is in one repeat that it is in.
type iteration struct {
	start mono.Time // of the first one; of the last one if intervals vary
	round int32
	at    int32 // the index of the repeat's step
}

type phase uint8

const (
	idle       phase = iota // not begun, or over
	offline                 // begun, and not connected
	connecting              // until messages can be sent
	open
	closing // until the connection has ended
)

type wait uint8

const (
	forNothing wait = iota
	forOpen
	forName
	forExpected
	forEntry
	forLeave
	forAnswer // to an HTTP request
	forBreak  // to be closed by the server
	forTime
	forOthers  // at a barrier
	forFigures // of the run
	forReturn  // until it tries to come back
	forBreath  // so that a session without waits does not hold up the others
	forEnd
)

type naming uint8

const (
	unnamed        naming = iota
	awaitsGreeting        // before it says its name
	awaitsThen            // the answer to what it said first
	nameAsked
	nameConfirmed
	nameRefused
)

const noRoom ledger.Room = -1

// An earlyEntry is a room that a client is in, for the server, before its script comes to the
// step that enters it.
type earlyEntry struct {
	room      maybe.Index[ledger.Room]
	confirmed bool
}

// New makes the n-th client of a crew, with its number in the run.
func (e *Env) New(id ledger.Client, crew uint16, n int32) Client {
	cr := &e.Trial.Crews[crew]
	c := Client{id: id, crew: crew, n: n, session: cr.Session, deadline: mono.Never, room: noRoom, way: e.newWay(0)}
	c.random.Seed(e.Trial.Seed, uint64(id))
	c.fill(e)
	c.name = cr.ClientName.Append(nil, &e.scope)
	e.Names.add(string(c.name), id)
	return c
}

// Name is the client's name.
func (c *Client) Name() string { return string(c.name) }

// Next is when Tick is to be called.
func (c *Client) Next() mono.Time {
	return min(c.deadline, c.way.Deadline(), c.ownDeadline(), c.verdictDue())
}

// verdictDue is when a server should have closed the client that misbehaves, at the latest.
func (c *Client) verdictDue() mono.Time {
	if p := c.pulse(); p != nil {
		return p.verdictDue()
	}
	return mono.Never
}

// ownDeadline is when the client is to read on or to send a heartbeat; mono.Never if
// it is to do neither.
func (c *Client) ownDeadline() mono.Time {
	own := mono.Never
	if c.more != nil {
		for _, at := range [...]mono.Time{c.more.resume, c.more.beatAt} {
			if at != 0 {
				own = min(own, at)
			}
		}
		if c.more.pulse != nil {
			own = min(own, c.more.pulse.nextMisdeed())
		}
		if c.more.routeState != nil {
			own = min(own, c.more.routeState.due())
		}
	}
	return own
}

// AwaitsServer reports whether Next is how long the server may take, and not when
// the client is to act.
func (c *Client) AwaitsServer() bool {
	if v := c.verdictDue(); v < min(c.deadline, c.way.Deadline(), c.ownDeadline()) {
		return true
	}
	switch c.wait {
	case forNothing, forTime, forOthers, forFigures, forReturn, forBreath:
		return false
	}
	return c.more == nil || c.ownDeadline() > min(c.deadline, c.way.Deadline())
}

// Idle reports whether the client is not connected and does not try to be.
func (c *Client) Idle() bool { return c.phase == idle }

// Open reports whether the client's connection is agreed on and not being closed.
func (c *Client) Open() bool { return c.phase == open }

// Connecting reports whether the client is to be connected, for the first time, and is not
// yet; not if the trial wants it to be refused, or does something to its path.
func (c *Client) Connecting(e *Env) bool {
	if c.phase != connecting || c.Away() || c.hindered(e, excuse.Of(excuse.Disturbed), e.now+1) {
		return false
	}
	d := c.step().Dial
	return d == nil || !d.Refused && d.WrongOf(int(c.n)) == ""
}

// Route is the target's route that the client takes, by number.
func (c *Client) Route() int { return int(c.route) }

// fill sets the variables that expressions see to this client's.
func (c *Client) fill(e *Env) {
	s := &e.scope
	v := &s.Vars
	groups := max(1, e.Trial.Crews[c.crew].Groups)
	v[expr.VarN] = expr.Num(float64(c.n))
	v[expr.VarGroup], v[expr.VarPlace] = expr.Num(float64(int(c.n)/groups)), expr.Num(float64(int(c.n)%groups))
	v[expr.VarNode] = expr.Num(float64(e.nodeOf(c, c.route)))
	v[expr.VarName] = expr.Value{Kind: expr.String, Str: c.name}
	v[expr.VarCrew] = expr.Value{Kind: expr.String, Str: e.crewNames[c.crew]}
	v[expr.VarRoom] = expr.Value{}
	if c.room != noRoom {
		v[expr.VarRoom] = expr.Value{Kind: expr.String, Str: e.roomName(c.room)}
	}
	v[expr.VarMark], v[expr.VarMarkBytes], v[expr.VarTo], v[expr.VarPayload] = expr.Value{}, expr.Value{}, expr.Value{},
		expr.Value{}
	v[expr.VarRound], v[expr.VarLast] = expr.Num(0), expr.Num(-1)
	if c.more != nil {
		v[expr.VarLast] = expr.Num(float64(c.more.last - 1))
	}
	if c.depth > 0 {
		v[expr.VarRound] = expr.Num(float64(c.iterations[c.depth-1].round))
	}
	s.Locals = nil
	if c.more != nil {
		s.Locals = c.more.locals
	}
	s.Random, s.Now = &c.random, e.wall(e.now)
}

// fraction is random, from 0 up to but without 1.
func (c *Client) fraction() float64 { return expr.Fraction(&c.random) }

// Start makes a client that is idle set out.
func (c *Client) Start(e *Env, now mono.Time) {
	e.at(c, now)
	e.setsOut(c, now)
	c.pc, c.depth, c.ebbing, c.naming, c.room, c.again = 0, 0, false, unnamed, noRoom, false
	c.forgetOptional()
	c.session = e.Trial.Crews[c.crew].Session
	c.phase, c.clock = offline, now
	e.counts().Started++
	e.event(c, now, logbook.SetOut, noRoom, "")
	c.run(e, now)
}

func (c *Client) await(w wait, now mono.Time, within time.Duration) {
	c.wait, c.began, c.deadline = w, now, now.Add(within)
}

// Ebb asks the client to go: it finishes its session from after its repeats,
// and closes.
func (c *Client) Ebb(e *Env, now mono.Time) {
	e.at(c, now)
	if c.phase == idle || c.ebbing {
		return
	}
	c.ebbing = true
	c.clock = max(c.clock, now)
	switch {
	case c.wait == forReturn, c.phase == connecting:
		c.ends(e, now, ending{cause: ebb})
	case c.stands():
		c.sayClose(e, now, ws.CloseNormal, "")
	case c.wait != forTime && c.wait != forOthers:
	case c.depth > 0:
		c.leaveRepeats(e, now)
		c.run(e, now)
	default:
		c.carryOn(e, now)
	}
}

// Go tells a client that waits at a barrier that all are there.
func (c *Client) Go(e *Env, now mono.Time, barrier int32) {
	e.at(c, now)
	if b := c.comeback(); b != nil && b.active {
		if steps := e.Trial.Crews[c.crew].Session.Steps; b.step == forOthers && int32(steps[b.pc].Barrier) == barrier {
			e.check(c, now, e.Trial.Barriers[barrier].Check, true, "")
			b.pc, b.step = b.pc+1, forNothing // it goes on once it is back
		}
		return
	}
	if c.wait == forOthers && int32(c.step().Barrier) == barrier {
		e.check(c, now, e.Trial.Barriers[c.step().Barrier].Check, true, "")
		c.resume(e, now)
	}
}

// Tick tells the client that its deadline has come.
func (c *Client) Tick(e *Env, now mono.Time) {
	e.at(c, now)
	if c.more != nil && c.more.resume != 0 && c.more.resume <= now {
		c.more.resume = 0
		c.io(e).Lines[transport.Main].Resume = true
	}
	if c.more != nil && c.more.beatAt != 0 && c.more.beatAt <= now {
		c.beatUnasked(e, now)
	}
	if p := c.pulse(); p != nil && min(p.nextMisdeed(), p.verdictDue()) <= now {
		c.tickMisdeed(e, now)
	}
	if t := c.routeState(); t != nil && t.due() <= now {
		c.tickTravel(e, now)
	}
	if c.way.Deadline() <= now {
		c.way.Expire(c.io(e))
		c.drain(e, mono.At(now), now)
		return
	}
	if c.deadline > now {
		return
	}
	switch c.wait {
	case forName:
		silent := errors.New("nothing came: its name was not confirmed in time")
		if c.hasOtherRoute(e, now, silent) {
			c.ends(e, now, ending{cause: nameless, err: silent})
			return
		}
		c.naming = nameRefused
		c.denied(e, now, "its name was not confirmed in time")
	case forExpected:
		c.unmet(e, now)
	case forEntry:
		c.notEntered(e, now, "its room was not confirmed in time", false)
	case forLeave:
		c.resume(e, now) // it stays at the edge: allowed, not owed
	case forAnswer:
		c.more.web.GiveUp(&e.IO)
		c.unanswered(e, now, errors.New("no answer in time"))
	case forBreak:
		why := "the connection is still open"
		if s := c.step(); s.Do == trial.Malform {
			why += " after " + s.WrongOf(int(c.n))
		}
		e.fails(c, now, c.step().Check, why, e.inDoubt(c.began, now))
		c.resume(e, now)
	case forTime:
		c.clock = max(c.clock, c.deadline)
		c.carryOn(e, now)
	case forOthers:
		e.note(c, now, fact.WaitsNot, 0, 0)
		e.fails(c, now, e.Trial.Barriers[c.step().Barrier].Check, "the others have not come in time",
			e.inDoubt(c.began, now))
		c.resume(e, now)
	case forFigures:
		e.fails(c, now, c.step().Check, "the figures were not known in time", true) // they are the tool's
		c.resume(e, now)
	case forReturn:
		c.setsOutAgain(e, now)
	case forBreath:
		c.run(e, now)
	default:
		c.deadline = mono.Never
	}
}

// Cut ends a client that is still there when the run has to be over.
func (c *Client) Cut(e *Env, now mono.Time) {
	e.at(c, now)
	if c.phase == idle {
		return
	}
	e.countReason("cut off", errors.New("still there at the end of the run"))
	c.ends(e, now, ending{cause: runEnd})
}

// Overrun ends a client whose server takes nothing of what is sent to it, once
// more waits than may.
func (c *Client) Overrun(e *Env, now mono.Time, whose string) {
	e.at(c, now)
	if c.phase != open && c.phase != closing {
		return
	}
	c.hangUp(e)
	c.broken(e, now, now, errors.New("the server does not read: "+whose))
}
