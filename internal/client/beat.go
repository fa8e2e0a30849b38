package client

import (
	"math"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/excuse"
	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/wire/transport"
)

// A pulse is what a client knows of the heartbeats of its connection.
type pulse struct {
	heard  mono.Time   // when the server's last one came, or the connection opened
	first  bool        // one has come
	asked  mono.Time   // when it last asked for one that has not come; 0: it has
	wrong  *misconduct // what it does wrong on purpose; nil: nothing
	begins mono.Time   // when it will begin to do so; 0: not on this connection
	done   bool        // it has misbehaved; it does so once
}

// pulse is the client's, if it has any.
func (c *Client) pulse() *pulse {
	if c.more == nil {
		return nil
	}
	return c.more.pulse
}

// followsBeats begins to follow the heartbeats of a connection that opened.
func (c *Client) followsBeats(e *Env, at, now mono.Time) {
	m := e.Trial.Crews[c.crew].Misbehaves(int(c.n))
	if e.Trial.Target.Promise != nil || m != nil {
		x := c.optional()
		if x.pulse == nil {
			x.pulse = &pulse{}
		}
		*x.pulse = pulse{heard: at, done: x.pulse.done}
		if m != nil && !x.pulse.done {
			x.pulse.begins = now.Add(m.After)
		}
	}
	if every := e.beatEvery(); every > 0 {
		c.optional().beatAt = now.Add(time.Duration(c.fraction() * float64(every)))
	}
}

// beatEvery is how often clients send a heartbeat unasked; 0: they do not.
func (e *Env) beatEvery() time.Duration {
	if b := &e.Trial.Dialect.Beat; b.Every > 0 {
		return b.Every
	}
	if p := e.Trial.Target.Promise; p != nil && p.Client {
		return p.Every
	}
	return 0
}

// beat answers the server's question for a sign of life. Only the latest needs an
// answer (RFC 6455 5.5.3): a server that does not read is not sent more of them.
func (c *Client) beat(e *Env, payload []byte, at, now mono.Time) {
	c.hearsBeat(e, at)
	if m := c.misconduct(); m != nil && c.answersWrongly(e, m, payload, at, now) {
		return
	}
	e.counts().Pings++
	e.record(c, at, lane.Beat, 0, 0)
	c.reply(e, payload)
}

// reply sends the answer to a ping.
func (c *Client) reply(e *Env, payload []byte) {
	if e.Queued == nil || e.Queued(c.id) < maxReplies {
		c.way.Reply(c.io(e), payload)
	}
}

// maxReplies is how many bytes may wait to be sent before beats are no longer
// answered.
const maxReplies = 64 << 10

// beatAnswer handles a message that is a sign of life of the server's, or asks for one, or
// answers one.
func (c *Client) beatAnswer(e *Env, at, now mono.Time) {
	answers := c.beatAnswered(e, at)
	answer := e.Trial.Dialect.Beat.Answer
	if !answers || answer != nil {
		c.hearsBeat(e, at)
	}
	if m := c.misconduct(); m != nil && answer != nil && c.answersWrongly(e, m, nil, at, now) {
		return
	}
	e.counts().Pings++
	e.record(c, at, lane.Beat, 0, 0)
	if answer != nil {
		c.send(e, now, answer)
	}
}

// pong handles the answer to a ping of the client's.
func (c *Client) pong(e *Env, at mono.Time) {
	c.beatAnswered(e, at) // if it was asked for: a pong is no heartbeat of the server's
	e.record(c, at, lane.Beat, 0, 0)
}

// beatAnswered books that a heartbeat of the client's is answered; false if none was open.
func (c *Client) beatAnswered(e *Env, at mono.Time) bool {
	p := c.pulse()
	if p == nil || p.asked == 0 {
		return false
	}
	page := e.Book.Now()
	page.Counts.Pulse.Answered++
	page.Times[logbook.RoundTrip].Record(max(0, at.Sub(p.asked)))
	p.asked = 0
	return true
}

