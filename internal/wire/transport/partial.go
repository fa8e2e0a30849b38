package transport

import (
	"tidepull/internal/wire"
	"tidepull/internal/wire/ws"
)

// maxHeld bounds what all clients of a loop together hold of messages that have
// come in part, in bytes.
const maxHeld = 128 << 20

var tooMuchHeld = &wire.ProtocolError{Protocol: "websocket", Rule: "all clients together hold 128 MiB of messages " +
	"that are not whole yet", Section: "RFC 6455 7.4.1", Code: ws.CloseTooBig}

// A partial holds what has come of a message that is not whole yet.
type partial struct{ bytes []byte }

// take makes what came before, and b, what is being taken in from a line.
func (p *partial) take(io *IO, line int, b []byte) {
	if len(p.bytes) > 0 {
		io.Held += len(b)
		p.bytes = append(p.bytes, b...)
		b = p.bytes
	}
	io.taking[line] = b
}

// consumed takes n bytes off what is being taken in.
func (io *IO) consumed(line, n int) { io.taking[line] = io.taking[line][n:] }

// keep keeps what is left until more comes; false means that all machines
// together hold more than they may. If nothing was taken in from the line, what came before
// stays: a machine is also moved on by what happens on its other line, and by the clock.
func (p *partial) keep(io *IO, line int) bool {
	rest := io.taking[line]
	if rest == nil {
		return true
	}
	io.taking[line] = nil
	switch had := len(p.bytes); {
	case len(rest) == 0:
		io.Held -= had
		p.bytes = nil
	case had == len(rest): // all of it waits for more; it is not copied onto itself
	default:
		io.Held += len(rest) - had
		p.bytes = append(p.bytes[:0], rest...)
	}
	return io.Held <= maxHeld
}

// drop lets go of everything.
func (p *partial) drop(io *IO, line int) {
	io.Held -= len(p.bytes)
	io.taking[line], p.bytes = nil, nil
}

// waits reports whether an event waits to be told.
func (io *IO) waits(line int) bool { return io.event[line].Kind != Nothing }

// waiting gives that event.
func (io *IO) waiting(line int) Event {
	ev := io.event[line]
	io.event[line] = Event{}
	return ev
}
