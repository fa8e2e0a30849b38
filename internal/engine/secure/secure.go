// Package secure puts TLS (RFC 8446, RFC 5246) under the lines of a poll.Driver: what the
// driver below moves is records, what its user writes and hears is what they say.
//
// crypto/tls is written for blocking connections. Here it never blocks, and needs no
// goroutine of its own on an established connection: it reads from memory, and what is not
// there yet is a temporary error, after which it can be asked again (TestTemporary holds
// the pinned Go version to that). A handshake, which cannot be interrupted so, runs as a
// coroutine that gives way when it wants more; it ends with the handshake.
//
// Arrival times stay the kernel's: what a read completed has that read's stamp.
package secure

import (
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"iter"
	"net"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/engine/poll"
	"tidepull/internal/wire"
)

// A Config says how connections are secured.
type Config struct {
	Client *tls.Config // of those that are dialled with Endpoint.TLS; nil: there are none
	Server *tls.Config // of those that are accepted and begin as TLS does; nil: there are none
	Resume bool        // a line that connects again resumes its session, if the server lets it
	// Done, if set, is told of each handshake: how long it took, and whether it resumed a
	// session.
	Done func(took time.Duration, resumed bool)
}

// New puts TLS over a driver, which the new one owns.
func New(d poll.Driver, cfg Config) poll.Driver {
	s := &driver{Driver: d, cfg: cfg, lines: map[int32]*line{}}
	if cfg.Client != nil && cfg.Resume {
		s.sessions = map[int32]*tls.ClientSessionState{}
		s.cfg.Client = cfg.Client.Clone()
		s.cfg.Client.ClientSessionCache = s
	}
	return s
}

type driver struct {
	poll.Driver
	cfg      Config
	lines    map[int32]*line // those that are secured, or may be
	h        poll.Handler
	at       int32 // the line at hand
	sessions map[int32]*tls.ClientSessionState
	configs  map[names]*tls.Config
	plain    []byte // what a read said
}

// names are what the connections to one server share.
type names struct{ server, protocol string }

// A line is one connection.
type line struct {
	mem    memory
	conn   *tls.Conn // nil until it is known that there is TLS
	to     wire.Endpoint
	began  mono.Time
	more   func() (struct{}, bool) // goes on with the handshake; nil once it is over
	stop   func()
	err    error // of the handshake
	early  []byte
	finish bool // hang up once what is said early is sent
}

// A memory is the connection that a tls.Conn sees.
type memory struct {
	in, out []byte
	yield   func(struct{}) bool // gives way, while there is a handshake
}

// later is what reading gives as long as there is nothing to read.
type later struct{}

func (later) Error() string   { return "nothing has come" }
func (later) Timeout() bool   { return true }
func (later) Temporary() bool { return true }

func (m *memory) Read(b []byte) (int, error) {
	for len(m.in) == 0 {
		if m.yield == nil {
			return 0, later{}
		}
		if !m.yield(struct{}{}) {
			return 0, io.ErrUnexpectedEOF
		}
	}
	n := copy(b, m.in)
	m.in = m.in[n:]
	return n, nil
}

func (m *memory) Write(b []byte) (int, error) {
	m.out = append(m.out, b...)
	return len(b), nil
}

func (m *memory) Close() error                     { return nil }
func (m *memory) LocalAddr() net.Addr              { return nil }
func (m *memory) RemoteAddr() net.Addr             { return nil }
func (m *memory) SetDeadline(time.Time) error      { return nil }
func (m *memory) SetReadDeadline(time.Time) error  { return nil }
func (m *memory) SetWriteDeadline(time.Time) error { return nil }

// configOf is the configuration for a server.
func (d *driver) configOf(to wire.Endpoint) *tls.Config {
	k := names{to.TLS, to.Protocol}
	if c := d.configs[k]; c != nil {
		return c
	}
	c := d.cfg.Client.Clone()
	if c.ServerName == "" {
		c.ServerName = to.TLS
	}
	if to.Protocol != "" && len(c.NextProtos) == 0 {
		c.NextProtos = []string{to.Protocol}
	}
	if d.configs == nil {
		d.configs = map[names]*tls.Config{}
	}
	d.configs[k] = c
	return c
}

