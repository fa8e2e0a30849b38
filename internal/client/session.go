package client

import (
	"errors"
	"time"

	"tidepull/internal/expr"
	"tidepull/internal/ledger"
	"tidepull/internal/logbook"
	"tidepull/internal/mark"
	"tidepull/internal/mono"
	"tidepull/internal/trial"
	"tidepull/internal/wire/ws"
)

func (c *Client) step() *trial.Step { return &c.session.Steps[c.pc] }

// resume goes on after a wait for the server.
func (c *Client) resume(e *Env, now mono.Time) {
	c.ready = now
	c.carryOn(e, now)
}

// carryOn goes on with the step after the one that waited.
func (c *Client) carryOn(e *Env, now mono.Time) {
	c.pc++
	c.run(e, now)
}

// run carries out steps until one has to wait, or the session is over.
func (c *Client) run(e *Env, now mono.Time) {
	c.wait, c.deadline = forNothing, mono.Never
	for c.wait == forNothing && c.phase == open {
		if int(c.pc) == len(c.session.Steps) {
			c.sayGoodbye(e, now)
			return
		}
		c.do(e, now)
	}
}

// do carries out one step: it moves on to the next, or waits.
func (c *Client) do(e *Env, now mono.Time) {
	s := c.step()
	switch s.Do {
	case trial.Expect:
		c.await(forExpected, now, s.Within)
	case trial.Enter:
		c.enter(e, now, s)
	case trial.Leave:
		c.leave(e, now, s)
	case trial.Say, trial.Tell:
		c.say(e, now, s)
		c.pc++
	case trial.Pause:
		if c.ebbing {
			c.pc++
			return
		}
		c.await(forTime, now, s.For)
	case trial.Repeat:
		c.repeat(now, s)
	case trial.Again:
		c.turns[c.depth-1].round++
		c.pc = int32(s.Jump)
		c.turn(now, c.step())
	default:
		c.pc++
	}
}

// repeat begins a repeat: its first turn comes after a random part of its
// interval, so that clients which came together do not speak together.
func (c *Client) repeat(now mono.Time, s *trial.Step) {
	first := time.Duration(c.fraction() * float64(s.Every))
	c.turns[c.depth] = turn{start: now.Add(first), at: c.pc}
	c.depth++
	c.turn(now, s)
}

// turn waits for the next turn of the repeat at pc, or goes past it.
func (c *Client) turn(now mono.Time, s *trial.Step) {
	t := &c.turns[c.depth-1]
	if c.ebbing {
		c.leaveRepeats()
		return
	}
	if s.Times > 0 && int(t.round) >= s.Times {
		c.depth--
		c.pc = int32(s.Jump) + 1
		return
	}
	due := t.start.Add(time.Duration(t.round) * s.Every)
	if t.round > 0 && s.Jitter > 0 {
		due = due.Add(time.Duration((2*c.fraction() - 1) * s.Jitter * float64(s.Every)))
	}
	c.due = due
	c.wait, c.began, c.deadline = forTime, now, due
}

// leaveRepeats goes on after the outermost repeat.
func (c *Client) leaveRepeats() {
	c.pc = int32(c.session.Steps[c.turns[0].at].Jump) + 1
	c.depth = 0
}

// fillAsked lets expressions see the room that is asked for as the room.
func (c *Client) fillAsked(e *Env) {
	c.fill(e)
	e.scope.Vars[expr.VarRoom] = expr.Value{Kind: expr.String, Str: e.roomName(c.asked)}
}

// sayTitle tells the server the client's name, where the dialect has names.
func (c *Client) sayTitle(e *Env) {
	t := &e.Trial.Dialect.Title
	e.Ledger.Ask(c.id, ledger.Everyone)
	if t.Send == nil {
		c.named(e)
		return
	}
	c.fill(e)
	c.text(e, t.Send)
	c.title = titleAsked
	if t.Confirmed == nil {
		c.named(e)
	}
}

func (c *Client) named(e *Env) {
	c.title = titled
	e.Ledger.Enter(c.id, ledger.Everyone)
}

// text sends what a template says as a text message.
func (c *Client) text(e *Env, t *expr.Template) {
	e.body = t.Append(e.body[:0], &e.scope)
	c.frame(e, ws.OpText, e.body)
}

// roomOf returns the room that a step is about, or noRoom.
func (c *Client) roomOf(e *Env, s *trial.Step) ledger.Room {
	if s.Room == nil {
		return c.room
	}
	c.fill(e)
	e.short = s.Room.Append(e.short[:0], &e.scope)
	return e.Ledger.RoomBytes(e.short)
}

