package client

import (
	"bytes"
	"errors"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/excuse"
	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
	"tidepull/internal/wire"
	"tidepull/internal/wire/transport"
	"tidepull/internal/wire/ws"
)

// A misconduct is what a client does wrong on purpose about signs of life, while it does.
type misconduct struct {
	how   *trial.Misbehaviour
	since mono.Time
	owes  mono.Time   // when the first heartbeat came, or was due, that it has not answered as it should; 0: none
	next  mono.Time   // when it sends something unasked; 0: it does not
	late  []lateReply // by when they are sent
	due   mono.Time   // when the server should have closed the connection at the latest; 0: not yet known
	look  mono.Time   // when it reads on, to see whether it has; 0: it reads
	kept  bool        // it had not, which is booked
	still bool        // its session does not go on
	// openEnd is set once it is looked at whether a client is closed that did not read: when
	// that was is not known.
	openEnd bool
}

// blind reports whether the client reads nothing on purpose; m may be nil.
func (m *misconduct) blind() bool { return m != nil && m.how.Do.Blind() }

// A lateReply is an answer that waits.
type lateReply struct {
	at      mono.Time
	came    mono.Time // the question
	payload []byte
}

// maxLateReplies bounds the answers that wait of one client.
const maxLateReplies = 64

// misconduct is what the client does wrong at the moment; nil if nothing.
func (p *pulse) misconduct() *misconduct {
	if p.beats == nil {
		return nil
	}
	return p.wrong
}

// stands reports whether the client's session does not go on, as it misbehaves.
func (p *pulse) stands() bool {
	m := p.misconduct()
	return m != nil && m.still
}

// unplugs reports whether the client is unplugged by its own misconduct.
func (p *pulse) unplugs() bool {
	m := p.misconduct()
	return m != nil && m.how.Do == trial.Unplugged && !m.openEnd
}

// misbehaves begins to do something wrong on purpose; inSession says that a step of its
// session wants it, which goes on.
func (p *pulse) misbehaves(e *Env, how *trial.Misbehaviour, inSession bool) {
	if p.beats == nil {
		p.beats = &beats{heard: e.now}
	}
	m := &misconduct{how: how, since: e.now, still: !inSession && how.Do.Still()}
	heard := p.heard
	p.wrong, p.begins, p.done = m, 0, true
	e.counts().Pulse.Misbehave++
	e.event(logbook.Misbehaved, noRoom, how.Do.String())
	promise := e.Trial.Target.Promise
	if how.Must == trial.MustEvict && promise != nil && promise.Deadline > 0 && (how.Do.Blind() || promise.Client &&
		!promise.Server) {
		// its next heartbeat, or the server's, is due within an interval
		m.due = e.now.Add(promise.Every + promise.Deadline + promise.Slack())
	}
	switch how.Do {
	case trial.Hurried:
		m.next = e.now.Add(how.Every)
	case trial.Deaf:
		if promise != nil {
			m.next = e.now.Add(promise.Every)
		}
	}
	if how.Do == trial.Frozen || how.Do == trial.Unplugged {
		// The server may close it any time, and it would not know: it is owed nothing more.
		e.judge.quitAll(e)
	}
	if how.Do.Blind() {
		e.hinder(excuse.NotReading)
		line := &e.path.io(e).Lines[transport.Main]
		line.Hold, line.Unplug = how.Do != trial.Unplugged, how.Do == trial.Unplugged
		if promise != nil { // it will not see when the next one comes: it was due then
			m.owes = heard.Add((e.now.Sub(heard)/promise.Every + 1) * promise.Every)
		}
		if m.look = m.due; m.look == 0 && !inSession {
			m.look = mono.Never
		}
	}
	if m.still {
		e.script.stops(e)
	}
}

// nextMisdeed is when Tick is to be called for what the client does wrong; mono.Never if it
// need not be.
func (p *pulse) nextMisdeed() mono.Time {
	next := mono.Never
	if p.beats == nil {
		return next
	}
	if p.begins != 0 {
		next = p.begins
	}
	m := p.wrong
	if m == nil {
		return next
	}
	if m.next != 0 {
		next = min(next, m.next)
	}
	if len(m.late) > 0 {
		next = min(next, m.late[0].at)
	}
	if m.look != 0 {
		next = min(next, m.look)
	}
	return next
}

// verdictDue is when the server should have closed the connection at the latest; mono.Never
// if that is not to be judged.
func (p *pulse) verdictDue() mono.Time {
	if m := p.misconduct(); m != nil && m.due != 0 && m.look == 0 && !m.kept {
		return m.due
	}
	return mono.Never
}

