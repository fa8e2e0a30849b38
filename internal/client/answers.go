package client

import (
	"errors"

	"tidepull/internal/base/mono"
	"tidepull/internal/client/reading"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/wire/transport"
)

// listens reports whether the client waits for a message.
func (c *Client) listens() bool {
	switch c.wait {
	case forExpected, forEntry, forLeave, forName:
		return true
	}
	return c.awaitsName() || c.more != nil && (c.more.past != nil || c.more.early.room.Is())
}

// hears looks whether the message in the scope is what the client waits for, and
// reports whether it was.
func (c *Client) hears(e *Env, m *reading.Message, at, now mono.Time) bool {
	c.fill(e) // its number may be the last now
	s := &e.scope
	d := &e.Trial.Dialect
	greeted := c.naming == awaitsGreeting && d.Naming.After.True(s)
	if greeted || c.naming == awaitsThen && d.Naming.Then.True(s) {
		if greeted {
			c.sayFirst(e, now)
		} else {
			c.introduce(e, now)
		}
		c.goOnNamed(e, now)
		return true
	}
	if m.Is&reading.Beat != 0 {
		c.beatAnswer(e, at, now)
		return true
	}
	if c.naming == nameAsked {
		switch {
		case d.Naming.Confirmed.True(s):
			c.named(e, now)
			if c.wait == forExpected && c.step().When.True(s) { // it may say more than that
				c.met(e, now)
				c.expected = true
			}
			c.goOnNamed(e, now)
			return true
		case d.Naming.Refused != nil && d.Naming.Refused.True(s):
			c.naming = nameRefused
			c.denied(e, now, e.said("its name was refused"))
			return true
		}
	}
	if c.heardAhead(e) {
		return true
	}
	switch c.wait {
	case forExpected:
		if c.step().When.True(s) {
			c.met(e, now)
			c.expected = true
			return true
		}
	case forEntry:
		e.setRoom(c.asked)
		switch {
		case d.Enter.Confirmed.True(s):
			c.entered(e, at, now)
			return true
		case d.Enter.Refused != nil && d.Enter.Refused.True(s):
			c.notEntered(e, now, "", true)
			return true
		}
	case forLeave:
		e.setRoom(c.asked)
		if d.Leave.Confirmed.True(s) {
			c.isOut(e, now, c.asked)
			e.event(c, now, logbook.Left, c.asked, "")
			c.resume(e, now)
			return true
		}
	}
	return false
}

// goOnNamed goes on with the step that waited for the name, once that is confirmed.
func (c *Client) goOnNamed(e *Env, now mono.Time) {
	if c.naming == nameConfirmed && c.wait == forName {
		c.clock = max(c.clock, now)
		c.run(e, now)
	}
}

// heardAhead looks whether the message in the scope confirms a room that the client will
// come to later.
func (c *Client) heardAhead(e *Env) bool {
	confirmed := e.Trial.Dialect.Enter.Confirmed
	if c.more == nil || confirmed == nil {
		return false
	}
	room, ok := c.more.early.room.Get()
	if !ok || c.more.early.confirmed {
		return false
	}
	e.setRoom(room)
	c.more.early.confirmed = confirmed.True(&e.scope)
	return c.more.early.confirmed && c.wait != forExpected // an expect may be about it, too
}

// met handles the message that an expect step is about.
func (c *Client) met(e *Env, now mono.Time) {
	s := c.step()
	if c.Away() { // it is put back
		c.resume(e, now)
		return
	}
	if s.Never {
		e.counts().Missed++
		e.event(c, now, logbook.Missed, noRoom, e.countReason("missed", errors.New(s.Label+": it must not come")))
		e.fails(c, now, s.Check, "it must not come, and came", false)
	} else {
		e.counts().Met++
		e.check(c, now, s.Check, true, "")
		c.capture(e, s.Capture)
	}
	c.resume(e, now)
}

// unmet handles that the message has not come in time.
func (c *Client) unmet(e *Env, now mono.Time) {
	s := c.step()
	if c.Away() { // it has not been put back, and tries without that
		c.more.comeback.byName = true
		c.ends(e, now, ending{cause: returnDenied, err: &transport.NotInTime{What: "answer to its resume"}})
		return
	}
	if s.Never {
		e.counts().Met++
		e.check(c, now, s.Check, true, "")
	} else {
		doubt := e.inDoubt(c.began, now)
		e.counts().Missed++
		e.doubts(doubt).Missed++
		e.event(c, now, logbook.Missed, noRoom, e.countReason("missed", errors.New(s.Label)))
		e.fails(c, now, s.Check, "it has not come in time", doubt)
	}
	c.resume(e, now)
}
