// Package sim is a network in virtual time: drivers with connections that are
// queues in memory, with a clock that jumps to the next thing that happens.
// With it a whole run, clients and stand-in, takes as long as its computations
// do, and the same seed gives the same run.
package sim

import (
	"errors"
	"maps"
	"net/netip"
	"slices"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/engine/poll"
	"tidepull/internal/wire"
)

// A Net joins one listening driver and some dialling ones. The sides run in goroutines
// of their own, of which only one is awake at any moment: they hand the Net to each
// other in Wait. What happens at one instant comes to the listening side in an order
// that does not depend on how many dialling sides there are.
type Net struct {
	latency time.Duration
	join    time.Duration // what comes to a line between two multiples of it is handed over as one read; 0: each alone
	now     mono.Time
	sides   []*side // the listening one first
}

// A side is one of the drivers.
type side struct {
	net     *Net
	number  int // of the dialling side, from 0; -1: it listens
	begun   bool
	wake    chan struct{}
	until   mono.Time // when it wants to be woken at the latest
	inbox   []packet  // by time of arrival
	lines   map[int32]*line
	gone    map[int32]mono.Span // unplugged lines that were closed at the other end
	listens bool
	closed  bool
	nextID  int32
}

// A line is one end of a connection.
type line struct {
	peer  *line
	side  *side
	id    int32
	order int64 // of connections: the same for any number of dialling sides
	holds bool
	// unplugged: nothing comes in; ended says that the other end is gone meanwhile
	unplugged, ended bool
	held             []packet  // what came while it holds
	readAt           mono.Time // when it was last read
	sent             int       // bytes that the peer has not been handed
	// datagrams: nobody hears of the line before one comes, nor that the other end is gone
	// before one comes there
	datagrams bool
	known     bool // to the listening side
}

type packet struct {
	at   mono.Time
	to   *line
	what byte // 'o' opened, 'a' accepted, 'd' data, 'b' broke
	data []byte
}

// New makes a network in which everything takes the given time to arrive.
func New(latency time.Duration) (listening, dialling poll.Driver) {
	return NewJoining(latency, 0)
}

// NewJoining is New with a dialling side that is behind: it reads at the multiples
// of join alone, and what came to a line in between has the time of the last of it.
func NewJoining(latency, join time.Duration) (listening, dialling poll.Driver) {
	l, d := NewShared(latency, join, 1)
	return l, d[0]
}

// NewShared is NewJoining with several dialling sides. Side i of n has the clients i,
// i+n, i+2n and so on of all clients, as its lines 0, 1, 2.
func NewShared(latency, join time.Duration, n int) (listening poll.Driver, dialling []poll.Driver) {
	net := &Net{latency: latency, join: join}
	for i := range n + 1 {
		s := &side{net: net, number: i - 1, wake: make(chan struct{}, 1), lines: map[int32]*line{},
			gone: map[int32]mono.Span{}}
		net.sides = append(net.sides, s)
		if i > 0 {
			dialling = append(dialling, s)
		}
	}
	net.sides[1].begun = true
	return net.sides[0], dialling
}

// begin waits until it is this side's turn for the first time. The first dialling side
// begins.
func (s *side) begin() {
	if !s.begun {
		<-s.wake
		s.begun = true
	}
}

func (s *side) CaughtUp() mono.Time    { return s.Now() }
func (s *side) KernelTimes() bool      { return true }
func (s *side) Blocked() time.Duration { return time.Duration(s.Now()) }

// Now implements poll.Driver. Before the side's first turn it is the start.
func (s *side) Now() mono.Time {
	if !s.begun {
		return 0
	}
	return s.net.now
}

// Listen implements poll.Driver; there is only one address.
func (s *side) Listen(at netip.AddrPort) (netip.AddrPort, error) {
	s.listens = true
	return at, nil
}

// ListenDatagrams implements poll.Driver; there is only one address.
func (s *side) ListenDatagrams(at netip.AddrPort) (netip.AddrPort, error) { return s.Listen(at) }

// IsDatagrams implements poll.Driver.
func (s *side) IsDatagrams(id int32) bool { return s.lines[id] != nil && s.lines[id].datagrams }

