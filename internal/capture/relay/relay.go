// Package relay is the recording relay: a client is pointed at it, it passes
// every byte on to the server and back untouched, and keeps what went over each
// connection.
//
// One goroutine owns all connections, on a poll driver that listens and dials, and
// passes bytes on as they are read; what is to be kept goes to a second one over a
// queue, so that neither side waits for the other's recording.
package relay

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"runtime"
	"slices"
	"strings"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/capture/recording"
	"tidepull/internal/engine/poll"
	"tidepull/internal/engine/secure"
	"tidepull/internal/measure/meter"
	"tidepull/internal/wire"
)

// Options say between whom the relay stands.
type Options struct {
	Listen   string // an address of this machine, such as "127.0.0.1:7412"
	To       string // the server: a ws://, http:// or tcp:// address, or one of their encrypted kinds
	TLS      wire.TLS
	Portable bool // use the portable driver
	Log      *slog.Logger
}

// A Relay is a running relay.
type Relay struct {
	Addr netip.AddrPort
	stop chan struct{}
	done chan struct{}
	own  Own
	err  error
}

// Own is what the relay itself did to the traffic.
type Own struct {
	Pieces uint64        // passed on
	P50    time.Duration // from a piece's arrival in the kernel to its being sent on
	P99    time.Duration
	Max    time.Duration
	Held   int // how often a side was not read for a while, because the other one, or the recording, did not keep up
}

const (
	dialWithin = 10 * time.Second
	// mayWait is how many bytes may wait for one side before the other is not read,
	// and mayBeKept how many may wait to be recorded.
	mayWait   = 1 << 20
	mayBeKept = 64 << 20
	// look is how often the relay looks whether it is to stop, if nothing happens.
	look = 20 * time.Millisecond
)

// Start begins to relay. emit is called with each entry, one at a time; an error
// from it ends the keeping, not the relaying, and is returned by Stop.
func Start(o Options, emit func(recording.Entry) error) (*Relay, error) {
	a, err := wire.ParseAddress(o.To)
	switch {
	case err != nil:
		return nil, fmt.Errorf("%w; one is ws://127.0.0.1:7411/live, or tcp://127.0.0.1:7411", err)
	case !slices.Contains([]string{"ws", "http", "tcp", "wss", "https", "tls", "udp"}, a.Scheme):
		return nil, fmt.Errorf("%q: the relay speaks ws://, http://, tcp:// and udp://, and wss://, https:// and "+
			"tls://", o.To)
	}
	to, err := poll.Resolve(context.Background(), a)
	if err != nil {
		return nil, err
	}
	at, err := poll.Resolve(context.Background(), listenAt(o.Listen))
	if err != nil {
		return nil, fmt.Errorf("listening at %s: %w", o.Listen, err)
	}
	newDriver := poll.New
	if o.Portable {
		newDriver = poll.NewPortable
	}
	sockets, err := newDriver()
	if err != nil {
		return nil, err
	}
	drv := poll.Driver(sockets)
	if a.Secure() {
		client, err := secure.ClientConfig(&o.TLS)
		if err != nil {
			drv.Close()
			return nil, err
		}
		to = a.Secured(to)
		drv = secure.New(drv, secure.Config{Client: client})
	}
	r := &Relay{stop: make(chan struct{}), done: make(chan struct{})}
	listen := drv.Listen
	if to.Datagrams = a.Scheme == "udp"; to.Datagrams {
		listen = drv.ListenDatagrams
	}
	if r.Addr, err = listen(at.Addr); err != nil {
		drv.Close()
		return nil, err
	}
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	l := &loop{drv: drv, to: to, log: o.Log, start: drv.Now(), keeper: newKeeper(emit, to.Datagrams),
		pairs: map[int32]*pair{}}
	go func() {
		defer close(r.done)
		l.run(r.stop)
		r.own, r.err = l.own(), errors.Join(l.err, l.keeper.end())
	}()
	return r, nil
}

// listenAt is an address to listen at; without a host it is that of every
// interface.
func listenAt(s string) wire.Address {
	a, _ := wire.ParseAddress("tcp://" + s)
	if strings.HasPrefix(s, ":") {
		a, _ = wire.ParseAddress("tcp://0.0.0.0" + s)
	}
	return a // what is wrong with it is said when it is looked up
}

// Stop ends the relay and its connections, and returns the first error of the
// keeping.
func (r *Relay) Stop() error {
	close(r.stop)
	<-r.done
	return r.err
}

// Own says, once the relay is stopped, what it did to the traffic.
func (r *Relay) Own() Own { return r.own }

// A loop owns the connections. All fields belong to its goroutine.
type loop struct {
	drv    poll.Driver
	to     wire.Endpoint
	log    *slog.Logger
	start  mono.Time
	keeper *keeper
	pairs  map[int32]*pair // by the numbers of both its sides
	count  int
	delay  meter.Hist
	held   int
	err    error
}