// Get implements tls.ClientSessionCache for the line at hand.
func (d *driver) Get(string) (*tls.ClientSessionState, bool) {
	s := d.sessions[d.at]
	delete(d.sessions, d.at) // a ticket is for one use (RFC 8446 C.4)
	return s, s != nil
}

// Put implements tls.ClientSessionCache for the line at hand.
func (d *driver) Put(_ string, s *tls.ClientSessionState) {
	if s != nil {
		d.sessions[d.at] = s
	}
}

// Dial implements poll.Driver.
func (d *driver) Dial(id int32, to wire.Endpoint) error {
	d.forget(id)
	if to.TLS != "" {
		if d.cfg.Client == nil {
			return errors.New("there is no TLS here")
		}
		d.lines[id] = &line{to: to, began: d.Now()}
	}
	if err := d.Driver.Dial(id, to); err != nil {
		d.forget(id)
		return err
	}
	return nil
}

// forget lets go of a line.
func (d *driver) forget(id int32) {
	l := d.lines[id]
	if l == nil {
		return
	}
	delete(d.lines, id)
	if l.stop != nil {
		l.stop()
	}
}

// Write implements poll.Driver.
func (d *driver) Write(id int32, b []byte) bool {
	l := d.lines[id]
	switch {
	case l == nil:
		return d.Driver.Write(id, b)
	case l.conn == nil || l.more != nil:
		l.early = append(l.early, b...)
		return true
	case len(b) == 0:
		return d.Driver.Write(id, nil)
	}
	_, err := l.conn.Write(b)
	return d.flush(id, l) && err == nil
}

// flush sends the records that were made.
func (d *driver) flush(id int32, l *line) bool {
	sent := d.Driver.Write(id, l.mem.out)
	l.mem.out = l.mem.out[:0]
	if cap(l.mem.out) > 2048 { // many lines are idle most of the time
		l.mem.out = nil
	}
	return sent
}

// Hangup implements poll.Driver.
func (d *driver) Hangup(id int32) {
	d.forget(id)
	d.Driver.Hangup(id)
}

// Abort implements poll.Driver.
func (d *driver) Abort(id int32) {
	d.forget(id)
	d.Driver.Abort(id)
}

// CloseWhenFlushed implements poll.Driver: the other side is told that nothing more comes
// (RFC 8446 6.1).
func (d *driver) CloseWhenFlushed(id int32) {
	l := d.lines[id]
	switch {
	case l == nil:
	case l.conn != nil && l.more == nil:
		l.conn.CloseWrite() // an error means that it is closed already
		d.flush(id, l)
	case l.more != nil && len(l.early) > 0:
		l.finish = true
		return
	}
	d.forget(id)
	d.Driver.CloseWhenFlushed(id)
}

// CloseWrite implements poll.Driver.
func (d *driver) CloseWrite(id int32) {
	if l := d.lines[id]; l != nil && l.conn != nil && l.more == nil {
		l.conn.CloseWrite()
		d.flush(id, l)
	}
	d.Driver.CloseWrite(id)
}

// Wait implements poll.Driver.
func (d *driver) Wait(until mono.Time, h poll.Handler) error {
	d.h = h
	if half, ok := h.(poll.HalfHandler); ok {
		return d.Driver.Wait(until, &halves{d, half})
	}
	return d.Driver.Wait(until, d)
}

// halves is a driver with a handler that wants to hear of halves.
type halves struct {
	*driver
	half poll.HalfHandler
}

// PeerFinished implements poll.HalfHandler. TLS says by itself when it is over.
func (h *halves) PeerFinished(id int32) { h.half.PeerFinished(id) }

// Accepted implements poll.Handler.
func (d *driver) Accepted(id int32) {
	d.forget(id)
	if d.cfg.Server != nil && !d.IsDatagrams(id) {
		d.lines[id] = &line{}
	}
	d.h.Accepted(id)
}

// Opened implements poll.Handler.
func (d *driver) Opened(id int32) {
	l := d.lines[id]
	if l == nil {
		d.h.Opened(id)
		return
	}
	l.conn = tls.Client(&l.mem, d.configOf(l.to))
	d.begin(id, l)
}

