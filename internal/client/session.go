package client

import (
	"errors"
	"time"

	"tidepull/internal/base/maybe"
	"tidepull/internal/base/mono"
	"tidepull/internal/measure/excuse"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
	"tidepull/internal/trial/expr"
	"tidepull/internal/wire/ws"
)

func (c *Client) step() *trial.Step { return &c.session.Steps[c.pc] }

// resume goes on after a wait for the server, or for others. What is said next
// follows from that and not from a schedule, so it is due now: the tool's own
// lag in reading the answer is not the server's latency.
func (c *Client) resume(e *Env, now mono.Time) {
	c.clock = max(c.clock, now)
	c.carryOn(e, now)
}

// carryOn goes on with the step after the one that waited.
func (c *Client) carryOn(e *Env, now mono.Time) {
	c.pc++
	c.run(e, now)
}

// stepsPerRun bounds the steps that are done in one go.
const stepsPerRun = 1000

// run carries out steps until one has to wait, or the session is over.
func (c *Client) run(e *Env, now mono.Time) {
	c.wait, c.deadline = forNothing, mono.Never
	for n := 0; c.wait == forNothing && !c.stands() && (c.phase == open || c.phase == offline); n++ {
		switch {
		case int(c.pc) >= len(c.session.Steps) && c.phase == open:
			c.sayClose(e, now, ws.CloseNormal, "")
		case int(c.pc) >= len(c.session.Steps):
			c.ends(e, now, ending{cause: sessionEnd})
		case n == stepsPerRun:
			c.await(forBreath, now, time.Millisecond)
		default:
			c.do(e, now)
		}
	}
}

// do carries out one step: it moves on to the next, or waits.
func (c *Client) do(e *Env, now mono.Time) {
	s := c.step()
	switch s.Do {
	case trial.Connect:
		if c.phase == offline {
			c.connect(e, now, s)
			return
		}
	case trial.Repeat:
		c.repeat(e, now, s)
		return
	case trial.Again:
		c.iterations[c.depth-1].round++
		c.pc = int32(s.Goto)
		c.nextIteration(e, now, c.step())
		return
	case trial.Branch:
		c.fill(e)
		if !s.When.True(&e.scope) {
			c.pc = int32(s.Goto)
			return
		}
	case trial.Jump:
		c.pc = int32(s.Goto)
		return
	case trial.Back:
		c.isBack(e, now)
		return
	case trial.Choose:
		c.pc = int32(choose(s.Options, c.fraction()))
		return
	case trial.Set:
		c.fill(e)
		c.capture(e, s.Capture)
	case trial.Assert:
		c.assert(e, now, s)
		return
	case trial.Ask:
		c.ask(e, now, s)
		return
	case trial.Wait:
		if !c.ebbing {
			c.waitForOthers(e, now, s)
			return
		}
	case trial.Pause:
		if !c.ebbing {
			c.wait, c.began, c.deadline = forTime, now, c.clock.Add(c.pause(s))
			return
		}
	default:
		if c.phase == open {
			c.doOpen(e, now, s)
			return
		}
		c.unsent(e, now, "the client is not connected")
	}
	c.pc++
}

// doOpen carries out a step that needs the connection.
func (c *Client) doOpen(e *Env, now mono.Time, s *trial.Step) {
	switch s.Do {
	case trial.Expect:
		c.await(forExpected, now, s.Within)
		if s.Already {
			c.cameAlready(e, now)
		}
		return
	case trial.Enter:
		c.enter(e, now, s)
		return
	case trial.Leave:
		c.leave(e, now, s)
		return
	case trial.Close:
		c.sayClose(e, now, s.Code, s.Reason)
		return
	case trial.Silence:
		if c.misbehaves(e, now, s.Misbehave, true); s.Within > 0 {
			c.await(forBreak, now, s.Within)
			return
		}
	case trial.Malform:
		wrong := s.WrongOf(int(c.n))
		e.event(c, now, logbook.Misbehaved, noRoom, "breaks the protocol: "+wrong)
		c.way.Malform(c.io(e), wrong)
		c.optional()
		c.await(forBreak, now, s.Within)
		return
	case trial.Say, trial.Tell:
		c.say(e, now, s)
	case trial.Closed:
		c.optional()
		c.await(forBreak, now, s.Within)
		return
	case trial.Send:
		if s.Named && c.awaitsName() {
			c.await(forName, now, s.Within)
			return
		}
		c.fill(e)
		e.body = s.Body.Append(e.body[:0], &e.scope)
		if c.sayable(e, now, s.Binary, s.Urgent) {
			c.sendBody(e, s.Binary, s.Urgent)
		}
	case trial.Slow:
		if s.PerSec == 0 {
			c.readOn(e, now, e.Trial.Prompt)
			break
		}
		x := c.optional()
		x.perSec, x.slow = s.PerSec, maybe.Of(c.pc)
		c.hinder(e, now, excuse.SlowReader)
		e.event(c, now, logbook.Misbehaved, noRoom, "reads slowly")
		if s.Within > 0 {
			c.await(forBreak, now, s.Within)
			return
		}
	case trial.Vanish:
		c.ends(e, now, ending{cause: vanished})
	}
	c.pc++
}

