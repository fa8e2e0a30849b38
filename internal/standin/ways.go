package standin

import (
	"bytes"
	"fmt"
	"slices"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/wire/ws"
)

// A stalled opening is answered later.
type stalled struct {
	at      mono.Time
	id      int32
	request *request
}

// obstructed does what the switches say of a client that wants to come in; false if they
// say nothing of it. Which clients are met follows from the seed and from what they call
// themselves.
func (l *loop) obstructed(id int32, c *conn, r *request) bool {
	s, t := l.board.Switches(), &l.board.Truth.Totals
	key := r.url.Query().Get("client")
	who := key
	if who == "" {
		who = fmt.Sprintf("connection %d", id)
	}
	upgrade := r.url.Path == "/live"
	try := who // each try is refused by a die of its own, so that one that comes again may get in
	if upgrade && key != "" {
		l.upgrades[key]++
		try = fmt.Sprintf("%s, %d", key, l.upgrades[key])
	}
	stream := r.url.Path == "/events" || r.url.Path == "/lines"
	wait := s.Stall
	if s.SlowAccept > 0 && c.stalled == nil {
		now := l.drv.Now()
		l.admits = max(l.admits, now).Add(time.Second / time.Duration(s.SlowAccept))
		wait = max(wait, l.admits.Sub(now))
	}
	if wait > 0 && c.stalled == nil && r.url.Path != "/poll" {
		t.Stalled++
		c.state, c.stalled = stalling, r
		l.stall(stalled{l.drv.Now().Add(wait), id, r})
		return true
	}
	switch {
	case upgrade && s.Meets(s.RefuseUpgrade, "refuse upgrade", try),
		r.url.Path == "/poll" && s.Meets(s.RefusePoll, "refuse poll", who),
		stream && s.Meets(s.RefuseStream, "refuse stream", who):
		t.Turned++
		l.answer(id, r, 503, "text/plain", []byte("not this way\n"))
	case upgrade && s.Meets(s.StripUpgrade, "strip upgrade", who):
		t.Stripped++
		l.answer(id, r, 200, "text/html", []byte("<p>The harbour board.</p>\n"))
	default:
		return false
	}
	return true
}

// stall puts an opening among those that are answered later, by time.
func (l *loop) stall(s stalled) {
	i := len(l.stalled)
	for i > 0 && l.stalled[i-1].at > s.at {
		i--
	}
	l.stalled = slices.Insert(l.stalled, i, s)
}

// letStalledIn answers openings that are due.
func (l *loop) letStalledIn() {
	now := l.drv.Now()
	for len(l.stalled) > 0 && l.stalled[0].at <= now {
		s := l.stalled[0]
		l.stalled = l.stalled[1:]
		if c := &l.conns[s.id]; c.state == stalling && c.stalled == s.request {
			c.state = greeting
			l.comeIn(s.id, c, s.request)
			if c.state == stalling || c.state == greeting {
				c.stalled = nil
			}
		}
	}
}

// nextStalled is when an opening is to be answered.
func (l *loop) nextStalled() mono.Time {
	if len(l.stalled) == 0 {
		return mono.Never
	}
	return l.stalled[0].at
}

// besides handles what a client says over a WebSocket that it wants to change over to.
func (l *loop) besides(id int32, c *conn, payload []byte) {
	v := c.beside
	switch {
	case l.visits[v.key] != v:
		l.drop(id)
	case bytes.Contains(payload, []byte(`"probe"`)):
		l.drv.Write(id, ws.AppendFrame(nil, ws.OpText, []byte(`{"kind":"ready"}`)))
		if v.waiting != noConn && v.mode == "/poll" {
			l.answerPoll(v.waiting, v, true) // so that the client comes to its end there
		}
	case bytes.Contains(payload, []byte(`"switch"`)):
		l.board.Truth.Totals.Switched++
		if s := l.board.Switches(); s.Meets(s.LoseAtSwitch, "lose at switch", v.key) {
			v.queue, v.bytes = nil, 0
		}
		l.serveVisit(v) // what is there goes the old way
		if v.mode == "/lines" && v.waiting != noConn {
			l.drv.Write(v.waiting, []byte("0\r\n\r\n"))
		}
		l.detach(v)
		c.beside, c.visit = nil, v
		v.mode, v.waiting, v.holds = "/live", id, false
		l.serveVisit(v)
	}
}

// comesBeside lets a client in over a WebSocket that says who it is: as a new visit, or
// beside the one that it has.
func (l *loop) comesBeside(c *conn, id int32, r *request, key string) {
	l.agree(id, c, r)
	c.state, c.speaks = live, inFrames
	l.startBeats(id)
	if v := l.visits[key]; v != nil && v.mode != "/live" {
		c.beside = v
		return
	} else if v != nil { // it comes again: its old connection is over
		l.endVisit(v)
	}
	v := l.begin(key, r)
	v.mode, v.waiting, c.visit = "/live", id, v
	l.serveVisit(v)
}

// endStreams ends streams that have gone on for as long as they may.
func (l *loop) endStreams(v *visit, now mono.Time) {
	after := l.board.Switches().EndStreams
	if after == 0 || v.mode != "/events" || v.waiting == noConn || now.Sub(v.began) < after {
		return
	}
	l.board.Truth.Totals.Ended++
	l.detach(v)
	v.seen = now
}

// cutIdle cuts a connection over which nothing has gone for as long as may be.
func (l *loop) cutIdle(id int32, c *conn, now mono.Time) bool {
	after := l.board.Switches().CutIdle
	if after == 0 || c.state == free || now.Sub(max(c.heard, c.spoke, c.pinged)) < after {
		return false
	}
	l.board.Truth.Totals.Cut++
	l.hangUp(id)
	return true
}
