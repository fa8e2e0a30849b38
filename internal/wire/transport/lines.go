package transport

import (
	"bytes"
	"errors"
	"unicode/utf8"

	"tidepull/internal/base/mono"
	"tidepull/internal/wire"
	"tidepull/internal/wire/ws"
)

// Lines is a client's TCP connection on which each message is a line of text,
// ended by LF or CRLF. Its zero value is idle. There are no beats, and a close
// has no answer: the connection just ends.
type Lines struct {
	partial  partial
	searched int       // bytes at the front of what came in part in which no line ends
	deadline mono.Time // only while it waits for something
	phase    phase
	endpoint *wire.Endpoint // while it connects
	early    []byte
}

// Open implements Machine.
func (m *Lines) Open(io *IO, o *Opening, deadline mono.Time) {
	m.Drop(io)
	e := o.Endpoint
	m.endpoint, m.early, m.phase, m.deadline = &e, o.Early, connecting, deadline
	io.Lines[Main].Dial = m.endpoint
}

// Connected implements Machine.
func (m *Lines) Connected(io *IO) {
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
func (m *Lines) Take(io *IO, b []byte) {
	if m.phase >= open {
		m.partial.take(io, Main, b)
	}
}

// Next implements Machine. An empty line is no message.
func (m *Lines) Next(io *IO) Event {
	if io.waits(Main) {
		return io.waiting(Main)
	}
	for m.phase >= open {
		b := io.taking[Main]
		i := bytes.IndexByte(b[m.searched:], '\n')
		if i >= 0 {
			i += m.searched
		}
		if m.searched = 0; i < 0 {
			m.searched = len(b)
		}
		if i < 0 && len(b) <= ws.DefaultLimit {
			break
		}
		if i < 0 || i > ws.DefaultLimit {
			return m.violated(io, "the line is longer than 16 MiB")
		}
		io.consumed(Main, i+1)
		line := bytes.TrimSuffix(b[:i], []byte("\r"))
		switch {
		case len(line) == 0:
		case !utf8.Valid(line):
			return m.violated(io, "a line is no valid UTF-8")
		default:
			return Event{Kind: Message, Payload: line, Shared: i+1 < len(b)}
		}
	}
	if !m.partial.keep(io, Main) && len(m.partial.bytes) > 0 {
		return m.violated(io, tooMuchHeld.Rule)
	}
	return Event{}
}

func (m *Lines) violated(io *IO, rule string) Event {
	m.Drop(io)
	io.Lines[Main].Hangup = true
	return Event{Kind: Violated, Err: &wire.ProtocolError{Protocol: "lines", Rule: rule,
		Section: "a line is UTF-8, ended by LF"}}
}

// Lost implements Machine.
func (m *Lines) Lost(io *IO, err error) {
	if m.phase != idle {
		ev := m.phase.lost(err)
		m.Drop(io)
		io.event[Main] = ev
	}
}

// Expire implements Machine.
func (m *Lines) Expire(io *IO) {
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

// Say implements Machine. What would end the line is left out of it.
func (m *Lines) Say(io *IO, payload []byte, _ bool) {
	if m.phase != open {
		return
	}
	out := io.Lines[Main].Out
	for len(payload) > 0 {
		i := bytes.IndexAny(payload, "\r\n")
		if i < 0 {
			out = append(out, payload...)
			break
		}
		out, payload = append(out, payload[:i]...), payload[i+1:]
	}
	io.Lines[Main].Out = append(out, '\n')
}

// Reply implements Machine; there are no beats.
func (m *Lines) Reply(*IO, []byte) {}

// Close implements Machine: the connection ends once everything is sent.
func (m *Lines) Close(io *IO, _ uint16, _ string) {
	if m.phase == open {
		m.phase, m.deadline = closing, io.Now
	}
}

// Malform implements Machine: it sends what is no line of text.
func (m *Lines) Malform(io *IO, _ string) {
	if m.phase == open {
		io.Lines[Main].Out = append(io.Lines[Main].Out, "caf\xe9 \xff\xfe\n"...)
	}
}

// Drop implements Machine.
func (m *Lines) Drop(io *IO) {
	m.partial.drop(io, Main)
	*m = Lines{}
}

// Deadline implements Machine.
func (m *Lines) Deadline() mono.Time {
	if m.phase == idle {
		return mono.Never
	}
	return m.deadline
}

// IsOpen implements Machine.
func (m *Lines) IsOpen() bool { return m.phase == open }