// tickMisdeed does what is due of what the client does wrong.
func (p *pulse) tickMisdeed(e *Env) {
	if p.begins != 0 && p.begins <= e.now {
		p.begins = 0
		if e.path.is(open) && !e.script.isEbbing() {
			p.misbehaves(e, e.Trial.Crews[e.c.crew].Misbehaves(int(e.c.n)), false)
		}
		return
	}
	m := p.wrong
	if m == nil {
		return
	}
	if m.next != 0 && m.next <= e.now {
		p.beatsWrongly(e, m)
	}
	for len(m.late) > 0 && m.late[0].at <= e.now {
		r := m.late[0]
		m.late = m.late[1:]
		m.owes, m.due = 0, 0
		if len(m.late) > 0 {
			p.owesSince(e, m, m.late[0].came)
		}
		e.record(e.now, lane.Beat, 0, 0)
		if r.payload == nil {
			e.fill()
			e.path.send(e, e.Trial.Dialect.Beat.Answer)
		} else {
			p.reply(e, r.payload)
		}
	}
	if m.look != 0 && m.look <= e.now {
		p.looksAgain(e, m)
		return
	}
	if p.verdictDue() <= e.now {
		p.isKept(e, m)
	}
}

// beatsWrongly sends a sign of life that nobody asked for.
func (p *pulse) beatsWrongly(e *Env, m *misconduct) {
	every := m.how.Every
	if m.how.Do == trial.Deaf {
		every = e.Trial.Target.Promise.Every
	}
	if !e.path.is(open) {
		m.next = 0
		return
	}
	m.next = nextBeat(m.next, every, e.now)
	b := &e.Trial.Dialect.Beat
	unasked := b.Send
	if unasked == nil {
		unasked = b.Answer
	}
	switch {
	case unasked != nil:
		e.fill()
		e.path.send(e, unasked)
	case m.how.Do == trial.Hurried:
		e.path.ping(e, beatPayload)
	default:
		p.reply(e, beatPayload) // a pong that nobody asked for is a sign of life (RFC 6455 5.5.3)
	}
	e.record(e.now, lane.Beat, 0, 0)
}

// answersWrongly handles a heartbeat of the server's; false if it is to be answered as it
// should. A payload of nil stands for the dialect's answer.
func (p *pulse) answersWrongly(e *Env, m *misconduct, payload []byte, at mono.Time) bool {
	switch m.how.Do {
	case trial.Silent, trial.Frozen, trial.Unplugged:
		p.owesSince(e, m, at)
		e.record(at, lane.Ignored, 0, 0)
	case trial.Slowly:
		p.owesSince(e, m, at)
		if len(m.late) < maxLateReplies {
			m.late = append(m.late, lateReply{e.now.Add(m.how.By), at, bytes.Clone(payload)})
		}
		e.record(at, lane.Ignored, 0, 0)
	case trial.Wrongly:
		p.owesSince(e, m, at)
		e.record(at, lane.Beat, 0, 0)
		if payload == nil {
			e.fill()
			e.body = append(e.Trial.Dialect.Beat.Answer.Append(e.body[:0], &e.scope), " (wrong)"...)
			e.path.say(e, e.Trial.Dialect.Binary, false)
		} else {
			p.reply(e, append([]byte("not "), payload[:min(len(payload), 100)]...))
		}
	default:
		return false
	}
	return true
}

// owesSince notes the first heartbeat that the client has not answered as it should.
func (p *pulse) owesSince(e *Env, m *misconduct, at mono.Time) {
	if m.owes != 0 {
		return
	}
	m.owes = max(at, m.since)
	if p := e.Trial.Target.Promise; m.how.Must == trial.MustEvict && p != nil && p.Deadline > 0 && m.look == 0 {
		m.due = m.owes.Add(p.Deadline + p.Slack())
	}
}

// looksAgain has a client read on that did not: the server should have closed it by now.
func (p *pulse) looksAgain(e *Env, m *misconduct) {
	line := &e.path.io(e).Lines[transport.Main]
	if m.how.Do == trial.Unplugged {
		line.Plug = true
	}
	line.Resume = true
	m.look, m.openEnd = 0, true
	m.due = e.now.Add(lookFor)
	m.next = 0
	if m.how.Do == trial.Unplugged { // what it says now finds out whether there is a connection
		p.reply(e, beatPayload)
	}
}

// seesAgain has a client that is about to close read again, if it did not on purpose: it would
// not hear the answer.
func (p *pulse) seesAgain(e *Env) {
	if m := p.misconduct(); m.blind() {
		line := &e.path.io(e).Lines[transport.Main]
		line.Resume, line.Plug = true, m.how.Do == trial.Unplugged
	}
}

// lookFor is how long a client that reads on waits for what its server may have said in the
// meantime: its system sends again what got lost, at growing distances.
const lookFor = 4 * time.Second

// isKept books that a client is still connected though the server should have closed it.
func (p *pulse) isKept(e *Env, m *misconduct) {
	m.kept = true
	if !e.pathBad(m.since) { // else a fault may keep the end of its connection from it
		p.isNotEvicted(e, m)
	}
	if m.openEnd { // it has not listened for so long that its session makes no sense any more
		e.script.ebbs(e)
	}
}