// Dropped implements poll.Driver.
func (s *side) Dropped() int { return 0 }

// Dial implements poll.Driver.
func (s *side) Dial(id int32, to wire.Endpoint) error {
	s.begin()
	delete(s.gone, id)
	server := s.net.sides[0]
	if !server.listens || server.closed {
		return errors.New("sim: nobody listens")
	}
	order := int64(id)*int64(len(s.net.sides)-1) + int64(s.number)
	near, far := &line{side: s, id: id, order: order}, &line{side: server, order: order}
	near.peer, far.peer = far, near
	s.lines[id] = near
	if near.datagrams, far.datagrams = to.Datagrams, to.Datagrams; to.Datagrams {
		s.post(packet{at: s.net.now, to: near, what: 'o'})
		return nil
	}
	server.post(packet{at: s.net.now.Add(s.net.latency), to: far, what: 'a'})
	s.post(packet{at: s.net.now.Add(2 * s.net.latency), to: near, what: 'o'})
	return nil
}

// post puts a packet into the inbox, which stays ordered by time, and for the listening
// side by connection: everything takes equally long, but for the opening, which is the
// round trip.
func (s *side) post(p packet) {
	i := len(s.inbox)
	for i > 0 && (s.inbox[i-1].at > p.at || s.listens && s.inbox[i-1].at == p.at &&
		s.inbox[i-1].to.order > p.to.order) {
		i--
	}
	s.inbox = append(s.inbox, packet{})
	copy(s.inbox[i+1:], s.inbox[i:])
	s.inbox[i] = p
}

// Queued implements poll.Driver: what the other side has not been handed waits.
func (s *side) Queued(id int32) (n int) {
	if id != poll.All {
		if l := s.lines[id]; l != nil {
			return l.sent
		}
		return 0
	}
	for _, l := range s.lines {
		n += l.sent
	}
	return n
}

// Write implements poll.Driver.
func (s *side) Write(id int32, b []byte) bool {
	s.begin()
	l := s.lines[id]
	if l != nil && (len(b) > 0 || l.datagrams) {
		if l.datagrams && !s.listens && !l.peer.known {
			l.peer.known = true
			l.peer.side.post(packet{at: s.net.now.Add(s.net.latency), to: l.peer, what: 'a'})
		}
		l.sent += len(b)
		l.peer.side.post(packet{at: s.net.now.Add(s.net.latency), to: l.peer, what: 'd',
			data: append([]byte(nil), b...)})
	}
	return l != nil
}

// Hold implements poll.Driver.
func (s *side) Hold(id int32, on bool) {
	if l := s.lines[id]; l != nil && l.holds != on {
		l.holds = on
		if !on {
			for _, p := range l.held {
				s.post(p) // it came when it came
			}
			l.held = nil
		}
	}
}

// OnWire implements poll.Wire.
func (s *side) OnWire() {}

// Unplug implements poll.Driver: what is on its way to the line is gone.
func (s *side) Unplug(id int32, on bool) bool {
	if l := s.lines[id]; l != nil {
		l.unplugged = on
		if !on && l.ended {
			s.post(packet{at: s.net.now.Add(s.net.latency), to: l, what: 'b'})
		}
	}
	return true
}

// Gone implements poll.Driver.
func (s *side) Gone(id int32) mono.Span { return s.gone[id] }

// Reserve implements poll.Driver; neither side both listens and dials.
func (s *side) Reserve() int32 { return -1 }

// CloseWrite implements poll.Driver; there are no halves here.
func (s *side) CloseWrite(id int32) { s.Hangup(id) }

// Hangup implements poll.Driver.
func (s *side) Hangup(id int32) {
	if l := s.lines[id]; l != nil {
		delete(s.lines, id)
		if l.datagrams {
			if s.listens { // the next one from there is of somebody new
				l.peer.peer = &line{side: s, order: l.order, peer: l.peer, datagrams: true}
			}
			return
		}
		l.peer.side.post(packet{at: s.net.now.Add(s.net.latency), to: l.peer, what: 'b'})
	}
}

// Abort implements poll.Driver.
func (s *side) Abort(id int32) { s.Hangup(id) }