func (c *Client) enter(e *Env, now mono.Time, s *trial.Step) {
	if c.title == titleAsked {
		c.await(forTitle, now, s.Within)
		return
	}
	c.asked = c.roomOf(e, s)
	e.Ledger.Ask(c.id, c.asked)
	c.fillAsked(e)
	c.text(e, e.Trial.Dialect.Enter.Send)
	c.await(forEntry, now, s.Within)
	if e.Trial.Dialect.Enter.Confirmed == nil {
		c.entered(e, now, now)
	}
}

func (c *Client) entered(e *Env, at, now mono.Time) {
	c.room = c.asked
	e.Ledger.Enter(c.id, c.room)
	e.counts().Entries++
	e.event(c, now, logbook.Entered, c.room, "")
	e.Book.Now().Enter.Record(at.Sub(c.began))
	c.resume(e, now)
}

// denied ends the session of a client whose name or room was refused: there is
// nothing that it could say.
func (c *Client) denied(e *Env, now mono.Time) {
	e.counts().Denied++
	e.event(c, now, logbook.Denied, noRoom, e.note("denied", errors.New("a name or a room was refused, or not confirmed in time")))
	c.sayGoodbye(e, now)
}

func (c *Client) leave(e *Env, now mono.Time, s *trial.Step) {
	c.asked = c.roomOf(e, s)
	if c.asked == noRoom {
		c.pc++
		return
	}
	e.Ledger.Quit(c.id, c.asked, now)
	if c.asked == c.room {
		c.room = noRoom
	}
	l := &e.Trial.Dialect.Leave
	if l.Send == nil {
		e.Ledger.Left(c.id, c.asked, now)
		c.pc++
		return
	}
	c.fillAsked(e)
	c.text(e, l.Send)
	if l.Confirmed == nil {
		c.pc++
		return
	}
	c.await(forLeave, now, s.Within)
}

// say says a message, if it can: its row in the ledger is opened, and its mark
// put into it.
func (c *Client) say(e *Env, now mono.Time, s *trial.Step) {
	due := c.due
	c.due = 0
	if due == 0 {
		due = now
	}
	page := e.Book.At(due)
	say := ledger.Say{Audience: s.Reaches, Room: c.roomOf(e, s), Sender: c.id, Due: due, Sent: now, Sheet: &page.Sheet}
	c.fill(e)
	known := true
	switch {
	case s.Do == trial.Tell:
		known = c.address(e, s, &say)
	case s.Everyone:
		say.Room = ledger.Everyone
	}
	switch {
	case !known:
		c.unsent(e, "no client has the name that a whisper is for")
		return
	case say.Room == noRoom:
		c.unsent(e, "the client is in no room")
		return
	}
	number := e.Ledger.Say(say)
	e.counts().Sent++
	c.sent++
	page.ScheduleLag.Record(now.Sub(max(due, c.ready)))
	e.short = mark.Append(e.short[:0], mark.Mark{Run: e.Run, Room: uint32(say.Room), Sender: uint32(c.id), Number: number, Time: e.markTime(due)})
	e.scope.Vars[expr.VarMark] = expr.Value{Kind: expr.String, Str: e.short}
	c.text(e, s.Body)
}

func (c *Client) unsent(e *Env, why string) {
	e.counts().Unsent++
	e.note("unsent", errors.New(why))
}

// address makes a message a whisper; false means that there is no client of
// the name that it is for.
func (c *Client) address(e *Env, s *trial.Step, say *ledger.Say) bool {
	e.to = s.To.Append(e.to[:0], &e.scope)
	e.scope.Vars[expr.VarTo] = expr.Value{Kind: expr.String, Str: e.to}
	to, known := e.byName[string(e.to)]
	say.Kind, say.Audience, say.Room, say.To = ledger.Whisper, ledger.ToMember, ledger.Everyone, to
	return known
}

// sayGoodbye starts the closing handshake (RFC 6455 7.1.2). The client is owed
// nothing any more.
func (c *Client) sayGoodbye(e *Env, now mono.Time) {
	e.Ledger.Break(c.id, now)
	c.room = noRoom
	c.frame(e, ws.OpClose, ws.AppendClosePayload(nil, ws.CloseNormal, ""))
	c.phase = closing
	c.await(forClose, now, closeAfter)
}
