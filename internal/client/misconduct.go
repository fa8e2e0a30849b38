package client

import (
	"bytes"
	"errors"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/excuse"
	"tidepull/internal/measure/fact"
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
func (c *Client) misconduct() *misconduct {
	if p := c.pulse(); p != nil {
		return p.wrong
	}
	return nil
}

// stands reports whether the client's session does not go on, as it misbehaves.
func (c *Client) stands() bool {
	m := c.misconduct()
	return m != nil && m.still
}

// UnplugsItself reports whether the client is unplugged by its own misconduct.
func (c *Client) UnplugsItself() bool {
	m := c.misconduct()
	return m != nil && m.how.Do == trial.Unplugged && !m.openEnd
}

// misbehaves begins to do something wrong on purpose; inSession says that a step of its
// session wants it, which goes on.
func (c *Client) misbehaves(e *Env, now mono.Time, how *trial.Misbehaviour, inSession bool) {
	x := c.optional()
	if x.pulse == nil {
		x.pulse = &pulse{heard: now}
	}
	p := x.pulse
	m := &misconduct{how: how, since: now, still: !inSession && how.Do.Still()}
	heard := p.heard
	p.wrong, p.begins, p.done = m, 0, true
	e.counts().Pulse.Misbehave++
	e.event(c, now, logbook.Misbehaved, noRoom, how.Do.String())
	promise := e.Trial.Target.Promise
	if how.Must == trial.MustEvict && promise != nil && promise.Deadline > 0 && (how.Do.Blind() || promise.Client &&
		!promise.Server) {
		// its next heartbeat, or the server's, is due within an interval
		m.due = now.Add(promise.Every + promise.Deadline + promise.Slack())
	}
	switch how.Do {
	case trial.Hurried:
		m.next = now.Add(how.Every)
	case trial.Deaf:
		if promise != nil {
			m.next = now.Add(promise.Every)
		}
	}
	if how.Do == trial.Frozen || how.Do == trial.Unplugged {
		// The server may close it any time, and it would not know: it is owed nothing more.
		c.quitAll(e, now)
	}
	if how.Do.Blind() {
		c.hinder(e, now, excuse.NotReading)
		line := &c.io(e).Lines[transport.Main]
		line.Hold, line.Unplug = how.Do != trial.Unplugged, how.Do == trial.Unplugged
		if promise != nil { // it will not see when the next one comes: it was due then
			m.owes = heard.Add((now.Sub(heard)/promise.Every + 1) * promise.Every)
		}
		if m.look = m.due; m.look == 0 && !inSession {
			m.look = mono.Never
		}
	}
	if m.still {
		c.stopsSession(e, now)
	}
}

// stopsSession has the session go no further.
func (c *Client) stopsSession(e *Env, now mono.Time) {
	if c.wait == forOthers {
		e.note(c, now, fact.WaitsNot, 0, 0)
	}
	e.repeatsChange(c, now, -int32(c.depth))
	c.depth, c.wait, c.deadline = 0, forNothing, mono.Never
}

// nextMisdeed is when Tick is to be called for what the client does wrong; mono.Never if it
// need not be.
func (p *pulse) nextMisdeed() mono.Time {
	next := mono.Never
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
	if m := p.wrong; m != nil && m.due != 0 && m.look == 0 && !m.kept {
		return m.due
	}
	return mono.Never
}

// tickMisdeed does what is due of what the client does wrong.
func (c *Client) tickMisdeed(e *Env, now mono.Time) {
	p := c.pulse()
	if p.begins != 0 && p.begins <= now {
		p.begins = 0
		if c.phase == open && !c.ebbing {
			c.misbehaves(e, now, e.Trial.Crews[c.crew].Misbehaves(int(c.n)), false)
		}
		return
	}
	m := p.wrong
	if m == nil {
		return
	}
	if m.next != 0 && m.next <= now {
		c.beatsWrongly(e, m, now)
	}
	for len(m.late) > 0 && m.late[0].at <= now {
		r := m.late[0]
		m.late = m.late[1:]
		m.owes, m.due = 0, 0
		if len(m.late) > 0 {
			c.owesSince(e, m, m.late[0].came)
		}
		e.record(c, now, lane.Beat, 0, 0)
		if r.payload == nil {
			c.fill(e)
			c.send(e, now, e.Trial.Dialect.Beat.Answer)
		} else {
			c.reply(e, r.payload)
		}
	}
	if m.look != 0 && m.look <= now {
		c.looksAgain(e, m, now)
		return
	}
	if p.verdictDue() <= now {
		c.isKept(e, m, now)
	}
}

// beatsWrongly sends a sign of life that nobody asked for.
func (c *Client) beatsWrongly(e *Env, m *misconduct, now mono.Time) {
	every := m.how.Every
	if m.how.Do == trial.Deaf {
		every = e.Trial.Target.Promise.Every
	}
	if c.phase != open {
		m.next = 0
		return
	}
	m.next = nextBeat(m.next, every, now)
	b := &e.Trial.Dialect.Beat
	unasked := b.Send
	if unasked == nil {
		unasked = b.Answer
	}
	switch {
	case unasked != nil:
		c.fill(e)
		c.send(e, now, unasked)
	case m.how.Do == trial.Hurried:
		if w, ok := c.way.(transport.Pinger); ok {
			w.Ping(c.io(e), beatPayload)
		}
	default:
		c.reply(e, beatPayload) // a pong that nobody asked for is a sign of life (RFC 6455 5.5.3)
	}
	e.record(c, now, lane.Beat, 0, 0)
}

// answersWrongly handles a heartbeat of the server's; false if it is to be answered as it
// should. A payload of nil stands for the dialect's answer.
func (c *Client) answersWrongly(e *Env, m *misconduct, payload []byte, at, now mono.Time) bool {
	switch m.how.Do {
	case trial.Silent, trial.Frozen, trial.Unplugged:
		c.owesSince(e, m, at)
		e.record(c, at, lane.Ignored, 0, 0)
	case trial.Slowly:
		c.owesSince(e, m, at)
		if len(m.late) < maxLateReplies {
			m.late = append(m.late, lateReply{now.Add(m.how.By), at, bytes.Clone(payload)})
		}
		e.record(c, at, lane.Ignored, 0, 0)
	case trial.Wrongly:
		c.owesSince(e, m, at)
		e.record(c, at, lane.Beat, 0, 0)
		if payload == nil {
			c.fill(e)
			e.body = append(e.Trial.Dialect.Beat.Answer.Append(e.body[:0], &e.scope), " (wrong)"...)
			if binary := e.Trial.Dialect.Binary; c.sayable(e, now, binary, false) {
				c.way.Say(c.io(e), e.body, binary)
			}
		} else {
			c.reply(e, append([]byte("not "), payload[:min(len(payload), 100)]...))
		}
	default:
		return false
	}
	return true
}

// owesSince notes the first heartbeat that the client has not answered as it should.
func (c *Client) owesSince(e *Env, m *misconduct, at mono.Time) {
	if m.owes != 0 {
		return
	}
	m.owes = max(at, m.since)
	if p := e.Trial.Target.Promise; m.how.Must == trial.MustEvict && p != nil && p.Deadline > 0 && m.look == 0 {
		m.due = m.owes.Add(p.Deadline + p.Slack())
	}
}

// looksAgain has a client read on that did not: the server should have closed it by now.
func (c *Client) looksAgain(e *Env, m *misconduct, now mono.Time) {
	line := &c.io(e).Lines[transport.Main]
	if m.how.Do == trial.Unplugged {
		line.Plug = true
	}
	line.Resume = true
	m.look, m.openEnd = 0, true
	m.due = now.Add(lookFor)
	m.next = 0
	if m.how.Do == trial.Unplugged { // what it says now finds out whether there is a connection
		c.reply(e, beatPayload)
	}
}

// seesAgain has a client that is about to close read again, if it did not on purpose: it would
// not hear the answer.
func (c *Client) seesAgain(e *Env) {
	if m := c.misconduct(); m.blind() {
		line := &c.io(e).Lines[transport.Main]
		line.Resume, line.Plug = true, m.how.Do == trial.Unplugged
	}
}

// lookFor is how long a client that reads on waits for what its server may have said in the
// meantime: its system sends again what got lost, at growing distances.
const lookFor = 4 * time.Second

// isKept books that a client is still connected though the server should have closed it.
func (c *Client) isKept(e *Env, m *misconduct, now mono.Time) {
	m.kept = true
	if !c.pathBad(e, m.since) { // else a fault may keep the end of its connection from it
		c.isNotEvicted(e, m, now)
	}
	if m.openEnd { // it has not listened for so long that its session makes no sense any more
		c.ebbing = true
		c.sayClose(e, now, ws.CloseNormal, "")
	}
}

// isNotEvicted counts a client that the server should have closed.
func (c *Client) isNotEvicted(e *Env, m *misconduct, now mono.Time) {
	e.counts().Pulse.Kept++
	e.doubts(e.closedInDoubt(now)).Kept++
	e.event(c, now, logbook.Failed, noRoom, e.countReason("not evicted", errors.New(m.how.Do.String()+
		": its connection is still open after the deadline")))
	e.trouble(c, now)
}

// isEvicted books that a client's connection ended while it misbehaved, and gives when the server
// closed it; now if nobody knows.
func (c *Client) isEvicted(e *Env, m *misconduct, at, now mono.Time) (when mono.Time) {
	counts := &e.counts().Pulse
	promise := e.Trial.Target.Promise
	if m.how.Must == trial.MustKeep {
		counts.Hasty++
		e.doubts(e.closedInDoubt(now)).Hasty++
		e.trouble(c, now)
	}
	counts.Evicted++
	base := m.owes
	if base == 0 {
		base = m.since
	}
	closed := mono.At(at)
	if m.how.Do == trial.Unplugged {
		switch gone := e.gone(c); {
		case gone.To != 0: // of which the client hears long after
			closed = gone
		case m.openEnd:
			return now
		}
	}
	e.Book.Now().Times[logbook.ToEvict].Record(max(0, closed.To.Sub(base)))
	if promise != nil && promise.Deadline > 0 && m.how.Must == trial.MustEvict && closed.From.Sub(base) >
		promise.Deadline+promise.Slack() && !m.kept && !c.pathBad(e, base) {
		counts.TooLate++
		if e.Doubtful != nil { // by how much it was too late is what is at stake
			slack := closed.From.Sub(base) - promise.Deadline
			e.doubts(e.Doubtful(base, now, slack)).TooLate++
		}
	}
	return closed.To
}

// gone is when the server closed a client's connection, if the system says so; zero if not.
func (e *Env) gone(c *Client) mono.Span {
	if e.Gone == nil {
		return mono.Span{}
	}
	return e.Gone(c.id)
}

// notHasty reports whether the end of a connection is no sign that the server closes clients
// that are alive: it broke the protocol, or the trial had broken the server.
func (e *Env) notHasty(now mono.Time, err error) bool {
	var broken *wire.ProtocolError
	if errors.As(err, &broken) {
		return true
	}
	t, over := time.Duration(e.rel(now)), e.faultLingers()
	for _, m := range e.faults {
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
