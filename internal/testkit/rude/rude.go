// Package rude is test support: servers that do what no server should, for
// proving that nothing hangs and nothing grows whatever comes. Each is a small
// behaviour behind a WebSocket handshake, on any driver: in virtual time or over
// real sockets.
package rude

import (
	"net/netip"
	"sync/atomic"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/engine/poll"
	"tidepull/internal/wire/http1"
	"tidepull/internal/wire/ws"
)

// A Server behaves in one way to all its clients. A nil part does what a decent
// server would: agree, say nothing, answer a close.
type Server struct {
	Name  string
	Does  string                              // in words
	Shake func(c *Conn, h *http1.Head)        // instead of agreeing
	Open  func(c *Conn)                       // right after it agreed
	Frame func(c *Conn, op byte, text []byte) // for each message and control frame; true if it is done with it
	Tick  func(c *Conn, n int)                // every millisecond, with how many there were
	Deaf  bool                                // it reads nothing after the handshake
	N     int                                 // free for the behaviour
	Most  int                                 // bytes that may wait to be sent on one connection; 1 MiB if it is 0
}

// A Conn is one client's connection.
type Conn struct {
	s      *running
	id     int32
	in     []byte
	open   bool
	reader ws.Reader
	ticks  int
	Names  map[string]bool // free for the behaviour
	Name   string
	Room   string
	N      int // free for the behaviour
}

// Send sends bytes as they are.
func (c *Conn) Send(b []byte) { c.s.drv.Write(c.id, b) }

// Text sends a text message.
func (c *Conn) Text(s string) { c.Send(ws.AppendFrame(nil, ws.OpText, []byte(s))) }

// All sends a text message to every open connection.
func (c *Conn) All(s string) {
	for id := range int32(len(c.s.conns)) {
		if o := c.s.conns[id]; o != nil && o.open {
			o.Text(s)
		}
	}
}

// Others calls f with every other open connection.
func (c *Conn) Others(f func(*Conn)) {
	for _, o := range c.s.conns {
		if o != nil && o.open && o != c {
			f(o)
		}
	}
}

// Close sends a close frame.
func (c *Conn) Close(code uint16, reason string) {
	c.Send(ws.AppendFrame(nil, ws.OpClose, ws.AppendClosePayload(nil, code, reason)))
}

// Hangup ends the connection without a word.
func (c *Conn) Hangup() {
	c.s.drv.Hangup(c.id)
	c.open = false
	c.s.conns[c.id] = nil
}

// canSend reports whether so little waits to be sent that a flood may go on: it
// is not the server that is to grow.
func (c *Conn) canSend() bool { return c.s.drv.Queued(c.id) < c.s.server.Most }

type running struct {
	server *Server
	drv    poll.Driver
	conns  []*Conn
	stop   atomic.Bool
	next   mono.Time
}

// Serve serves on a driver that listens already, until stop is called from
// another goroutine. begin, if it is given, is called first.
func (s *Server) Serve(drv poll.Driver, begin func()) (stop func()) {
	if s.Most == 0 {
		s.Most = 1 << 20
	}
	r := &running{server: s, drv: drv}
	done := make(chan struct{})
	go func() {
		defer close(done)
		defer drv.Close()
		if begin != nil {
			begin()
		}
		r.next = drv.Now()
		for !r.stop.Load() {
			until := drv.Now().Add(50 * time.Millisecond)
			if s.Tick != nil {
				until = min(until, r.next)
			}
			if drv.Wait(until, r) != nil {
				return
			}
			r.tick()
		}
	}()
	return func() {
		r.stop.Store(true)
		<-done
	}
}

// Listen serves on a free port of the loopback and returns its address.
func (s *Server) Listen() (url string, stop func(), err error) {
	drv, err := poll.New()
	if err != nil {
		return "", nil, err
	}
	at, err := drv.Listen(netip.MustParseAddrPort("127.0.0.1:0"))
	if err != nil {
		return "", nil, err
	}
	return "ws://" + at.String() + "/live", s.Serve(drv, nil), nil
}

func (r *running) tick() {
	if r.server.Tick == nil || r.drv.Now() < r.next {
		return
	}
	r.next = r.drv.Now().Add(time.Millisecond)
	for _, c := range r.conns {
		if c != nil && c.open {
			c.ticks++
			r.server.Tick(c, c.ticks)
		}
	}
}

func (r *running) Accepted(id int32) {
	for int(id) >= len(r.conns) {
		r.conns = append(r.conns, nil)
	}
	r.conns[id] = &Conn{s: r, id: id, reader: ws.Reader{FromPeer: ws.Client, Limit: 64 << 20}, Names: map[string]bool{}}
}

func (r *running) Opened(int32) {}

func (r *running) Broke(id int32, _ error) { r.conns[id] = nil }

func (r *running) Data(id int32, b []byte, _ mono.Span) {
	c := r.conns[id]
	if c == nil {
		return
	}
	c.in = append(c.in, b...)
	if !c.open {
		h, n, err := http1.ConsumeRequest(c.in)
		if n == 0 || err != nil {
			return
		}
		c.in = c.in[n:]
		if r.server.Shake != nil {
			r.server.Shake(c, &h)
			return
		}
		c.Agree(&h)
	}
	if r.server.Deaf {
		c.in = nil
		r.drv.Hold(id, true)
		return
	}
	for r.conns[id] == c && c.open {
		ev, n, err := c.reader.Next(c.in)
		if err != nil || n == 0 {
			return
		}
		c.in = c.in[n:]
		if ev.Op == 0 {
			continue
		}
		if r.server.Frame != nil {
			r.server.Frame(c, ev.Op, ev.Payload)
		} else if ev.Op == ws.OpClose {
			c.Close(ws.CloseNormal, "")
			c.s.drv.CloseWhenFlushed(id)
			r.conns[id] = nil
		}
	}
}

// Agree answers the handshake as it should be.
func (c *Conn) Agree(h *http1.Head, more ...http1.Field) {
	c.Send(ws.AppendAgreement(nil, h.Get("Sec-WebSocket-Key"), more...))
	c.open = true
	if c.s.server.Open != nil {
		c.s.server.Open(c)
	}
}
