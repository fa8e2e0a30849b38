package transport

import (
	"fmt"
	"time"
	"unicode/utf8"

	"tidepull/internal/base/mono"
	"tidepull/internal/wire"
)

// Stream is a client's TCP connection on which a framing says where messages end: lines
// of text unless it says otherwise. Its zero value is idle. There are no beats, and a
// close has no answer: the connection just ends.
//
// With Datagrams it is a UDP socket (RFC 768): a datagram holds whole messages. That it is
// open says nothing; First is how soon something must come after that, 0: nothing need.
type Stream struct {
	Framing   *wire.Framing // of all clients; nil: lines
	Datagrams bool
	First     time.Duration

	line     int // Main, or Post beside another transport
	partial  partial
	searched int       // bytes at the front of what came in part in which no line ends
	deadline mono.Time // only while it waits for something
	phase    phase
	endpoint *wire.Endpoint // while it connects
	early    []byte
}

// Open implements Machine.
func (m *Stream) Open(io *IO, o *Opening, deadline mono.Time) {
	m.Drop(io)
	e := o.Endpoint
	e.Datagrams = m.Datagrams
	m.endpoint, m.early, m.phase, m.deadline = &e, o.Early, connecting, deadline
	io.Lines[m.line].Dial = m.endpoint
}

// Connected implements Machine.
func (m *Stream) Connected(io *IO, _ int) {
	if m.phase != connecting {
		return
	}
	m.phase, m.deadline, m.endpoint = open, mono.Never, nil
	if m.First > 0 {
		m.deadline = io.Now.Add(m.First)
	}
	io.event[m.line] = Event{Kind: Opened}
	if m.early != nil {
		m.Say(io, m.early, false)
		m.early = nil
	}
}

// Take implements Machine.
func (m *Stream) Take(io *IO, _ int, b []byte) {
	if m.phase >= open {
		m.partial.take(io, m.line, b)
	}
}

var lines wire.Framing

// noText is why a transport of lines ends.
var noText = &wire.ProtocolError{Protocol: "lines", Rule: "a line is no valid UTF-8",
	Section: "a line is UTF-8, ended by LF"}

func (m *Stream) framing() *wire.Framing {
	if m.Framing == nil {
		return &lines
	}
	return m.Framing
}

// Next implements Machine. An empty line, or record, is no message, but a sign of life.
func (m *Stream) Next(io *IO) Event {
	if io.waits(m.line) {
		return io.waiting(m.line)
	}
	f := m.framing()
	for m.phase >= open {
		b := io.taking[m.line]
		if b == nil {
			return Event{} // it is moved on by something else
		}
		message, n, err := f.Next(b, m.searched)
		if err != nil {
			return m.violated(io, err)
		}
		if n == 0 && m.Datagrams && len(b) > 0 {
			rest, ok := f.Rest(b)
			if !ok {
				return m.violated(io, cutShort)
			}
			message, n = rest, len(b)
		}
		if n == 0 {
			m.searched = len(b)
			break
		}
		m.searched = 0
		io.consumed(m.line, n)
		if m.First > 0 && m.phase == open {
			m.deadline = mono.Never // something has come
		}
		switch {
		case len(message) == 0 && m.Datagrams:
		case len(message) == 0 && f.Prefix == wire.NoPrefix:
			return Event{Kind: Sign}
		case f.Lines() && !utf8.Valid(message):
			return m.violated(io, noText)
		default:
			return Event{Kind: Message, Payload: message, Shared: n < len(b) && !m.Datagrams}
		}
	}
	if !m.partial.keep(io, m.line) && len(m.partial.bytes) > 0 {
		return m.violated(io, tooMuchHeld)
	}
	return Event{}
}

func (m *Stream) violated(io *IO, err error) Event {
	m.Drop(io)
	io.Lines[m.line].Hangup = true
	return Event{Kind: Violated, Err: err}
}

// cutShort is why a transport of datagrams ends.
var cutShort = &wire.ProtocolError{Protocol: "udp", Rule: "a datagram ends in the middle of a message",
	Section: "a length in front of each message"}

// Lost implements Machine.
func (m *Stream) Lost(io *IO, _ int, err error) {
	if m.phase != idle {
		ev := m.phase.lost(err)
		m.Drop(io)
		io.event[m.line] = ev
	}
}

// Expire implements Machine.
func (m *Stream) Expire(io *IO) {
	switch {
	case m.phase == connecting:
		io.event[m.line] = Event{Kind: Refused, Err: &NotInTime{"connection"}}
	case m.phase == closing:
		io.event[m.line] = Event{Kind: Ended}
	case m.phase == open && m.deadline != mono.Never:
		io.event[m.line] = Event{Kind: Broken, Err: fmt.Errorf("nothing came in %v", m.First)}
	default:
		return
	}
	m.Drop(io)
	io.Lines[m.line].Hangup = true
}

// Say implements Machine.
func (m *Stream) Say(io *IO, payload []byte, _ bool) {
	if m.phase == open {
		w := &io.Lines[m.line]
		w.Out = m.framing().Append(w.Out, payload)
		if m.Datagrams {
			w.Ends = append(w.Ends, len(w.Out))
		}
	}
}

// Reply implements Machine; there are no beats.
func (m *Stream) Reply(*IO, []byte) {}

// Close implements Machine: the connection ends once everything is sent.
func (m *Stream) Close(io *IO, _ uint16, _ string) {
	if m.phase == open {
		m.phase, m.deadline = closing, io.Now
	}
}

// Malform implements Machine: it sends what is no line of text, or no length.
func (m *Stream) Malform(io *IO, _ string) {
	if m.phase == open {
		w := &io.Lines[m.line]
		w.Out = append(w.Out, "caf\xe9 \xff\xfe\n"...)
		if m.Datagrams {
			w.Ends = append(w.Ends, len(w.Out))
		}
	}
}

// Drop implements Machine.
func (m *Stream) Drop(io *IO) {
	m.partial.drop(io, m.line)
	*m = Stream{Framing: m.Framing, Datagrams: m.Datagrams, First: m.First, line: m.line}
}

// Deadline implements Machine.
func (m *Stream) Deadline() mono.Time {
	if m.phase == idle {
		return mono.Never
	}
	return m.deadline
}

// IsOpen implements Machine.
func (m *Stream) IsOpen() bool { return m.phase == open }