// CloseWhenFlushed implements poll.Driver.
func (s *side) CloseWhenFlushed(id int32) { s.Hangup(id) }

// Wake implements poll.Driver. It is for the side that is at work: everything else
// stands still.
func (s *side) Wake() { s.until = min(s.until, s.net.now) }

// Wait implements poll.Driver: it hands over to whichever side has something
// to do first, and moves the clock there.
func (s *side) Wait(until mono.Time, h poll.Handler) error {
	s.begin()
	s.until = max(until, s.net.now)
	s.handOver()
	s.net.now = max(s.net.now, s.next())
	for n := 0; n < 256 && len(s.inbox) > 0 && s.readAt(s.inbox[0].at) <= s.net.now; n++ {
		p := s.inbox[0]
		s.inbox = s.inbox[1:]
		s.handle(p, h)
	}
	s.until = mono.Never
	return nil
}

// handOver lets the side go on that has something to do first, and comes back when that
// is this one.
func (s *side) handOver() {
	for {
		first := s.net.first()
		if first == s || first == nil {
			return
		}
		first.wake <- struct{}{}
		<-s.wake
	}
}

// first is the side that has something to do first.
func (n *Net) first() (first *side) {
	for _, s := range n.sides {
		if !s.closed && (first == nil || s.next() < first.next()) {
			first = s
		}
	}
	return first
}

// next is when the side has something to do.
func (s *side) next() mono.Time {
	if len(s.inbox) > 0 {
		return min(s.until, s.readAt(s.inbox[0].at))
	}
	return s.until
}

// readAt is when something is read that arrived at an instant.
func (s *side) readAt(at mono.Time) mono.Time {
	if s.net.join == 0 || s.listens {
		return at
	}
	q := mono.Time(s.net.join)
	return (at + q - 1) / q * q
}

// joined takes what else has come to a packet's line out of the inbox, up to
// something other than data, and gives it all as one read.
func (s *side) joined(p packet) (data []byte, came mono.Span) {
	data, came = p.data, mono.At(p.at)
	if s.net.join == 0 || s.listens || p.to.datagrams {
		return data, came
	}
	came.From = p.to.readAt
	p.to.readAt = s.net.now
	rest := s.inbox[:0]
	ended := false
	for _, q := range s.inbox {
		if q.to != p.to || q.at > s.net.now || q.what != 'd' || ended {
			ended = ended || q.to == p.to
			rest = append(rest, q)
			continue
		}
		data, came.To = append(data, q.data...), q.at
		p.to.peer.sent -= len(q.data)
	}
	s.inbox = rest
	return data, came
}

func (s *side) handle(p packet, h poll.Handler) {
	switch {
	case p.what == 'a':
		p.to.id = s.nextID
		s.nextID++
		s.lines[p.to.id] = p.to
		h.Accepted(p.to.id)
	case s.lines[p.to.id] != p.to: // hung up in the meantime
		if p.what == 'd' && p.to.datagrams && !s.listens {
			p.to.peer.side.post(packet{at: s.net.now.Add(s.net.latency), to: p.to.peer, what: 'b'})
		}
	case p.to.unplugged:
		if p.what == 'b' { // which its system is told again
			p.to.ended = true
			s.gone[p.to.id] = mono.At(p.at.Add(-s.net.latency))
		}
	case p.to.holds:
		p.to.held = append(p.to.held, p)
	case p.what == 'o':
		h.Opened(p.to.id)
	case p.what == 'd':
		p.to.peer.sent -= len(p.data)
		data, came := s.joined(p)
		h.Data(p.to.id, data, came)
	case p.what == 'b':
		delete(s.lines, p.to.id)
		h.Broke(p.to.id, poll.ErrEnded)
	}
}

// Begin blocks until it is a side's turn for the first time. What does not begin with a
// Wait calls it.
func Begin(d poll.Driver) { d.(*side).begin() }

// Close implements poll.Driver.
func (s *side) Close() error {
	s.begin()
	s.closed = true
	for _, id := range slices.Sorted(maps.Keys(s.lines)) {
		s.Hangup(id)
	}
	if next := s.net.first(); next != nil {
		next.wake <- struct{}{}
	}
	return nil
}
