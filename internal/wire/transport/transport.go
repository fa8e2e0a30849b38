// Package transport holds the ways in which a client exchanges messages with a
// server, as machines without sockets, clock or goroutines: bytes go in with the
// line that they came on, events come out, and what is to be sent, dialled and
// hung up is left in an IO.
//
// A client has one or more lines, each a connection to an endpoint of its own.
// Whoever owns the machine calls one of its methods when something happened, then
// Next until there are no more events, then does what the IO asks for.
package transport

import (
	"fmt"
	"math/rand/v2"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/base/plain"
	"tidepull/internal/wire"
	"tidepull/internal/wire/http1"
	"tidepull/internal/wire/ws"
)

// The lines of a client.
const (
	Main     = iota // of its transport
	Side            // of its session's HTTP requests
	Post            // of what it says, if its transport says things by requests
	NumLines        // how many there are
)

// An IO is what the machines of one loop share, one after the other: what the
// client at hand asks for, and the bytes that are being taken in. It has one
// owner, the loop, which does what is asked for and calls Clear.
type IO struct {
	Lines  [NumLines]Line
	Random *rand.PCG // of the client at hand
	Now    mono.Time
	// Held is how many bytes of messages that have come in part all machines
	// together hold; see maxHeld.
	Held int
	// Asked counts the HTTP requests of transports and sessions.
	Asked int
	// Flater packs and unpacks the messages of all WebSockets that agreed on that.
	Flater ws.Flater
	// WallOffset is what must be added to a mono.Time in nanoseconds to give the time since
	// 1970.
	WallOffset int64
	// Find, if set, gives the address of a place such as "http://quay.test:8080" that an
	// answer leads to; false if it is not known.
	Find func(place string) (wire.Endpoint, bool)

	packed []byte           // a message that is being said
	taking [NumLines][]byte // what has arrived and is not consumed
	event  [NumLines]Event  // that came of something other than bytes; Nothing if there is none
}

// Wall is the time of day.
func (io *IO) Wall() time.Time { return time.Unix(0, int64(io.Now)+io.WallOffset) }

// A Line is what is asked for of one of a client's connections.
type Line struct {
	Out []byte // to be sent
	// Ends are where datagrams in Out end; of a line of bytes there are none.
	Ends   []int
	Dial   *wire.Endpoint // connect there
	Hangup bool           // close it once Out is sent
	Abort  bool           // with Hangup: at once, by a reset
	Hold   bool           // read nothing of it for now
	Resume bool           // read on
	Unplug bool           // let nothing in that comes to it, as if the cable was cut
	Plug   bool           // let it in again
}

// Send hands what is to be sent to a driver's Write: all at once, or a datagram at a time.
// It reports false if something was not taken.
func (l *Line) Send(id int32, write func(id int32, b []byte) bool) bool {
	if len(l.Ends) == 0 {
		return len(l.Out) == 0 || write(id, l.Out)
	}
	began, all := 0, true
	for _, end := range l.Ends {
		all = write(id, l.Out[began:end]) && all
		began = end
	}
	return all
}

// Asks reports whether anything is asked for.
func (l *Line) Asks() bool {
	return len(l.Out) > 0 || l.Dial != nil || l.Hangup || l.Hold || l.Resume || l.Unplug || l.Plug
}

// Clear forgets what was asked for, and keeps the memory.
func (io *IO) Clear() {
	for i := range io.Lines {
		io.Lines[i] = Line{Out: io.Lines[i].Out[:0], Ends: io.Lines[i].Ends[:0]}
	}
}

// Asks reports whether anything is asked for, of any line.
func (io *IO) Asks() bool {
	for i := range io.Lines {
		if io.Lines[i].Asks() {
			return true
		}
	}
	return false
}

// Kind says what happened.
type Kind uint8

// The events.
const (
	Nothing  Kind = iota // no more events: more has to happen first
	Opened               // messages can be sent and come in
	Message              // with Payload
	Beat                 // the server asks for a sign of life; Reply with Payload is the answer
	Answered             // our close is answered: no message follows. Ended comes
	Ended                // the connection is over, after our own close; Err: what was not in order about that
	Refused              // it did not come to be open: Err says why
	Broken               // it was open, and is not any more: Err says why
	Violated             // the same, because the server broke the protocol
	Reply                // to an HTTP request: Head and Payload
	Failed               // an HTTP request: Err says why
	Headed               // an HTTP request that streams: Head, and content follows
	Part                 // of the content of one: Payload
	Paused               // a Pauser: nothing more comes, and everything that was said was taken
	Pong                 // the server answers a Ping, or gives a sign of life of that form unasked
	Sign                 // the server gives a sign of life that needs no answer
)

