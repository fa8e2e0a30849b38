package client

import (
	"errors"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/excuse"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
	"tidepull/internal/wire/transport"
)

// An ending is how a connection ended, or a try to have one.
type ending struct {
	cause cause
	err   error         // in more words
	at    mono.Time     // up to when what came was read, if that is known better than for the share; else 0
	least time.Duration // how long the client stays away at least, if it comes back
	reset bool          // the client closes the line by a reset
}

// ends is the one way out of a connection, or of a try to have one: all that follows from its
// cause follows here, by its row in exits. It returns what the client does next. If its session
// goes on the caller has to say so to it: what the step was about is the caller's to judge.
func (c *Client) ends(e *Env, now mono.Time, x ending) next {
	away := c.Away()
	if away && exits[x.cause].away != 0 {
		x.cause = exits[x.cause].away
	}
	if away && c.ebbing && exits[x.cause].returns {
		x.cause = ebbAway
	}
	row := &exits[x.cause]
	if row.hangsUp && c.phase != offline {
		c.hangUp(e)
		c.io(e).Lines[transport.Main].Abort = x.reset
	}
	next := c.nextAfter(e, now, row, x)
	if x.at == 0 {
		x.at = e.readUpTo()
	}
	c.beatsEnd(e, x.at)
	if row.fails && next != byNextRoute {
		c.failPending(e, now, x.err)
	}
	switch next {
	case over:
		c.books(e, now, row, x)
	case goesOn:
		if row.event != noEvent {
			e.event(c, now, row.event, noRoom, row.detail)
		}
	case comesBack:
		if away {
			x.least = max(x.least, c.countsTry(e, row, x.err))
		} else {
			c.goesAway(e, now, x.err)
		}
	}
	c.leavesRooms(e, now, row, next, away)
	c.dropConnection(e, now)
	switch next {
	case over:
		c.isOver(e, now)
	case byNextRoute:
		c.goesDown(e, now, x.err)
	case comesBack:
		c.triesLater(e, now, x.least, x.err)
	}
	return next
}

// nextAfter is what the client does after its connection ended so.
func (c *Client) nextAfter(e *Env, now mono.Time, row *exit, x ending) next {
	switch {
	case row.routes && c.hasOtherRoute(e, now, x.err):
		return byNextRoute
	case row.returns && !c.ebbing && c.policy(e) != nil:
		return comesBack
	case x.cause == closed && !c.ebbing && int(c.pc) < len(c.session.Steps) && c.step().Do == trial.Close:
		return goesOn
	}
	return row.then
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

// books counts the end of a client that is done, and tells of it.
func (c *Client) books(e *Env, now mono.Time, row *exit, x ending) {
	counts := e.counts()
	switch {
	case x.cause == refusal:
		e.note(c, now, fact.ConnsFail, 0, 1)
		if !c.garbled(e) { // else it was the trial that spoilt the request
			counts.Refused++
			e.doubts(e.inDoubt(c.began, now)).Refused++
		}
	case x.cause == ebbAway:
		c.countsAway(e, now)
	case row.count != nil:
		*row.count(counts)++
	}
	switch x.cause {
	case byServer:
		e.doubts(e.closedInDoubt(now)).Broken++
	case giveUp:
		e.doubts(e.inDoubt(c.more.comeback.broke, now)).GaveUp++
	}
	if row.finished {
		counts.Finished++
	}
	detail := row.detail
	if row.reason != "" {
		detail = e.countReason(row.reason, x.err)
	}
	if row.event != noEvent {
		e.event(c, now, row.event, noRoom, detail)
	}
	if row.trouble {
		e.trouble(c, now)
	}
}

// leavesRooms tells what becomes of the rooms that the client is in.
func (c *Client) leavesRooms(e *Env, now mono.Time, row *exit, next next, away bool) {
	p := c.policy(e)
	caughtUp := p != nil && p.CatchUp
	switch {
	case away && caughtUp && next != over: // it is still owed what is said there
	case caughtUp && next == comesBack:
		e.tellOf(c, now, fact.Suspends, noRoom)
		c.isNowhere(e, now)
	default:
		if row.announced {
			c.goes(e, now)
		}
		if row.asks {
			c.quitAll(e, now)
		}
		if c.phase == connecting && c.more != nil { // the server has not let it in with the handshake
			if room, ok := c.more.early.room.Get(); ok && e.notice(ledger.Joined).Room != nil {
				e.tellOf(c, now, fact.Withdraws, room)
			}
		}
		c.isGone(e, now)
	}
	c.room = noRoom
	if b := c.comeback(); b != nil && !away && next != comesBack {
		b.rooms = nil // another connection begins outside
	}
}

// dropConnection forgets the connection, and what only makes sense on it.
func (c *Client) dropConnection(e *Env, now mono.Time) {
	c.phase, c.naming = offline, unnamed
	c.dropAttempts(e)
	c.letGo(e)
	c.way.Drop(c.io(e))
	c.readOn(e, now, 0)
	if c.more != nil {
		c.more.early, c.more.past = earlyEntry{}, nil
	}
}

// isOver makes the client idle.
func (c *Client) isOver(e *Env, now mono.Time) {
	if c.more != nil {
		c.more.web.Drop(&e.IO)
	}
	c.phase, c.wait, c.deadline = idle, forNothing, mono.Never
	c.forgetOptional()
	e.landed(c, now)
}

// hangUp closes the main line, before its client is told to be out of its rooms; the
// transport hears no more of it.
func (c *Client) hangUp(e *Env) {
	if p := c.policy(e); p != nil && p.CatchUp && !c.ebbing {
		// It comes back, and catches up on what it has not read.
	} else if e.ReadUpTo != nil {
		e.tell(e.now, fact.Fact{Kind: fact.IsHindered, Client: c.id, Room: noRoom, What: uint8(excuse.HungUp),
			Time: e.rel(min(e.now, e.ReadUpTo()))})
	}
	c.way.Drop(c.io(e))
	c.io(e).Lines[transport.Main].Hangup = true
}