func choose(options []trial.Option, at float64) int {
	for _, o := range options {
		if at < o.Below {
			return o.Goto
		}
	}
	return options[len(options)-1].Goto
}

func (c *Client) pause(s *trial.Step) time.Duration {
	if s.Most > s.For {
		return s.For + time.Duration(c.fraction()*float64(s.Most-s.For))
	}
	return s.For
}

// capture remembers what the programs give in the scope. A text is copied.
func (c *Client) capture(e *Env, captures []trial.Capture) {
	if len(captures) == 0 {
		return
	}
	x := c.optional()
	if x.locals == nil {
		x.locals = make([]expr.Value, len(e.Trial.Locals))
	}
	e.scope.Locals = x.locals
	for _, cap := range captures {
		v, into := cap.Value.Eval(&e.scope), &x.locals[cap.Local]
		into.Kind, into.Num, into.Str = v.Kind, v.Num, append(into.Str[:0], v.Str...)
	}
}

// fillAsked lets expressions see the room that is asked for as the room.
func (c *Client) fillAsked(e *Env) {
	c.fill(e)
	e.setRoom(c.asked)
}

// setRoom lets expressions see a room as the client's.
func (e *Env) setRoom(r ledger.Room) {
	e.scope.Vars[expr.VarRoom] = expr.Value{Kind: expr.String, Str: e.roomName(r)}
}

// sayName tells the server the client's name, if the dialect has names.
func (c *Client) sayName(e *Env, now mono.Time) {
	t := &e.Trial.Dialect.Naming
	if d := c.step().Dial; d != nil && d.Nameless {
		return
	}
	if !c.owedAllAlong(e) {
		e.tellOf(c, now, fact.Asks, ledger.Everyone)
		if e.Trial.Dialect.Joined.Room == nil {
			c.announce(e, now, ledger.Joined, ledger.Everyone)
		}
	}
	if t.Send == nil {
		if !e.lateNames {
			c.named(e, now)
		}
		return
	}
	c.enterAhead(e, now)
	if t.After != nil {
		c.naming = awaitsGreeting
		return
	}
	c.sayFirst(e, now)
}

// sayFirst sends what comes before the name, and the name if nothing answers that.
func (c *Client) sayFirst(e *Env, now mono.Time) {
	t := &e.Trial.Dialect.Naming
	if t.First != nil {
		c.fill(e)
		c.send(e, now, t.First)
	}
	if t.Then != nil {
		c.naming = awaitsThen
		return
	}
	c.introduce(e, now)
}

// awaitsName reports whether the server has still to hear or to confirm the name.
func (c *Client) awaitsName() bool {
	switch c.naming {
	case nameAsked, awaitsGreeting, awaitsThen:
		return true
	}
	return false
}

// introduce sends the client's name.
func (c *Client) introduce(e *Env, now mono.Time) {
	t := &e.Trial.Dialect.Naming
	c.fill(e)
	c.send(e, now, t.Send)
	c.naming = nameAsked
	if t.Confirmed == nil {
		c.named(e, now)
	}
}

// enterAhead tells that the server is about to let a client into the room of its next
// enter step, if the dialect has it that this happens by itself.
func (c *Client) enterAhead(e *Env, now mono.Time) {
	d := &e.Trial.Dialect.Enter
	if !d.Given || d.Send != nil {
		return
	}
	for i := int(c.pc); i < len(c.session.Steps); i++ {
		switch s := &c.session.Steps[i]; s.Do {
		case trial.Enter:
			c.asked = c.roomOf(e, s)
			c.optional().early = earlyEntry{room: maybe.Of(c.asked)}
			e.tellOf(c, now, fact.Asks, c.asked)
			c.announceIn(e, now, ledger.Joined, c.asked)
			return
		case trial.Connect, trial.Expect, trial.Set, trial.Pause, trial.Wait, trial.Send, trial.Ask:
		default:
			return // which step comes next is not known yet
		}
	}
}

func (c *Client) named(e *Env, now mono.Time) {
	c.naming = nameConfirmed
	if !c.owedAllAlong(e) {
		e.tellOf(c, now, fact.Enters, ledger.Everyone)
	}
}

// send sends what a template of the dialect says.
func (c *Client) send(e *Env, now mono.Time, t *expr.Template) {
	e.body = t.Append(e.body[:0], &e.scope)
	if binary := e.Trial.Dialect.Binary; c.sayable(e, now, binary, false) {
		c.way.Say(c.io(e), e.body, binary)
	}
}

