package client

import (
	"errors"
	"strings"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/excuse"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
	"tidepull/internal/wire/transport"
)

// An ending is how a connection ended, or a try to have one.
type ending struct {
	cause cause
	err   error         // in more words
	at    mono.Time     // up to when what came was read, if that is known better than for the share; else 0
	came  mono.Span     // when it ended, if the server, or what is between, ended it; else zero
	least time.Duration // how long the client stays away at least, if it comes back
	reset bool          // the client closes the line by a reset
}

// ends is the one way out of a connection, or of a try to have one: all that follows from its
// cause follows here, by its row in exits. It returns what the client does next. If its session
// goes on the caller has to say so to it: what the step was about is the caller's to judge.
func (p *path) ends(e *Env, x ending) next {
	away := p.away()
	if away && exits[x.cause].away != 0 {
		x.cause = exits[x.cause].away
	}
	if away && e.script.isEbbing() && exits[x.cause].returns {
		x.cause = ebbAway
	}
	row := &exits[x.cause]
	if row.hangsUp && p.phase != offline {
		p.hangUp(e)
		p.io(e).Lines[transport.Main].Abort = x.reset
	}
	next := p.nextAfter(e, row, x)
	if x.at == 0 {
		x.at = e.readUpTo()
	}
	e.pulse.ends(e, x.at)
	if row.fails && next != byNextRoute {
		e.script.failPending(e, x.err)
	}
	switch next {
	case over:
		p.books(e, row, x)
	case goesOn:
		if row.event != noEvent {
			e.event(row.event, noRoom, row.detail)
		}
	case comesBack:
		if away {
			x.least = max(x.least, p.countsTry(e, row, x.err))
		} else {
			p.goesAway(e, x)
			p.countsUnprovoked(e, x)
		}
	}
	p.leavesRooms(e, row, next, away)
	p.dropConnection(e)
	switch next {
	case over:
		p.isOver(e)
	case byNextRoute:
		p.goesDown(e, x.err)
	case comesBack:
		p.triesLater(e, x.least, x.err)
	}
	return next
}

// nextAfter is what the client does after its connection ended so.
func (p *path) nextAfter(e *Env, row *exit, x ending) next {
	switch {
	case row.routes && p.hasOtherRoute(e, x.err):
		return byNextRoute
	case row.returns && !e.script.isEbbing() && p.policy(e) != nil:
		return comesBack
	case x.cause == closed && !e.script.isEbbing() && e.script.isAt(trial.Close):
		return goesOn
	}
	return row.then
}

// books counts the end of a client that is done, and tells of it.
func (p *path) books(e *Env, row *exit, x ending) {
	counts := e.counts()
	switch {
	case x.cause == refusal:
		e.note(fact.ConnsFail, 0, 1)
		if !e.garbled() { // else it was the trial that spoilt the request
			counts.Refused++
			e.doubts(e.inDoubt(e.script.since())).Refused++
		}
	case x.cause == ebbAway:
		p.countsAway(e)
	case row.count != nil:
		*row.count(counts)++
	}
	switch x.cause {
	case byServer:
		e.doubts(e.closedInDoubt()).Broken++
	case giveUp:
		e.doubts(e.inDoubt(p.rare.comeback.broke)).GaveUp++
	}
	if row.finished {
		counts.Finished++
	}
	detail := row.detail
	if row.reason != "" {
		detail = e.countReason(row.reason, x.err)
	}
	if row.event != noEvent {
		if row.event == logbook.Broke {
			detail += p.quietFor(e)
		}
		e.event(row.event, noRoom, detail)
	}
	if row.trouble {
		e.trouble()
	}
}

// leavesRooms tells what becomes of the rooms that the client is in.
func (p *path) leavesRooms(e *Env, row *exit, next next, away bool) {
	policy := p.policy(e)
	caughtUp := policy != nil && policy.CatchUp
	switch {
	case away && caughtUp && next != over: // it is still owed what is said there
	case caughtUp && next == comesBack:
		e.tellOf(fact.Suspends, noRoom)
		e.judge.isNowhere(e)
	default:
		if row.announced {
			e.judge.goes(e)
		}
		if row.asks {
			e.judge.quitAll(e)
		}
		if p.phase == connecting { // the server has not let it in with the handshake
			e.judge.withdraws(e)
		}
		e.judge.isGone(e)
	}
	e.judge.stepsOut()
	if b := p.comeback(); b != nil && !away && next != comesBack {
		b.rooms = nil // another connection begins outside
	}
}