// A pair is a client's connection and the one to the server.
type pair struct {
	number         int // from 1
	client, server int32
	opened         mono.Time
	connected      bool
	finished       [2]bool // the client, the server will send no more
	held           [2]bool // is not read, because the other side does not keep up
}

func (l *loop) run(stop <-chan struct{}) {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	defer l.drv.Close()
	for {
		select {
		case <-stop:
			for _, p := range l.pairs {
				l.end(p, "the relay was stopped")
			}
			return
		default:
		}
		if l.err = l.drv.Wait(l.drv.Now().Add(look), l); l.err != nil {
			return
		}
		l.lookAtPairs()
	}
}

// lookAtPairs reads those again that have another side which keeps up, and gives up
// servers that do not answer.
func (l *loop) lookAtPairs() {
	now := l.drv.Now()
	for id, p := range l.pairs {
		if id != p.client {
			continue // each once
		}
		if !p.connected && now.Sub(p.opened) > dialWithin {
			l.end(p, "the server does not answer")
			continue
		}
		for side, held := range p.held {
			if held && l.drv.Queued(p.other(side)) < mayWait/2 && !l.keeper.full() {
				p.held[side] = false
				l.drv.Hold(p.id(side), false)
			}
		}
	}
}

// id is the number of a side: the client 0, the server 1.
func (p *pair) id(side int) int32 {
	if side == 0 {
		return p.client
	}
	return p.server
}

func (p *pair) other(side int) int32 { return p.id(1 - side) }

func (p *pair) sideOf(id int32) int {
	if id == p.client {
		return 0
	}
	return 1
}

// Accepted implements poll.Handler.
func (l *loop) Accepted(id int32) {
	l.count++
	p := &pair{number: l.count, client: id, server: l.drv.Reserve(), opened: l.drv.Now()}
	l.pairs[p.client], l.pairs[p.server] = p, p
	l.keeper.put(note{conn: p.number, at: p.opened.Sub(l.start), what: 'o'})
	if err := l.drv.Dial(p.server, l.to); err != nil {
		l.unreachable(p, err)
	}
}

func (l *loop) unreachable(p *pair, err error) {
	l.log.Warn("the server cannot be reached", "error", err)
	l.end(p, err.Error())
}

// Opened implements poll.Handler.
func (l *loop) Opened(id int32) {
	if p := l.pairs[id]; p != nil {
		p.connected = true
	}
}

// Data implements poll.Handler. Bytes are queued to be kept before they are passed
// on, so that an answer cannot stand before its question.
func (l *loop) Data(id int32, b []byte, came mono.Span) {
	p := l.pairs[id]
	if p == nil {
		return
	}
	side := p.sideOf(id)
	l.keeper.put(note{conn: p.number, at: came.To.Sub(l.start), what: 'd', server: side == 1, data: b})
	l.drv.Write(p.other(side), b)
	l.delay.Record(l.drv.Now().Sub(came.To))
	if !p.held[side] && (l.drv.Queued(p.other(side)) > mayWait || l.keeper.full()) {
		p.held[side] = true
		l.held++
		l.drv.Hold(id, true)
	}
}

// PeerFinished implements poll.HalfHandler: the end of what one side sends is passed
// on like everything else.
func (l *loop) PeerFinished(id int32) {
	p := l.pairs[id]
	if p == nil {
		return
	}
	side := p.sideOf(id)
	// The other side may take its time, and do something because of it: what is kept is when this one ended.
	l.finish(p, side, "")
	if p.finished[side] = true; p.finished[0] && p.finished[1] {
		l.end(p, "")
		return
	}
	l.drv.CloseWrite(p.other(side))
}

// Broke implements poll.Handler.
func (l *loop) Broke(id int32, err error) {
	p := l.pairs[id]
	switch {
	case p == nil:
	case id == p.server && !p.connected:
		l.unreachable(p, err)
	case errors.Is(err, poll.ErrEnded):
		l.finish(p, p.sideOf(id), "")
		l.end(p, "")
	default:
		l.finish(p, p.sideOf(id), err.Error())
		l.end(p, err.Error())
	}
}

// finish notes that a side has ended the connection.
func (l *loop) finish(p *pair, side int, why string) {
	l.keeper.put(note{conn: p.number, at: l.drv.Now().Sub(l.start), what: 'f', server: side == 1, why: why})
}

// end closes both sides, once what waits for them is sent.
func (l *loop) end(p *pair, why string) {
	delete(l.pairs, p.client)
	delete(l.pairs, p.server)
	l.drv.CloseWhenFlushed(p.client)
	l.drv.CloseWhenFlushed(p.server)
	l.keeper.put(note{conn: p.number, at: l.drv.Now().Sub(l.start), what: 'e', why: why})
}

func (l *loop) own() Own {
	return Own{Pieces: l.delay.Count(), P50: l.delay.Quantile(0.5), P99: l.delay.Quantile(0.99), Max: l.delay.Max(),
		Held: l.held}
}
