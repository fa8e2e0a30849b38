package client

import (
	"errors"
	"fmt"

	"tidepull/internal/base/mono"
	"tidepull/internal/base/plain"
	"tidepull/internal/client/reading"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
	"tidepull/internal/trial/expr"
	"tidepull/internal/wire/transport"
)

// listens reports whether the client waits for a message.
func (j *judge) listens(e *Env) bool {
	switch e.script.waiting() {
	case forExpected, forEntry, forLeave, forName:
		return true
	}
	return j.awaitsName() || j.rare != nil && (j.rare.past != nil || j.rare.early.room.Is())
}

// hears looks whether the message in the scope is what the client waits for, and
// reports whether it was.
func (j *judge) hears(e *Env, m *reading.Message, at mono.Time) bool {
	e.fill() // its number may be the last now
	scope := &e.scope
	d := &e.Trial.Dialect
	greeted := j.naming == awaitsGreeting && d.Naming.After.True(scope)
	if greeted || j.naming == awaitsThen && d.Naming.Then.True(scope) {
		if greeted {
			j.sayFirst(e)
		} else {
			j.introduce(e)
		}
		j.goOnNamed(e)
		return true
	}
	if m.Is&reading.Beat != 0 {
		e.pulse.beatAnswer(e, at)
		return true
	}
	if j.naming == nameAsked {
		switch {
		case d.Naming.Confirmed.True(scope):
			j.named(e)
			if e.script.waitsFor(forExpected) && e.script.step().When.True(scope) { // it may say more than that
				j.met(e)
				j.awaited = true
			}
			j.goOnNamed(e)
			return true
		case d.Naming.Refused != nil && d.Naming.Refused.True(scope):
			j.naming = nameRefused
			j.denied(e, e.said("its name was refused", d.Naming.Why))
			return true
		}
	}
	if j.heardAhead(e) {
		return true
	}
	switch e.script.waiting() {
	case forExpected:
		if e.script.step().When.True(scope) {
			j.met(e)
			j.awaited = true
			return true
		}
	case forEntry:
		e.setRoom(j.asked)
		switch {
		case d.Enter.Confirmed.True(scope):
			j.entered(e, at)
			return true
		case d.Enter.Refused != nil && d.Enter.Refused.True(scope):
			j.notEntered(e, "", true)
			return true
		}
	case forLeave:
		e.setRoom(j.asked)
		if d.Leave.Confirmed.True(scope) {
			j.isOut(e, j.asked)
			e.event(logbook.Left, j.asked, "")
			e.script.resume(e)
			return true
		}
	}
	return false
}

// goOnNamed goes on with the step that waited for the name, once that is confirmed.
func (j *judge) goOnNamed(e *Env) {
	if j.naming == nameConfirmed && e.script.waitsFor(forName) {
		e.script.catchUp(e)
		e.script.run(e)
	}
}

// heardAhead looks whether the message in the scope confirms a room that the client will
// come to later.
func (j *judge) heardAhead(e *Env) bool {
	confirmed := e.Trial.Dialect.Enter.Confirmed
	if j.rare == nil || confirmed == nil {
		return false
	}
	room, ok := j.rare.early.room.Get()
	if !ok || j.rare.early.confirmed {
		return false
	}
	e.setRoom(room)
	j.rare.early.confirmed = confirmed.True(&e.scope)
	return j.rare.early.confirmed && !e.script.waitsFor(forExpected) // an expect may be about it, too
}

// met handles the message that an expect step is about.
func (j *judge) met(e *Env) {
	step := e.script.step()
	if e.path.away() { // it is put back
		e.script.resume(e)
		return
	}
	if step.Never {
		e.counts().Missed++
		e.event(logbook.Missed, noRoom, e.countReason("missed", errors.New(step.Label+": it must not come")))
		e.failsWith(step.Check, "it must not come, and came", e.came(), false)
	} else {
		e.counts().Met++
		e.check(step.Check, true, "")
		e.script.capture(e, step.Capture)
	}
	e.script.resume(e)
}

// came quotes the message at hand.
func (e *Env) came() string {
	v := e.scope.Vars[expr.VarText]
	if v.Kind != expr.String {
		return ""
	}
	return fmt.Sprintf("'%s' came", plain.Text(string(v.Str[:min(len(v.Str), 400)]), 200))
}

// isExpect reports whether a step waits for what another client may have to say first, and not for an
// answer to what its own client sent.
func (e *Env) isExpect(step *trial.Step) bool {
	return step.Check >= 0 && e.Trial.Checks[step.Check].Kind == "expect"
}

// unmet handles that the message has not come in time.
func (j *judge) unmet(e *Env) {
	step := e.script.step()
	if e.path.away() { // it has not been put back, and tries without that
		e.path.comesByName()
		e.path.ends(e, ending{cause: returnDenied, err: &transport.NotInTime{What: "answer to its resume"}})
		return
	}
	switch {
	case step.Never:
		e.counts().Met++
		e.check(step.Check, true, "")
	case e.isExpect(step) && e.Fell > e.script.since():
		// Whoever was to say it may have gone home.
		e.countReason("not judged", fmt.Errorf("'%s' had not come when clients went home", step.Label))
	default:
		doubt := e.inDoubt(e.script.since())
		e.counts().Missed++
		e.doubts(doubt).Missed++
		e.event(logbook.Missed, noRoom, e.countReason("missed", errors.New(step.Label)))
		e.failsWith(step.Check, "it has not come in time", fmt.Sprintf("%v after it was waited for", step.Within),
			doubt)
	}
	e.script.resume(e)
}