// hearsBeat measures a heartbeat of the server's that came at an instant.
func (c *Client) hearsBeat(e *Env, at mono.Time) {
	p, promise := c.pulse(), e.Trial.Target.Promise
	switch {
	case p == nil || promise == nil || !promise.Server || p.heard == 0: // it is closing, at the last
		return
	case p.wrong.blind(): // what waited unread has no times of its own
		return
	}
	if c.pathBad(e, p.heard) { // it is the path's time, too
		p.heard, p.first = at, true
		return
	}
	page := e.Book.Now()
	counts := &page.Counts.Pulse
	counts.Beat(time.Duration(e.rel(at)), promise.Every)
	gap, slack := max(0, at.Sub(p.heard)), promise.Slack()
	p.heard = at
	lack := missing(gap, promise.Every)
	counts.Missing += lack
	if gap > promise.Every+slack {
		counts.Late++
	}
	if !p.first { // when it is due at the earliest nobody has said
		p.first = true
		return
	}
	page.Times[logbook.BeatInterval].Record(gap)
	if gap < promise.Every-slack && !promise.AnyData {
		counts.Early++
	}
	if lack == 0 {
		counts.Took += gap.Microseconds()
		counts.Promised += promise.Every.Microseconds()
	}
}

// missing is how many heartbeats should have come within a time, besides the one at its
// end.
func missing(gap, every time.Duration) int64 {
	return max(0, int64(math.Round(float64(gap)/float64(every)))-1)
}

// hearsAnything measures that something came, if that is as good as a heartbeat.
func (c *Client) hearsAnything(e *Env, at mono.Time) {
	if p := e.Trial.Target.Promise; p != nil && p.AnyData && c.phase == open {
		c.hearsBeat(e, at)
	}
}

// beatsEnd ends what is measured of a connection's heartbeats: what came until an instant
// was read.
func (c *Client) beatsEnd(e *Env, until mono.Time) {
	p, promise := c.pulse(), e.Trial.Target.Promise
	if p == nil {
		return
	}
	c.frees(e, e.now, excuse.NotReading, e.now) // whatever comes after this connection is read
	if promise == nil || p.heard == 0 {
		p.wrong, p.begins = nil, 0
		return
	}
	if promise.Server && !p.wrong.blind() && c.more.perSec == 0 && !c.pathBad(e, p.heard) {
		// one that is due now may come any moment
		if gap := until.Sub(p.heard); gap > promise.Every+promise.Every/2 {
			e.counts().Pulse.Missing += missing(gap, promise.Every)
		}
	}
	p.heard, p.asked, p.wrong, p.begins = 0, 0, nil, 0
}

// readUpTo is the time up to which what came was handed to the client.
func (e *Env) readUpTo() mono.Time {
	if e.ReadUpTo == nil {
		return e.now
	}
	return min(e.now, e.ReadUpTo())
}

// beatUnasked sends a sign of life, and says when the next one is due.
func (c *Client) beatUnasked(e *Env, now mono.Time) {
	every := e.beatEvery()
	m := c.misconduct()
	if c.phase != open || m != nil && m.how.Do.Still() {
		if promise := e.Trial.Target.Promise; m != nil && promise != nil && promise.Client {
			c.owesSince(e, m, c.more.beatAt)
		}
		c.more.beatAt = 0
		return
	}
	c.more.beatAt = nextBeat(c.more.beatAt, every, now)
	c.sendsBeat(e, now)
}

// nextBeat is when the beat after one is due. If the tool was late, beats are not sent in
// bunches.
func nextBeat(last mono.Time, every time.Duration, now mono.Time) mono.Time {
	if next := last.Add(every); next > now {
		return next
	}
	return now.Add(every)
}

// sendsBeat sends a sign of life that the server is to answer, or not, as the dialect says.
func (c *Client) sendsBeat(e *Env, now mono.Time) {
	b := &e.Trial.Dialect.Beat
	if b.Send != nil {
		c.fill(e)
		c.send(e, now, b.Send)
	} else if m, ok := c.way.(transport.Pinger); ok {
		m.Ping(c.io(e), beatPayload)
	} else {
		return
	}
	e.record(c, now, lane.Beat, 0, 0)
	p := c.pulse()
	if p == nil || e.Trial.Target.Promise == nil || b.Send != nil && (b.When == nil || b.Answer != nil) {
		return // nobody has said that it is answered
	}
	counts := &e.counts().Pulse
	if counts.Asked++; p.asked != 0 && !c.pathBad(e, p.asked) {
		counts.Unheard++
	}
	p.asked = now
}

// beatPayload is what stands in the clients' pings.
var beatPayload = []byte("tide")