// roomOf returns the room that a step is about, or noRoom.
func (c *Client) roomOf(e *Env, s *trial.Step) ledger.Room {
	if s.Room == nil {
		return c.room
	}
	c.fill(e)
	e.short = s.Room.Append(e.short[:0], &e.scope)
	return e.roomNumber(e.short)
}

func (c *Client) enter(e *Env, now mono.Time, s *trial.Step) {
	if c.awaitsName() {
		c.await(forName, now, s.Within)
		return
	}
	d := &e.Trial.Dialect.Enter
	c.asked = c.roomOf(e, s)
	before := earlyEntry{}
	if c.more != nil {
		before, c.more.early = c.more.early, earlyEntry{}
	}
	if room, ok := before.room.Get(); !ok || room != c.asked {
		before = earlyEntry{}
		if !c.owedAllAlong(e) {
			e.tellOf(c, now, fact.Asks, c.asked)
			c.announceIn(e, now, ledger.Joined, c.asked)
		}
	}
	c.watchPast(e, now, s)
	c.fillAsked(e)
	if d.Send != nil {
		c.send(e, now, d.Send)
	}
	c.await(forEntry, now, s.Within)
	if d.Confirmed == nil || before.confirmed {
		c.entered(e, c.clock, now)
	}
}

func (c *Client) entered(e *Env, at, now mono.Time) {
	c.room = c.asked
	if e.lateNames && c.naming == unnamed {
		c.named(e, now)
	}
	if !c.owedAllAlong(e) {
		e.tellOf(c, now, fact.Enters, c.room)
	}
	c.isIn(e, now, c.room)
	c.keepsRoom(e, c.room, true)
	e.counts().Entries++
	e.event(c, now, logbook.Entered, c.room, "")
	e.Book.Now().Times[logbook.ToEnter].Record(max(0, at.Sub(c.began)))
	s := c.step()
	c.capture(e, s.Capture)
	c.judgePast(e, now)
	if s.Denied {
		e.check(c, now, s.Check, false, "it was let in")
	}
	c.resume(e, now)
}

// notEntered handles a room that was refused, or not confirmed.
func (c *Client) notEntered(e *Env, now mono.Time, why string, refused bool) {
	s := c.step()
	c.isOut(e, now, c.asked)
	if e.Trial.Dialect.Joined.When != nil {
		e.tellOf(c, now, fact.Withdraws, c.asked)
	}
	if !s.Denied {
		if refused {
			why = e.said("its room was refused")
		}
		c.denied(e, now, why)
		return
	}
	if refused {
		e.check(c, now, s.Check, true, why)
	} else {
		e.fails(c, now, s.Check, why, e.inDoubt(c.began, now))
	}
	c.resume(e, now)
}

// denied ends the session of a client whose name or room was refused: there is
// nothing that it could say.
func (c *Client) denied(e *Env, now mono.Time, why string) {
	if c.Away() { // the server may not have noticed yet that it was gone
		c.ends(e, now, ending{cause: returnDenied, err: errors.New(why)})
		return
	}
	if !c.garbled(e) {
		e.counts().Denied++
		e.doubts(e.inDoubt(c.began, now)).Denied++
	}
	e.event(c, now, logbook.Denied, noRoom, e.countReason("denied", errors.New(why)))
	e.trouble(c, now)
	c.ebbing = true
	c.sayClose(e, now, ws.CloseNormal, "")
}

func (c *Client) leave(e *Env, now mono.Time, s *trial.Step) {
	c.asked = c.roomOf(e, s)
	if c.asked == noRoom {
		c.pc++
		return
	}
	c.quits(e, now, c.asked)
	c.keepsRoom(e, c.asked, false)
	c.announceIn(e, now, ledger.Gone, c.asked)
	if c.asked == c.room {
		c.room = noRoom
	}
	l := &e.Trial.Dialect.Leave
	if l.Send == nil {
		c.isOut(e, now, c.asked)
		c.pc++
		return
	}
	c.fillAsked(e)
	c.send(e, now, l.Send)
	if l.Confirmed == nil {
		c.pc++
		return
	}
	c.await(forLeave, now, s.Within)
}

// sayClose ends the connection in order. The client is owed
// nothing any more, but until the server has answered it may get what others say.
func (c *Client) sayClose(e *Env, now mono.Time, code uint16, reason string) {
	c.seesAgain(e)
	c.beatsEnd(e, e.readUpTo())
	c.goes(e, now)
	c.quitAll(e, now)
	c.room = noRoom
	c.phase = closing
	c.dropAttempts(e)
	c.wait, c.began, c.deadline = forEnd, now, mono.Never // how long it may take is the transport's to watch
	if t := e.Trial.Dialect.Goodbye; t != nil && e.routeOf(c).Kind == trial.OverUDP {
		if e.body = c.render(e, t); c.sayable(e, now, e.Trial.Dialect.Binary, false) {
			c.way.Say(c.io(e), e.body, e.Trial.Dialect.Binary)
		}
	}
	c.way.Close(c.io(e), code, reason)
}