// An Event is something that happened.
type Event struct {
	Kind    Kind
	Binary  bool        // of a Message
	Shared  bool        // of a Message: later bytes came in the same read, and its stamp may be a later packet's
	Payload []byte      // borrowed until the next call of any method
	Head    *http1.Head // of an answer, as long as Payload
	At      mono.Time   // of Opened: when that was, if it was not when the last bytes came; else 0
	Err     error
}

// An Opening is what a transport needs to begin.
type Opening struct {
	Endpoint wire.Endpoint
	Host     string        // for the Host field
	Path     string        // of the request, if there is one
	Fields   []http1.Field // of the request
	// the content of a message that is sent before the server has agreed to anything; nil
	// if there is none
	Early []byte
	// Mangle, if it is set, changes the request before it is sent: a server must refuse it.
	Mangle func([]byte) []byte
	// Post is where what the client says goes, for transports that say things by requests;
	// "" is Path.
	Post string
	// Beside is where the datagrams of a Pair go.
	Beside wire.Endpoint
	Jar    *http1.Jar // the client's cookies; nil if it has none yet
	// Body says that what comes with a refusal is waited for, and is in the ws.Refusal.
	Body bool
	// Again says that the client was connected before: it comes back.
	Again bool
}

// A Machine is one client's transport.
type Machine interface {
	// Open begins to connect. Opened or Refused follows, by the deadline.
	Open(io *IO, o *Opening, deadline mono.Time)
	// Connected tells that a line is open: Main, or Post of a machine that asked for it.
	Connected(io *IO, line int)
	// Take takes in bytes that came on a line. They are the machine's until Next
	// has returned Nothing.
	Take(io *IO, line int, b []byte)
	// Lost tells that a line is gone.
	Lost(io *IO, line int, err error)
	// Expire tells that the deadline has come.
	Expire(io *IO)
	// Next gives what happened, one event after the other.
	Next(io *IO) Event
	// Say sends a message. It does nothing unless the transport is open, like all
	// below.
	Say(io *IO, payload []byte, binary bool)
	// Reply answers a Beat.
	Reply(io *IO, payload []byte)
	// Close ends the transport in order; Answered and Ended follow, or Ended alone.
	Close(io *IO, code uint16, reason string)
	// Malform sends something that breaks the protocol, by its name.
	Malform(io *IO, wrong string)
	// Drop forgets everything; what came in part is let go.
	Drop(io *IO)
	// Deadline is when Expire is to be called; mono.Never if nothing is waited for.
	Deadline() mono.Time
	// IsOpen reports whether messages can be sent.
	IsOpen() bool
}

// A Pauser is a Machine that can come to an end in between, so that another one takes
// over and nothing overtakes what comes over the first.
type Pauser interface {
	// Pause asks for nothing more. Paused follows once what was asked for and what was said
	// is answered. It reports false if the transport only ends when the server ends it.
	Pause(io *IO) bool
	// Resume goes on.
	Resume(io *IO)
}

// A Pacer is a Machine that does some things at times of its own: those do not wait for the server.
type Pacer interface {
	// Paces is when it does the next of them; mono.Never if there is none. Deadline is no later.
	Paces() mono.Time
}

// A Pinger is a Machine that can ask the server for a sign of life; Pong is the answer.
type Pinger interface{ Ping(io *IO, payload []byte) }

// A NotInTime is why a transport did not come to be open: nothing answered in time.
type NotInTime struct{ What string }

func (e *NotInTime) Error() string { return "no " + e.What + " in time" }

// A ServerClosed is why a connection broke that the server ended in order.
type ServerClosed struct {
	Code   uint16
	Reason string
}

func (s *ServerClosed) Error() string {
	if s.Reason == "" {
		return fmt.Sprintf("the server closed with code %d", s.Code)
	}
	return fmt.Sprintf("the server closed with code %d and said '%s'", s.Code, plain.Text(s.Reason, 120))
}