// begin begins a handshake.
func (d *driver) begin(id int32, l *line) {
	startHandshake(l, &l.mem)
	d.step(id, l)
}

// startHandshake makes a line's handshake a coroutine that reads from a memory.
func startHandshake(l *line, m *memory) {
	l.more, l.stop = iter.Pull(func(yield func(struct{}) bool) {
		m.yield = yield
		l.err = l.conn.Handshake()
		m.yield = nil
	})
}

// step goes on with a handshake as far as what has come allows; it reports whether the
// line is there, and its handshake is over.
func (d *driver) step(id int32, l *line) bool {
	d.at = id
	_, waits := l.more()
	if len(l.mem.out) > 0 {
		d.flush(id, l)
	}
	if waits {
		return false
	}
	l.more, l.stop = nil, nil
	if l.err != nil {
		d.forget(id)
		d.Driver.CloseWhenFlushed(id) // the alert that says why is sent
		d.h.Broke(id, fmt.Errorf("TLS: %w", l.err))
		return false
	}
	if d.cfg.Done != nil && l.to.TLS != "" {
		d.cfg.Done(d.Now().Sub(l.began), l.conn.ConnectionState().DidResume)
	}
	if l.to.TLS != "" {
		d.h.Opened(id)
	}
	if d.lines[id] == l && len(l.early) > 0 {
		early := l.early
		l.early = nil
		d.Write(id, early)
	}
	if d.lines[id] == l && l.finish {
		d.CloseWhenFlushed(id)
	}
	return d.lines[id] == l
}

// recordByte is the first byte of a connection that begins with a TLS handshake (RFC 8446
// 5.1).
const recordByte = 22

// Data implements poll.Handler.
func (d *driver) Data(id int32, b []byte, came mono.Span) {
	l := d.lines[id]
	if l != nil && l.conn == nil { // accepted: what comes first tells
		if b[0] != recordByte {
			early := l.early
			delete(d.lines, id)
			l = nil
			if len(early) > 0 {
				d.Driver.Write(id, early)
			}
		} else {
			l.conn = tls.Server(&l.mem, d.cfg.Server)
			l.mem.in = append(l.mem.in, b...)
			d.begin(id, l)
			return
		}
	}
	if l == nil {
		d.h.Data(id, b, came)
		return
	}
	if len(l.mem.in) == 0 {
		l.mem.in = b // borrowed: what is left is copied below
	} else {
		l.mem.in = append(l.mem.in, b...)
	}
	if l.more == nil || d.step(id, l) {
		d.read(id, l, came)
	}
	if len(l.mem.in) > 0 {
		l.mem.in = append([]byte(nil), l.mem.in...)
	} else {
		l.mem.in = nil
	}
}

// read hands over what whole records say.
func (d *driver) read(id int32, l *line, came mono.Span) {
	d.at = id
	if d.plain == nil {
		d.plain = make([]byte, 128<<10)
	}
	n := 0
	var err error
	for err == nil && n < len(d.plain) {
		var got int
		got, err = l.conn.Read(d.plain[n:])
		n += got
	}
	if len(l.mem.out) > 0 { // an answer to a change of keys (RFC 8446 4.6.3)
		d.flush(id, l)
	}
	if n > 0 {
		d.h.Data(id, d.plain[:n], came)
	}
	var temporary later
	switch {
	case d.lines[id] != l: // the handler has hung up
	case err == nil:
		d.read(id, l, came)
	case errors.As(err, &temporary):
	case err == io.EOF:
		d.Hangup(id)
		d.h.Broke(id, poll.ErrEnded)
	default:
		d.forget(id)
		d.Driver.CloseWhenFlushed(id)
		d.h.Broke(id, fmt.Errorf("TLS: %w", err))
	}
}

// Broke implements poll.Handler.
func (d *driver) Broke(id int32, err error) {
	if l := d.lines[id]; l != nil && l.more != nil {
		err = fmt.Errorf("TLS: the handshake was not finished: %w", err)
	}
	d.forget(id)
	d.h.Broke(id, err)
}

// Close implements poll.Driver.
func (d *driver) Close() error {
	for id := range d.lines {
		d.forget(id)
	}
	return d.Driver.Close()
}
