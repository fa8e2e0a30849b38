package standin

import (
	"fmt"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/wire/ws"
)

// A beat is something that is due for a connection about its signs of life.
type beat struct {
	id       int32
	life     uint64 // the connection's: one that comes after it may have its number
	evict    bool   // it is closed if it has not given a sign of life since; else it is pinged
	interval int    // how many intervals have gone by, of a ping
}

// startBeats begins to ping a connection: each at its own time, as it came.
func (l *loop) startBeats(id int32) {
	c := &l.conns[id]
	c.opened = l.drv.Now()
	l.pingLater(id, c, 1)
}

// pingLater has a connection pinged once so many intervals have gone by, as the switches
// have it.
func (l *loop) pingLater(id int32, c *conn, interval int) {
	s := l.board.Switches()
	every := time.Duration(float64(l.cfg.PingEvery) * (1 + s.Drift))
	at := c.opened.Add(time.Duration(interval) * every)
	if s.Bunch > 0 { // all of them at the same instant
		at = mono.Time(int64(c.opened)/int64(every)*int64(every) + int64(interval)*int64(every))
	}
	if s.Uneven > 0 {
		chance := s.Chance("uneven", fmt.Sprintf("%s %d", l.called(id), interval))
		at = at.Add(time.Duration((2*chance - 1) * s.Uneven * float64(every)))
	}
	l.dues.Put(at, beat{id: id, life: c.life, interval: interval})
}

// called is what the client of a connection calls itself; "" if it has not said.
func (l *loop) called(id int32) string {
	if v := l.conns[id].visit; v != nil {
		return l.board.NameOf(v.member)
	}
	return l.board.NameOf(member(id))
}

// beat pings those that are due, and evicts those that have not answered in time.
func (l *loop) beat(now mono.Time) {
	for {
		at, d, ok := l.dues.Take(now)
		if !ok {
			return
		}
		c := &l.conns[d.id]
		switch {
		case c.life != d.life || c.state != live:
		case d.evict:
			l.evict(d, at, c, now)
		default:
			l.ping(d.id, c, d.interval, now)
			l.pingLater(d.id, c, d.interval+1)
		}
	}
}

// ping asks a client for a sign of life, or gives one where nobody can be asked.
func (l *loop) ping(id int32, c *conn, interval int, now mono.Time) {
	s, t := l.board.Switches(), &l.board.Truth.Totals
	if s.Meets(s.MissBeat, "miss beat", fmt.Sprintf("%s %d", l.called(id), interval)) {
		t.Unbeaten++
		return
	}
	v := c.visit
	events := c.speaks == inEvents || c.speaks == inAnswers && v != nil && v.mode == "/events" && !v.holds
	switch {
	case events:
		t.Beats++
		l.drv.Write(id, []byte(":here\n\n"))
		return
	case c.speaks == inAnswers && (v == nil || v.mode != "/live"):
		return
	}
	t.Beats++
	c.pinged = now
	if c.asked == 0 {
		c.asked = now
		l.dues.Put(now.Add(l.cfg.PongWithin), beat{id: id, life: c.life, evict: true})
	}
	if l.cfg.Manners.Beat {
		l.drv.Write(id, ws.AppendFrame(nil, ws.OpText, []byte(`{"kind":"are you there"}`)))
		return
	}
	l.pong = ws.AppendFrame(l.pong[:0], ws.OpPing, []byte("board"))
	l.drv.Write(id, l.pong)
}

// evict closes a client that has not given a sign of life since it was asked for one.
func (l *loop) evict(d beat, at mono.Time, c *conn, now mono.Time) {
	s := l.board.Switches()
	who := l.called(d.id)
	switch {
	case c.asked == 0:
		return
	case c.asked.Add(l.cfg.PongWithin) > at: // it has answered, and was asked again
		l.dues.Put(c.asked.Add(l.cfg.PongWithin), beat{id: d.id, life: c.life, evict: true})
		return
	case s.Meets(s.NoEviction, "no eviction", who):
		l.board.Truth.Totals.Spared++
		c.asked = 0
		return
	}
	l.board.Truth.Evict(who, c.asked, now)
	l.sayClose(d.id, ws.ClosePolicy, "no answer to a ping")
	l.drop(d.id)
}

// gaveSign notes that something came from a client, which is a sign of life.
func (l *loop) gaveSign(id int32, c *conn) {
	c.heard = l.drv.Now()
	if s := l.board.Switches(); c.asked != 0 && !s.Meets(s.Hasty, "hasty", l.called(id)) {
		c.asked = 0
	}
}
