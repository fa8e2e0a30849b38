package client

import (
	"errors"

	"tidepull/internal/base/maybe"
	"tidepull/internal/base/mono"
	"tidepull/internal/measure/excuse"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
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

// fillAsked lets expressions see the room that is asked for as the room.
func (j *judge) fillAsked(e *Env) {
	e.fill()
	e.setRoom(j.asked)
}

// sayName tells the server the client's name, if the dialect has names.
func (j *judge) sayName(e *Env) {
	t := &e.Trial.Dialect.Naming
	if d := e.script.step().Dial; d != nil && d.Nameless {
		return
	}
	if !e.path.owedAllAlong(e) {
		e.tellOf(fact.Asks, ledger.Everyone)
		if e.Trial.Dialect.Joined.Room == nil {
			e.announce(ledger.Joined, ledger.Everyone)
		}
	}
	if t.Send == nil {
		if !e.lateNames {
			j.named(e)
		}
		return
	}
	j.enterAhead(e)
	if t.After != nil {
		j.naming = awaitsGreeting
		return
	}
	j.sayFirst(e)
}

// sayFirst sends what comes before the name, and the name if nothing answers that.
func (j *judge) sayFirst(e *Env) {
	t := &e.Trial.Dialect.Naming
	if t.First != nil {
		e.fill()
		e.path.send(e, t.First)
	}
	if t.Then != nil {
		j.naming = awaitsThen
		return
	}
	j.introduce(e)
}

// awaitsName reports whether the server has still to hear or to confirm the name.
func (j *judge) awaitsName() bool {
	switch j.naming {
	case nameAsked, awaitsGreeting, awaitsThen:
		return true
	}
	return false
}

// introduce sends the client's name.
func (j *judge) introduce(e *Env) {
	t := &e.Trial.Dialect.Naming
	e.fill()
	e.path.send(e, t.Send)
	j.naming = nameAsked
	if t.Confirmed == nil {
		j.named(e)
	}
}

// enterAhead tells that the server is about to let a client into the room of its next
// enter step, if the dialect has it that this happens by itself.
func (j *judge) enterAhead(e *Env) {
	d := &e.Trial.Dialect.Enter
	if !d.Given || d.Send != nil {
		return
	}
	steps := e.script.ahead()
	for i := range steps {
		switch s := &steps[i]; s.Do {
		case trial.Enter:
			j.asked = j.roomOf(e, s)
			j.own().early = earlyEntry{room: maybe.Of(j.asked)}
			e.announceIn(ledger.Joined, j.asked) // before: who is in already is not news
			e.tellOf(fact.Asks, j.asked)
			return
		case trial.Connect, trial.Expect, trial.Set, trial.Pause, trial.Wait, trial.Send, trial.Ask:
		default:
			return // which step comes next is not known yet
		}
	}
}

// unnamedInTime handles that nothing came of the name.
func (j *judge) unnamedInTime(e *Env) {
	silent := errors.New("nothing came: its name was not confirmed in time")
	if e.path.hasOtherRoute(e, silent) {
		e.path.ends(e, ending{cause: nameless, err: silent})
		return
	}
	j.naming = nameRefused
	j.denied(e, "its name was not confirmed in time")
}

func (j *judge) named(e *Env) {
	j.naming = nameConfirmed
	if !e.path.owedAllAlong(e) {
		e.tellOf(fact.Enters, ledger.Everyone)
	}
}

// roomOf returns the room that a step is about, or noRoom.
func (j *judge) roomOf(e *Env, step *trial.Step) ledger.Room {
	if step.Room == nil {
		return j.room
	}
	e.fill()
	e.short = step.Room.Append(e.short[:0], &e.scope)
	return e.roomNumber(e.short)
}

func (j *judge) enter(e *Env, step *trial.Step) {
	if j.awaitsName() {
		e.script.await(e, forName, step.Within)
		return
	}
	d := &e.Trial.Dialect.Enter
	j.asked = j.roomOf(e, step)
	before := earlyEntry{}
	if j.rare != nil {
		before, j.rare.early = j.rare.early, earlyEntry{}
	}
	if room, ok := before.room.Get(); !ok || room != j.asked {
		before = earlyEntry{}
		if !e.path.owedAllAlong(e) {
			e.announceIn(ledger.Joined, j.asked) // before: who is in already is not news
			e.tellOf(fact.Asks, j.asked)
		}
	}
	j.watchPast(e, step)
	j.fillAsked(e)
	if d.Send != nil {
		e.path.send(e, d.Send)
	}
	e.script.await(e, forEntry, step.Within)
	if d.Confirmed == nil || before.confirmed {
		j.entered(e, e.script.due())
	}
}

func (j *judge) entered(e *Env, at mono.Time) {
	j.room = j.asked
	if e.lateNames && j.naming == unnamed {
		j.named(e)
	}
	if !e.path.owedAllAlong(e) {
		e.tellOf(fact.Enters, j.room)
	}
	j.isIn(e, j.room)
	e.frees(excuse.BetweenRoutes, e.now)
	e.path.keepsRoom(e, j.room, true)
	e.counts().Entries++
	e.event(logbook.Entered, j.room, "")
	e.Book.Now().Times[logbook.ToEnter].Record(max(0, at.Sub(e.script.since())))
	step := e.script.step()
	e.script.capture(e, step.Capture)
	j.expectsPast(e, step.Within)
	if step.Denied {
		e.check(step.Check, false, "it was let in")
	}
	e.script.resume(e)
}

// notEntered handles a room that was refused, or not confirmed.
func (j *judge) notEntered(e *Env, why string, refused bool) {
	step := e.script.step()
	j.isOut(e, j.asked)
	if e.Trial.Dialect.Joined.When != nil {
		e.tellOf(fact.Withdraws, j.asked)
	}
	if !step.Denied {
		if refused {
			why = e.said("its room was refused", e.Trial.Dialect.Enter.Why)
		}
		j.denied(e, why)
		return
	}
	if refused {
		e.check(step.Check, true, why)
	} else {
		e.fails(step.Check, why, e.inDoubt(e.script.since()))
	}
	e.script.resume(e)
}

// denied ends the session of a client, as its name or room was refused: there is
// nothing that it could say.
func (j *judge) denied(e *Env, why string) {
	if e.path.away() { // the server may not have noticed yet that it was gone
		e.path.ends(e, ending{cause: returnDenied, err: errors.New(why)})
		return
	}
	if !e.garbled() {
		e.counts().Denied++
		e.doubts(e.inDoubt(e.script.since())).Denied++
	}
	e.event(logbook.Denied, noRoom, e.countReason("denied", errors.New(why)))
	e.trouble()
	e.script.ebbs(e)
}

func (j *judge) leave(e *Env, step *trial.Step) {
	j.asked = j.roomOf(e, step)
	if j.asked == noRoom {
		e.script.skip()
		return
	}
	j.quits(e, j.asked)
	e.path.keepsRoom(e, j.asked, false)
	e.announceIn(ledger.Gone, j.asked)
	if j.asked == j.room {
		j.room = noRoom
	}
	l := &e.Trial.Dialect.Leave
	if l.Send == nil {
		j.isOut(e, j.asked)
		e.script.skip()
		return
	}
	j.fillAsked(e)
	e.path.send(e, l.Send)
	if l.Confirmed == nil {
		e.script.skip()
		return
	}
	e.script.await(e, forLeave, step.Within)
}