// isNotEvicted counts a client that the server should have closed.
func (p *pulse) isNotEvicted(e *Env, m *misconduct) {
	e.counts().Pulse.Kept++
	e.doubts(e.closedInDoubt()).Kept++
	e.event(logbook.Failed, noRoom, e.countReason("not evicted", errors.New(m.how.Do.String()+
		": its connection is still open after the deadline")))
	e.trouble()
}

// isEvicted books that a client's connection ended while it misbehaved, and gives when the server
// closed it; now if nobody knows.
func (p *pulse) isEvicted(e *Env, m *misconduct, closed mono.Span) (when mono.Time) {
	counts := &e.counts().Pulse
	promise := e.Trial.Target.Promise
	if m.how.Must == trial.MustKeep {
		counts.Hasty++
		e.doubts(e.closedInDoubt()).Hasty++
		e.trouble()
	}
	counts.Evicted++
	base := m.owes
	if base == 0 {
		base = m.since
	}
	if m.how.Do == trial.Unplugged {
		switch gone := e.gone(); {
		case gone.To != 0: // of which the client hears long after
			closed = gone
		case m.openEnd:
			return e.now
		}
	}
	e.Book.Now().Between(logbook.ToEvict, closed.From.Sub(base), closed.To.Sub(base))
	if promise != nil && promise.Deadline > 0 && m.how.Must == trial.MustEvict && closed.From.Sub(base) >
		promise.Deadline+promise.Slack() && !m.kept && !e.pathBad(base) {
		counts.TooLate++
		if e.Doubtful != nil { // by how much it was too late is what is at stake
			slack := closed.From.Sub(base) - promise.Deadline
			e.doubts(e.Doubtful(base, e.now, slack)).TooLate++
		}
	}
	return closed.To
}

// gone is when the server closed a client's connection, if the system says so; zero if not.
func (e *Env) gone() mono.Span {
	if e.Gone == nil {
		return mono.Span{}
	}
	return e.Gone(e.c.id)
}

// notHasty reports whether the end of a connection is no sign that the server closes clients
// that are alive: it broke the protocol, or the trial had broken the server.
func (e *Env) notHasty(err error) bool {
	var broken *wire.ProtocolError
	if errors.As(err, &broken) {
		return true
	}
	return e.isFaulted()
}

// isFaulted reports whether a fault of the trial's is about the client, or was lately: connections may
// break by it. Who is in a room, or on a node, when it begins is not remembered: it may be anybody.
func (e *Env) isFaulted() bool { return e.isFaultedBy(func(*trial.Fault) bool { return true }) }

// faultRefuses reports whether a fault of the trial's may be why a connection was not agreed on. A server
// that answers so is not down, and what is before it only answers for it while it is.
func (e *Env) faultRefuses(err error) bool {
	var refusal *ws.Refusal
	answered := errors.As(err, &refusal)
	return e.isFaultedBy(func(f *trial.Fault) bool {
		switch {
		case !answered || f.Do == trial.Answer:
			return true
		case f.Do.AtServer():
			return refusal.Status == 502 || refusal.Status == 503 || refusal.Status == 504
		}
		return f.Do == trial.Strip
	})
}

// isFaultedBy is isFaulted for the faults of which something is so.
func (e *Env) isFaultedBy(is func(*trial.Fault) bool) bool {
	t, over := time.Duration(e.rel(e.now)), e.faultLingers()
	for _, m := range e.faults {
		whom := &m.Fault.Whom
		n := int(e.c.id)
		if whom.Crew >= 0 {
			n = int(e.c.n)
		}
		if !m.Fault.Do.AtServer() && (whom.Crew >= 0 && whom.Crew != int(e.c.crew) || !trial.InShare(whom.Share, n)) {
			continue
		}
		if !is(m.Fault) {
			continue
		}
		forGood := m.Fault.Do == trial.StopServer || m.Fault.Lasts == 0 && !m.Fault.Do.AtServer()
		if t >= m.At && (forGood || t < m.At+m.Fault.Lasts+over) {
			return true
		}
	}
	return false
}

// Broken notes that a fault was made to happen by hand, or ended, at a time since the start of
// the run.
func (e *Env) Broken(f *trial.Fault, on bool, at time.Duration) {
	if on {
		e.faults = append(e.faults, trial.Moment{Fault: f, At: at})
		return
	}
	for i := range e.faults {
		if m := &e.faults[i]; m.Fault == f { // what it is remembered by now has an end
			ended := *f
			ended.Lasts = max(1, at-m.At)
			m.Fault = &ended
		}
	}
}

// faultLingers is how long after a fault connections may still break because of it.
func (e *Env) faultLingers() time.Duration {
	if p := e.Trial.Target.Promise; p != nil {
		return faultOver + p.Every + p.Deadline
	}
	return faultOver
}

// faultOver is how long after a fault connections may still break because of it.
const faultOver = 5 * time.Second
