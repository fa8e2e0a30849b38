// Package poll moves bytes between many sockets and one owner: a Driver hands
// what arrives to a Handler, with the time at which it was in the kernel.
//
// There are two drivers with the same behaviour. newEpoll, on Linux, serves all
// sockets from one goroutine and takes arrival times from the kernel.
// NewPortable, everywhere, uses the net package with a goroutine per socket;
// its arrival times are those at which the goroutine got the bytes. New picks
// the better one.
//
// A Driver belongs to the goroutine that calls it. No other
// package knows the system calls of sockets.
package poll

import (
	"errors"
	"net/netip"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/wire"
)

// A Driver owns sockets, each known by a small number that its user picks
// (Dial) or that it picks itself (accepted ones).
type Driver interface {
	// Now reads the clock that arrivals are stamped with.
	Now() mono.Time
	// Dial begins to connect id, which must be free. Opened or Broke follows. An
	// error, here or there, that this machine caused itself is a *wire.Shortage.
	Dial(id int32, to wire.Endpoint) error
	// Listen accepts connections at an address; port 0 picks a free one. It
	// returns the address. A driver that listens picks all numbers: it may Dial
	// those that Reserve gives.
	Listen(at netip.AddrPort) (netip.AddrPort, error)
	// ListenDatagrams is Listen for UDP, beside it or instead: whoever sends a datagram
	// is a connection, and so is what comes from the same address after it.
	ListenDatagrams(at netip.AddrPort) (netip.AddrPort, error)
	// IsDatagrams reports whether an open connection is one of datagrams: each Write is
	// one, and each Data.
	IsDatagrams(id int32) bool
	// Dropped is how many datagrams this machine has dropped in all, because they were
	// not read as fast as they came. It is 0 if the system does not say.
	Dropped() int
	// Reserve gives a free number for Dial, on a driver that listens.
	Reserve() int32
	// Write sends b, which is the caller's again when Write returns. What the
	// kernel does not take at once is queued. Writing to an id that is not
	// open does nothing. A datagram that is too long, or for which there is no memory, is
	// not sent. It reports false if nothing of b was taken, as the connection
	// is gone already; that it broke is told later all the same.
	Write(id int32, b []byte) bool
	// Queued is how many bytes of an id wait for the kernel to take them; of all
	// together for All.
	Queued(id int32) int
	// Hold stops reading from id, or goes on with it. Something that was on its
	// way to the owner may still be handed over.
	Hold(id int32, on bool)
	// Unplug drops all that is sent to id before it arrives, as if its cable was cut: the
	// other side's system gets no sign that anything came. Without on it is let in again.
	// It reports false if that cannot be done here.
	Unplug(id int32, on bool) bool
	// Gone is when the other side closed a connection that was unplugged while it was: after
	// From and not after To. It is kept until id is dialled again; zero if it is not known, as
	// the other side is not on this machine, or has not closed it.
	Gone(id int32) mono.Span
	// Hangup closes id at once. The Handler hears no more of it.
	Hangup(id int32)
	// Abort is Hangup, and tells the other side so by a reset, if there is a way to: what
	// it had not read is gone.
	Abort(id int32)
	// CloseWhenFlushed closes id once its queue is empty.
	CloseWhenFlushed(id int32)
	// CloseWrite tells the other side, once id's queue is empty, that nothing more
	// will be sent; what it sends still comes.
	CloseWrite(id int32)
	// Wait blocks until something happens or until the given time, tells the
	// handler what happened, and returns. One call handles a bounded number of
	// events, so that the caller comes to its timers.
	Wait(until mono.Time, h Handler) error
	// Wake makes a Wait that blocks return soon, or the next one not block. Unlike the
	// others it may be called from any goroutine, and after Close.
	Wake()
	// CaughtUp is the time up to which everything that arrived has been handed
	// over. A caller that is behind must not take silence for an answer: what
	// it waits for may be in the kernel already.
	CaughtUp() mono.Time
	// Blocked is for how long Wait has had nothing to do, altogether.
	Blocked() time.Duration
	// KernelTimes reports whether arrival times are the kernel's.
	KernelTimes() bool
	// Close closes everything.
	Close() error
}

// Drivers stand on drivers, and not in any order: what a driver may stand on is the type that it is
// made with. Sockets have the system's ports; what is on the Wire says the bytes that go over it; on
// others something else is said (TLS, or to a proxy first).

// Wire is a driver that hands over the very bytes that go over the wire.
type Wire interface {
	Driver
	// OnWire does nothing: drivers have it that change no bytes but as a path does.
	OnWire()
}

// Sockets is a driver next to the system's sockets.
type Sockets interface {
	Wire
	// Local is the local address of an open line; zero if it has none.
	Local(id int32) netip.AddrPort
}

// A Handler hears what happens to a Driver's sockets. It may call the
// Driver's methods, but for Wait and Close.
type Handler interface {
	// Accepted tells of a new connection; it is open.
	Accepted(id int32)
	// Opened tells that a dialled connection is open.
	Opened(id int32)
	// Data hands over received bytes. They are the handler's until it returns. The
	// last of them arrived at came.To, the others not before came.From.
	Data(id int32, b []byte, came mono.Span)
	// Broke tells that the connection is gone; the id is free. The error is
	// ErrEnded if the other side closed it in order.
	Broke(id int32, err error)
}

// A HalfHandler also hears when the other side of a connection will send no more,
// and may still be sent to. If a Handler is none, such a connection broke.
type HalfHandler interface {
	Handler
	PeerFinished(id int32)
}

// ErrEnded is what a Handler gets if the other side closed the
// connection in order.
var ErrEnded = errors.New("closed by the other side")

// All is the id that stands for all connections in Queued.
const All int32 = -1

// turnFor bounds how long one Wait hands things over, so that a flood does not
// keep the caller from its timers and orders.
const turnFor = 20 * time.Millisecond

// readSize is the most that one read takes.
const readSize = 64 << 10

// eventsPerWait is the most events that one Wait handles.
const eventsPerWait = 256

// maxPeers bounds how many peers there may be that send datagrams: addresses are easily
// made up.
const maxPeers = 1 << 17
