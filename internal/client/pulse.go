package client

import (
	"math"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/excuse"
	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/logbook"
)

// A pulse is a client's heartbeats, and what it does wrong about them on purpose.
type pulse struct {
	beatAt mono.Time // when it sends a sign of life unasked; 0: it does not
	*beats           // nil if nothing is promised of heartbeats, and it behaves
}

// beats are those of one connection.
type beats struct {
	heard  mono.Time   // when the server's last one came, or the connection opened
	first  bool        // one has come
	behind bool        // one came late, and none in time since: those after it may make up for that
	before int         // bytes that came since the server's next one is due, before it
	asked  mono.Time   // when it last asked for one that has not come; 0: it has
	wrong  *misconduct // what it does wrong on purpose; nil: nothing
	begins mono.Time   // when it will begin to do so; 0: not on this connection
	done   bool        // it has misbehaved; it does so once
}

// follows begins to follow the heartbeats of a connection that opened.
func (p *pulse) follows(e *Env, at mono.Time) {
	m := e.Trial.Crews[e.c.crew].Misbehaves(int(e.c.n))
	if e.Trial.Target.Promise != nil || m != nil {
		done := p.beats != nil && p.done
		p.beats = &beats{done: done}
		if e.path.carriesBeats(e) {
			p.beats.heard = at
		}
		if m != nil && !done {
			p.beats.begins = e.now.Add(m.After)
		}
	}
	if every := e.beatEvery(); every > 0 {
		p.beatAt = e.now.Add(time.Duration(e.fraction() * float64(every)))
	}
}

// moves follows the heartbeats of the route that the client has changed over to.
func (p *pulse) moves(e *Env) {
	switch {
	case p.beats == nil:
	case !e.path.carriesBeats(e):
		p.heard = 0
	case p.heard == 0:
		p.heard, p.first, p.before = e.now, false, 0
	}
}

// due is when the client is to do something about heartbeats; mono.Never if nothing.
func (p *pulse) due() mono.Time {
	due := p.nextMisdeed()
	if p.beatAt != 0 {
		due = min(due, p.beatAt)
	}
	return due
}