// dropConnection forgets the connection, and what only makes sense on it.
func (p *path) dropConnection(e *Env) {
	p.phase = offline
	p.dropAttempts(e)
	e.judge.forgets(e)
	p.way.Drop(p.io(e))
	p.readOn(e, 0)
}

// close ends the connection in order. The client is owed
// nothing any more, but until the server has answered it may get what others say.
func (p *path) close(e *Env, code uint16, reason string) {
	e.pulse.seesAgain(e)
	e.pulse.ends(e, e.readUpTo())
	e.judge.goes(e)
	e.judge.quitAll(e)
	e.judge.stepsOut()
	p.phase = closing
	p.dropAttempts(e)
	e.script.awaits(e, forEnd) // how long it may take is the transport's to watch
	if t := e.Trial.Dialect.Goodbye; t != nil && e.routeOf().Kind == trial.OverUDP {
		e.fill()
		p.send(e, t)
	}
	p.way.Close(p.io(e), code, reason)
}

// isOver makes the client idle.
func (p *path) isOver(e *Env) {
	if p.rare != nil {
		p.rare.web.Drop(&e.IO)
	}
	p.phase = idle
	p.forgets()
	*e.judge, *e.pulse = judge{room: noRoom}, pulse{}
	e.script.ends(e)
}

// hangUp closes the main line, before its client is told to be out of its rooms; the
// transport hears no more of it.
func (p *path) hangUp(e *Env) {
	if policy := p.policy(e); policy != nil && policy.CatchUp && !e.script.isEbbing() {
		// It comes back, and catches up on what it has not read.
	} else if e.ReadUpTo != nil {
		e.tell(fact.Fact{Kind: fact.IsHindered, Client: e.c.id, Room: noRoom, What: uint8(excuse.HungUp),
			Time: e.rel(min(e.now, e.ReadUpTo()))})
	}
	p.way.Drop(p.io(e))
	p.io(e).Lines[transport.Main].Hangup = true
}

// breaksOff ends a connection with which the client cannot go on.
func (p *path) breaksOff(e *Env, err error) {
	p.hangUp(e)
	p.broken(e, mono.At(e.now), err)
}

// broken handles that the server, or what is between, ended a connection, of which the client
// learned from what came at an instant, or within a span.
func (p *path) broken(e *Env, came mono.Span, err error) {
	x := ending{cause: byServer, err: err, at: came.To, came: came}
	wrong, closedAt := e.pulse.misconduct(), e.now
	switch {
	case e.script.waitsFor(forBreak):
		x.cause = asAwaited
	case wrong != nil:
		x.cause = asEvicted
	case p.slowStep(e) != nil:
		x.cause = asSlow
	case p.sentBad():
		x.cause = asBad
	case e.cutFromServer():
		x.cause = byPath
	}
	if wrong != nil {
		closedAt = e.pulse.isEvicted(e, wrong, came)
	} else if (x.cause == byServer || x.cause == byPath) && e.Trial.Target.Promise != nil && !e.notHasty(err) {
		e.counts().Pulse.Hasty++
		e.doubts(e.closedInDoubt()).Hasty++
	}
	switch x.cause {
	case asEvicted:
		p.wasEvicted(e, closedAt, err)
	case asAwaited:
		p.wasEvicted(e, closedAt, err)
		step := e.script.step()
		p.ends(e, x)
		why := wrongEnd(step, err)
		e.check(step.Check, why == "", why)
		e.script.resume(e)
		return
	case asSlow: // its own doing: the session ends as planned
		p.wasEvicted(e, closedAt, err)
		e.check(p.slowStep(e).Check, true, "")
	case asBad:
		p.wasEvicted(e, closedAt, err)
	}
	p.ends(e, x)
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
func (p *path) wasEvicted(e *Env, when mono.Time, err error) {
	e.counts().Evicted++
	e.tellText(fact.Fact{Kind: fact.Happens, Client: e.c.id, Room: noRoom, What: uint8(logbook.Evicted),
		Time: e.rel(when)}, []byte(e.countReason("evicted", err)))
}
