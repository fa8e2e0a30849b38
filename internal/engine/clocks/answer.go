package clocks

import (
	"crypto/subtle"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"time"

	"tidepull/internal/engine/machine"
	"tidepull/internal/engine/poll"
)

// A question is the secret of the run and a number; the answer is the same again and two instants. Both have the same
// length, so that nobody can have an answer sent to a third party that is larger than what it sent; and nothing is said
// to who does not know the secret.
const (
	secretSize = 16
	numberAt   = secretSize
	receivedAt = numberAt + 8
	answeredAt = receivedAt + 8
	size       = answeredAt + 8
)

// A Secret is what opens a Clock.
type Secret [secretSize]byte

// A Clock answers what time it is on this machine.
type Clock struct {
	conn   *net.UDPConn
	secret Secret
	done   chan struct{}
}

// Serve has this machine's clock asked for at an address.
func Serve(at netip.AddrPort, secret Secret) (*Clock, error) {
	conn, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(at))
	if err != nil {
		return nil, fmt.Errorf("clocks: %w", err)
	}
	c := &Clock{conn: conn, secret: secret, done: make(chan struct{})}
	poll.WantStamps(conn)
	go c.answer()
	return c, nil
}

// Addr is where it is asked.
func (c *Clock) Addr() netip.AddrPort { return c.conn.LocalAddr().(*net.UDPAddr).AddrPort() }

// Close ends it.
func (c *Clock) Close() {
	c.conn.Close()
	<-c.done
}

func (c *Clock) answer() {
	defer close(c.done)
	var b [size + 1]byte
	for {
		n, from, received, err := read(c.conn, b[:])
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil || n != size || subtle.ConstantTimeCompare(b[:secretSize], c.secret[:]) == 0 {
			continue
		}
		binary.BigEndian.PutUint64(b[receivedAt:], uint64(received))
		binary.BigEndian.PutUint64(b[answeredAt:], uint64(machine.Own()))
		_, _ = c.conn.WriteToUDPAddrPort(b[:size], from) // who asked asks again
	}
}

// read reads a datagram, with the instant at which it came: the kernel's, if it stamps.
func read(conn *net.UDPConn, b []byte) (n int, from netip.AddrPort, came int64, err error) {
	var control [128]byte
	n, c, _, from, err := conn.ReadMsgUDPAddrPort(b, control[:])
	came = machine.Own()
	if stamp, ok := poll.StampIn(control[:c]); ok && err == nil {
		came = min(came, stamp-machine.OwnWall())
	}
	return n, from, came, err
}

// A Line is where another machine's clock is asked for.
type Line struct {
	conn   *net.UDPConn
	secret Secret
	number uint64
	skew   Skew // of this machine's clock, for tests
}

// Dial opens a line to a Clock.
func Dial(to netip.AddrPort, secret Secret, skew Skew) (*Line, error) {
	conn, err := net.DialUDP("udp", nil, net.UDPAddrFromAddrPort(to))
	if err != nil {
		return nil, fmt.Errorf("clocks: %w", err)
	}
	poll.WantStamps(conn)
	return &Line{conn: conn, secret: secret, skew: skew}, nil
}

// Close ends the line.
func (l *Line) Close() { l.conn.Close() }

// Ask asks once; false if no answer came within a time.
func (l *Line) Ask(within time.Duration) (x Exchange, ok bool) {
	var b [size + 1]byte
	l.number++
	copy(b[:], l.secret[:])
	binary.BigEndian.PutUint64(b[numberAt:], l.number)
	if l.conn.SetReadDeadline(time.Now().Add(within)) != nil {
		return x, false
	}
	x.Sent = l.skew.Of(machine.Own())
	if _, err := l.conn.Write(b[:size]); err != nil {
		return x, false
	}
	for {
		n, _, came, err := read(l.conn, b[:])
		if err != nil {
			return x, false
		}
		if n != size || binary.BigEndian.Uint64(b[numberAt:]) != l.number { // the answer to an earlier question
			continue
		}
		x.Received = int64(binary.BigEndian.Uint64(b[receivedAt:]))
		x.Answered = int64(binary.BigEndian.Uint64(b[answeredAt:]))
		x.Back = l.skew.Of(came)
		return x, true
	}
}