// tick does what is due.
func (p *pulse) tick(e *Env) {
	if p.beatAt != 0 && p.beatAt <= e.now {
		p.beatUnasked(e)
	}
	if min(p.nextMisdeed(), p.verdictDue()) <= e.now {
		p.tickMisdeed(e)
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
func (p *pulse) beat(e *Env, payload []byte, at mono.Time) {
	p.hearsBeat(e, at)
	if m := p.misconduct(); m != nil && p.answersWrongly(e, m, payload, at) {
		return
	}
	e.counts().Pings++
	e.record(at, lane.Beat, 0, 0)
	p.reply(e, payload)
}

// reply sends the answer to a ping.
func (p *pulse) reply(e *Env, payload []byte) {
	if e.Queued == nil || e.Queued(e.c.id) < maxReplies {
		e.path.reply(e, payload)
	}
}

// maxReplies is how many bytes may wait to be sent before beats are no longer
// answered.
const maxReplies = 64 << 10

// beatAnswer handles a message that is a sign of life of the server's, or asks for one, or
// answers one.
func (p *pulse) beatAnswer(e *Env, at mono.Time) {
	answers := p.beatAnswered(e, at)
	answer := e.Trial.Dialect.Beat.Answer
	if !answers || answer != nil {
		p.hearsBeat(e, at)
	}
	if m := p.misconduct(); m != nil && answer != nil && p.answersWrongly(e, m, nil, at) {
		return
	}
	e.counts().Pings++
	e.record(at, lane.Beat, 0, 0)
	if answer != nil {
		e.path.send(e, answer)
	}
}

// pong handles the answer to a ping of the client's.
func (p *pulse) pong(e *Env, at mono.Time) {
	p.beatAnswered(e, at) // if it was asked for: a pong is no heartbeat of the server's
	e.record(at, lane.Beat, 0, 0)
}

// beatAnswered books that a heartbeat of the client's is answered; false if none was open.
func (p *pulse) beatAnswered(e *Env, at mono.Time) bool {
	if p.beats == nil || p.asked == 0 {
		return false
	}
	page := e.Book.Now()
	page.Counts.Pulse.Answered++
	page.Times[logbook.RoundTrip].Record(max(0, at.Sub(p.asked)))
	p.asked = 0
	return true
}

// hearsBeat measures a heartbeat of the server's that came at an instant.
func (p *pulse) hearsBeat(e *Env, at mono.Time) {
	promise := e.Trial.Target.Promise
	switch {
	case p.beats == nil || promise == nil || !promise.Server || p.heard == 0: // it is closing, at the last
		return
	case p.wrong.blind(): // what waited unread has no times of its own
		return
	}
	before := p.before
	p.before = 0
	if e.path.readSlowlySince(p.heard) { // one of them stood behind what was not read: when it came is not known
		p.heard, p.first, p.behind = at, false, false
		return
	}
	if e.pathBad(p.heard) { // it is the path's time, too
		p.heard, p.first = at, true
		return
	}
	page := e.Book.Now()
	counts := &page.Counts.Pulse
	counts.Beat(time.Duration(e.rel(at)), promise.Every)
	gap, slack := max(0, at.Sub(p.heard)), promise.Slack()
	p.heard = at
	lack, late := missing(gap, promise.Every), gap > promise.Every+slack
	if late && lack == 0 && before >= muchBefore { // it stood behind that: when it was sent is not known
		p.first, p.behind = true, true
		return
	}
	counts.Missing += lack
	makesUp := p.behind && gap < promise.Every-slack
	if late {
		counts.Late++
	}
	p.behind = late || makesUp
	if !p.first { // when it is due at the earliest nobody has said
		p.first = true
		return
	}
	page.Times[logbook.BeatInterval].Record(gap)
	if gap < promise.Every-slack && !promise.AnyData && !makesUp {
		counts.Early++
	}
	if lack == 0 {
		counts.Took += gap.Microseconds()
		counts.Promised += promise.Every.Microseconds()
	}
}

// muchBefore is so much, in bytes, that one heartbeat may have been late behind it, though the server sent it in time.
const muchBefore = 256 << 10

// missing is how many heartbeats should have come within a time, besides the one at its
// end.
func missing(gap, every time.Duration) int64 {
	return max(0, int64(math.Round(float64(gap)/float64(every)))-1)
}

// hearsAnything measures that so many bytes came: that may be as good as a heartbeat, or hold up one that is due.
func (p *pulse) hearsAnything(e *Env, bytes int, at mono.Time) {
	promise := e.Trial.Target.Promise
	if promise == nil {
		return
	}
	if p.beats != nil && p.heard != 0 && at.Sub(p.heard) > promise.Every {
		p.before += bytes
	}
	if promise.AnyData && e.path.is(open) {
		p.hearsBeat(e, at)
	}
}

// ends ends what is measured of a connection's heartbeats: what came until an instant
// was read.
func (p *pulse) ends(e *Env, until mono.Time) {
	promise := e.Trial.Target.Promise
	if p.beats == nil {
		return
	}
	e.frees(excuse.NotReading, e.now) // whatever comes after this connection is read
	if promise == nil || p.heard == 0 {
		p.wrong, p.begins = nil, 0
		return
	}
	if promise.Server && !p.wrong.blind() && !e.path.readSlowlySince(p.heard) && !e.pathBad(p.heard) {
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
func (p *pulse) beatUnasked(e *Env) {
	every := e.beatEvery()
	m := p.misconduct()
	if !e.path.is(open) || m != nil && m.how.Do.Still() {
		if promise := e.Trial.Target.Promise; m != nil && promise != nil && promise.Client {
			p.owesSince(e, m, p.beatAt)
		}
		p.beatAt = 0
		return
	}
	p.beatAt = nextBeat(p.beatAt, every, e.now)
	p.sendsBeat(e)
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
func (p *pulse) sendsBeat(e *Env) {
	b := &e.Trial.Dialect.Beat
	if b.Send != nil {
		e.fill()
		e.path.send(e, b.Send)
	} else if !e.path.ping(e, beatPayload) {
		return
	}
	e.record(e.now, lane.Beat, 0, 0)
	promise := e.Trial.Target.Promise
	if p.beats == nil || promise == nil || b.Send != nil && (b.When == nil || b.Answer != nil || promise.Server) {
		return // nobody has said that it is answered: what the server sends may be by itself, both ways
	}
	counts := &e.counts().Pulse
	if counts.Asked++; p.asked != 0 && !e.pathBad(p.asked) {
		counts.Unheard++
	}
	p.asked = e.now
}

// beatPayload is what stands in the clients' pings.
var beatPayload = []byte("tide")
