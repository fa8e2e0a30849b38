package transport

import (
	"errors"
	"unicode/utf8"

	"tidepull/internal/base/mono"
	"tidepull/internal/wire"
)

// Stream is a client's TCP connection on which a framing says where messages end: lines
// of text unless it says otherwise. Its zero value is idle. There are no beats, and a
// close has no answer: the connection just ends.
type Stream struct {
	Framing  *wire.Framing // of all clients; nil: lines
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
	m.endpoint, m.early, m.phase, m.deadline = &e, o.Early, connecting, deadline
	io.Lines[Main].Dial = m.endpoint
}

// Connected implements Machine.
func (m *Stream) Connected(io *IO, _ int) {
	if m.phase != connecting {
		return
	}
	m.phase, m.deadline, m.endpoint = open, mono.Never, nil
	io.event[Main] = Event{Kind: Opened}
	if m.early != nil {
		m.Say(io, m.early, false)
		m.early = nil
	}
}

// Take implements Machine.
func (m *Stream) Take(io *IO, _ int, b []byte) {
	if m.phase >= open {
		m.partial.take(io, Main, b)
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

// Next implements Machine. An empty line, or record, is no message.
func (m *Stream) Next(io *IO) Event {
	if io.waits(Main) {
		return io.waiting(Main)
	}
	f := m.framing()
	for m.phase >= open {
		b := io.taking[Main]
		message, n, err := f.Next(b, m.searched)
		if err != nil {
			return m.violated(io, err)
		}
		if n == 0 {
			m.searched = len(b)
			break
		}
		m.searched = 0
		io.consumed(Main, n)
		switch {
		case len(message) == 0 && f.Prefix == wire.NoPrefix:
		case f.Lines() && !utf8.Valid(message):
			return m.violated(io, noText)
		default:
			return Event{Kind: Message, Payload: message, Shared: n < len(b)}
		}
	}
	if !m.partial.keep(io, Main) && len(m.partial.bytes) > 0 {
		return m.violated(io, tooMuchHeld)
	}
	return Event{}
}

func (m *Stream) violated(io *IO, err error) Event {
	m.Drop(io)
	io.Lines[Main].Hangup = true
	return Event{Kind: Violated, Err: err}
}

// Lost implements Machine.
func (m *Stream) Lost(io *IO, _ int, err error) {
	if m.phase != idle {
		ev := m.phase.lost(err)
		m.Drop(io)
		io.event[Main] = ev
	}
}

// Expire implements Machine.
func (m *Stream) Expire(io *IO) {
	switch m.phase {
	case connecting:
		io.event[Main] = Event{Kind: Refused, Err: errors.New("no connection in time")}
	case closing:
		io.event[Main] = Event{Kind: Ended}
	default:
		return
	}
	m.Drop(io)
	io.Lines[Main].Hangup = true
}

// Say implements Machine.
func (m *Stream) Say(io *IO, payload []byte, _ bool) {
	if m.phase == open {
		io.Lines[Main].Out = m.framing().Append(io.Lines[Main].Out, payload)
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
		io.Lines[Main].Out = append(io.Lines[Main].Out, "caf\xe9 \xff\xfe\n"...)
	}
}

// Drop implements Machine.
func (m *Stream) Drop(io *IO) {
	m.partial.drop(io, Main)
	*m = Stream{Framing: m.Framing}
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
