package transport

import (
	"fmt"

	"tidepull/internal/base/mono"
	"tidepull/internal/wire"
)

// Pair is two transports of one client at once: what is urgent goes in datagrams, the rest
// over the first, and what comes may come over either. It is open while both are; the
// datagrams go over line Post.
type Pair struct {
	first   Machine
	beside  Stream
	opening *Opening // while the datagrams' socket is opened
	until   mono.Time
}

// NewPair puts datagrams beside a transport that has no use for line Post.
func NewPair(over Machine, framing *wire.Framing) *Pair {
	return &Pair{first: over, beside: Stream{Framing: framing, Datagrams: true, line: Post}}
}

// Open implements Machine. The datagrams' socket comes first: it is no work for the server.
func (p *Pair) Open(io *IO, o *Opening, deadline mono.Time) {
	p.first.Drop(io)
	opening, beside := *o, Opening{Endpoint: o.Beside}
	beside.Endpoint.From = o.Endpoint.From
	p.opening, p.until = &opening, deadline
	p.beside.Open(io, &beside, deadline)
}

// Connected implements Machine.
func (p *Pair) Connected(io *IO, line int) {
	if line != Post {
		p.first.Connected(io, line)
		return
	}
	if p.beside.Connected(io, line); p.opening != nil {
		io.event[Post] = Event{} // it is not open before both are
		p.first.Open(io, p.opening, p.until)
		p.opening = nil
	}
}

// of is the transport that has a line.
func (p *Pair) of(line int) Machine {
	if line == Post {
		return &p.beside
	}
	return p.first
}

// Take implements Machine.
func (p *Pair) Take(io *IO, line int, b []byte) { p.of(line).Take(io, line, b) }

// Lost implements Machine.
func (p *Pair) Lost(io *IO, line int, err error) { p.of(line).Lost(io, line, err) }

// Expire implements Machine.
func (p *Pair) Expire(io *IO) {
	for _, m := range [...]Machine{p.first, &p.beside} {
		if m.Deadline() <= io.Now {
			m.Expire(io)
		}
	}
}

// Next implements Machine. If one of the two ends so does the other.
func (p *Pair) Next(io *IO) Event {
	ev := p.beside.Next(io)
	switch ev.Kind {
	case Nothing:
		ev = p.first.Next(io)
	case Refused, Broken, Violated:
		ev.Err = fmt.Errorf("the datagrams beside it: %w", ev.Err)
		if ev.Kind == Broken && !p.first.IsOpen() {
			ev.Kind = Refused // together they were not open yet
		}
	}
	switch ev.Kind {
	case Refused, Broken, Violated, Ended:
		p.Drop(io)
		io.Lines[Main].Hangup, io.Lines[Post].Hangup = true, true
	}
	return ev
}

// Say implements Machine.
func (p *Pair) Say(io *IO, payload []byte, binary bool) { p.first.Say(io, payload, binary) }

// SayUrgent sends a message in a datagram.
func (p *Pair) SayUrgent(io *IO, payload []byte) { p.beside.Say(io, payload, false) }

// Reply implements Machine.
func (p *Pair) Reply(io *IO, payload []byte) { p.first.Reply(io, payload) }

// Ping implements Pinger.
func (p *Pair) Ping(io *IO, payload []byte) {
	if m, ok := p.first.(Pinger); ok {
		m.Ping(io, payload)
	}
}

// Close implements Machine.
func (p *Pair) Close(io *IO, code uint16, reason string) { p.first.Close(io, code, reason) }

// Malform implements Machine.
func (p *Pair) Malform(io *IO, wrong string) { p.first.Malform(io, wrong) }

// Drop implements Machine.
func (p *Pair) Drop(io *IO) {
	p.first.Drop(io)
	p.beside.Drop(io)
	p.opening = nil
}

// Deadline implements Machine.
func (p *Pair) Deadline() mono.Time { return min(p.first.Deadline(), p.beside.Deadline()) }

// IsOpen implements Machine.
func (p *Pair) IsOpen() bool { return p.first.IsOpen() && p.beside.IsOpen() }
