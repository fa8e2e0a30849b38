// Package relay is the recording relay: a client is pointed at it, it passes
// every byte on to the server and back untouched, and keeps what went over each
// connection.
package relay

import (
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/url"
	"sync"
	"time"

	"tidepull/internal/capture/recording"
)

// Options say between whom the relay stands.
type Options struct {
	Listen string // an address of this machine, such as "127.0.0.1:7412"
	To     string // the server: a ws://, http:// or tcp:// address
	Log    *slog.Logger
}

// A Relay is a running relay.
type Relay struct {
	Addr net.Addr
	to   string
	log  *slog.Logger

	listener net.Listener
	running  sync.WaitGroup
	start    time.Time

	mu    sync.Mutex // guards all below, and the order of entries
	emit  func(recording.Entry) error
	err   error
	conns map[net.Conn]bool
	count int
	ended bool
}

// Start begins to relay. emit is called with each entry, one at a time; an error
// from it ends the keeping, not the relaying, and is returned by Stop.
func Start(o Options, emit func(recording.Entry) error) (*Relay, error) {
	to, err := Address(o.To)
	if err != nil {
		return nil, err
	}
	ln, err := net.Listen("tcp", o.Listen)
	if err != nil {
		return nil, fmt.Errorf("listening at %s: %w", o.Listen, err)
	}
	r := &Relay{Addr: ln.Addr(), to: to, log: o.Log, listener: ln, start: time.Now(), emit: emit, conns: map[net.Conn]bool{}}
	if r.log == nil {
		r.log = slog.New(slog.DiscardHandler)
	}
	r.running.Go(r.accept)
	return r, nil
}

// Address gives the host and port of a ws://, http:// or tcp:// address.
func Address(s string) (string, error) {
	u, err := url.Parse(s)
	if err != nil || u.Hostname() == "" {
		return "", fmt.Errorf("%q is no address such as ws://127.0.0.1:7411/live or tcp://127.0.0.1:7411", s)
	}
	port := u.Port()
	switch u.Scheme {
	case "ws", "http":
		if port == "" {
			port = "80"
		}
	case "tcp":
		if port == "" {
			return "", fmt.Errorf("%q names no port", s)
		}
	default:
		return "", fmt.Errorf("%q: the relay speaks ws://, http:// and tcp://", s)
	}
	return net.JoinHostPort(u.Hostname(), port), nil
}

func (r *Relay) accept() {
	for {
		c, err := r.listener.Accept()
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil { // out of files, or the like: those who come wait until some are back
			r.log.Warn("a client cannot be taken", "error", err)
			time.Sleep(50 * time.Millisecond)
			continue
		}
		r.running.Go(func() { r.serve(c) })
	}
}

// keep puts a connection among those that Stop closes; false if it is too
// late.
func (r *Relay) keep(c net.Conn) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.ended {
		c.Close()
		return false
	}
	r.conns[c] = true
	return true
}

func (r *Relay) forget(c net.Conn) {
	c.Close()
	r.mu.Lock()
	delete(r.conns, c)
	r.mu.Unlock()
}

// handOver gives an entry to emit; r.mu is held.
func (r *Relay) handOver(e recording.Entry) {
	if r.err == nil {
		r.err = r.emit(e)
	}
}

func (r *Relay) serve(client net.Conn) {
	if !r.keep(client) {
		return
	}
	defer r.forget(client)
	r.mu.Lock()
	r.count++
	tap := recording.NewTap(r.count, r.handOver)
	tap.Emit(recording.Entry{At: time.Since(r.start).Microseconds(), Conn: tap.Conn, What: recording.Open})
	r.mu.Unlock()
	server, err := net.DialTimeout("tcp", r.to, 10*time.Second)
	if err != nil {
		r.end(tap, err.Error())
		r.log.Warn("the server cannot be reached", "error", err)
		return
	}
	if !r.keep(server) {
		return
	}
	defer r.forget(server)
	var pair sync.WaitGroup
	var why [2]error
	pair.Go(func() { why[0] = r.pump(server, client, tap, false) })
	pair.Go(func() { why[1] = r.pump(client, server, tap, true) })
	pair.Wait()
	text := ""
	if err := errors.Join(why[:]...); err != nil {
		text = err.Error()
	}
	r.end(tap, text)
}

func (r *Relay) end(tap *recording.Tap, why string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	tap.End(time.Since(r.start), why)
}

// pump passes bytes on as they come, and then the end of the stream. Bytes are
// kept before they are passed on, so that an answer cannot stand before its
// question.
func (r *Relay) pump(to, from net.Conn, tap *recording.Tap, fromServer bool) error {
	buf := make([]byte, 64<<10)
	for {
		n, err := from.Read(buf)
		if n > 0 {
			r.mu.Lock()
			tap.Feed(fromServer, buf[:n], time.Since(r.start))
			r.mu.Unlock()
			if _, err := to.Write(buf[:n]); err != nil {
				from.Close()
				return fmt.Errorf("writing: %w", err)
			}
		}
		if err != nil {
			if tcp, ok := to.(*net.TCPConn); ok && errors.Is(err, io.EOF) {
				tcp.CloseWrite()
				return nil
			}
			to.Close()
			if errors.Is(err, net.ErrClosed) {
				return nil
			}
			return fmt.Errorf("reading: %w", err)
		}
	}
}

// Stop ends the relay and its connections, and returns the first error of the
// keeping.
func (r *Relay) Stop() error {
	r.mu.Lock()
	r.ended = true
	for c := range r.conns {
		c.Close()
	}
	r.mu.Unlock()
	r.listener.Close()
	r.running.Wait()
	return r.err
}
