package poll

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/wire"
)

// A portable is the driver for every system: a reading and a writing goroutine
// for each socket, which hand what happens to the owner through one channel.
type portable struct {
	events   chan happening
	listener net.Listener
	dialer   net.Dialer
	ctx      context.Context // ends when the driver is closed
	cancel   context.CancelFunc
	ending   []*line                  // hung up, and perhaps still sending; owner
	queued   atomic.Int64             // bytes that wait to be written, of all lines
	conns    []portableConn           // owner
	free     []int32                  // owner
	forPeers *net.UDPConn             // that peers send datagrams to; nil if it does not listen for them
	peers    map[netip.AddrPort]int32 // owner
	stop     chan struct{}
	wake     chan struct{}
	running  sync.WaitGroup
	buffers  sync.Pool
	timer    *time.Timer
	blocked  time.Duration
	caughtUp mono.Time
}

type portableConn struct {
	line       *line
	generation int32
}

// A line is one socket and what waits to be written to it.
type line struct {
	conn net.Conn // set before Opened is called, guarded by mu until then; nil for a peer
	// datagrams: each write is one. peer is who is on the other end, of a driver that
	// listens for them.
	datagrams bool
	early     [][]byte // datagrams that were sent before it was open; guarded by mu
	peer      netip.AddrPort
	mu        sync.Mutex
	wake      sync.Cond
	out       []byte // guarded by mu, like all below
	ended     bool
	finish    bool
	held      bool // nothing is to be read
	shut      bool // tell the other side that nothing more comes, once out is written
	writing   int  // bytes that are being written
}

type happening struct {
	id, generation int32
	line           *line
	what           byte           // 'a' accepted, 'o' opened, 'd' data, 'f' finished, 'b' broke, 'p' data of a peer
	from           netip.AddrPort // of a peer
	data           []byte
	came           mono.Span
	err            error
}

// maxAhead bounds what is read and waits for the owner, in pieces of up to readSize.
const maxAhead = 128

// NewPortable returns the driver that works on every system.
func NewPortable() (Sockets, error) {
	p := &portable{dialer: net.Dialer{Timeout: 30 * time.Second}, events: make(chan happening, maxAhead),
		stop: make(chan struct{}), wake: make(chan struct{}, 1), timer: time.NewTimer(time.Hour)}
	p.ctx, p.cancel = context.WithCancel(context.Background())
	p.buffers.New = func() any { return new([readSize]byte) }
	return p, nil
}

func (p *portable) Now() mono.Time    { return mono.Now() }
func (p *portable) KernelTimes() bool { return false }

func (p *portable) CaughtUp() mono.Time { return p.caughtUp }

func (p *portable) Blocked() time.Duration { return p.blocked }

func newLine() *line {
	l := &line{}
	l.wake.L = &l.mu
	return l
}

func (p *portable) Dial(id int32, to wire.Endpoint) error {
	for int(id) >= len(p.conns) {
		p.conns = append(p.conns, portableConn{})
	}
	l := newLine()
	l.datagrams = to.Datagrams
	c := &p.conns[id]
	c.line, c.generation = l, c.generation+1
	generation := c.generation
	p.running.Go(func() {
		network, address := "tcp", to.Addr.String()
		switch {
		case to.Unix != "":
			network, address = "unix", to.Unix
		case to.Datagrams:
			network = "udp"
		}
		dialer := p.dialer
		if to.KeepAlive > 0 {
			dialer.KeepAliveConfig = net.KeepAliveConfig{Enable: true, Idle: to.KeepAlive, Interval: to.KeepAlive,
				Count: 3}
		}
		if from := netip.AddrPortFrom(to.From, 0); to.From.IsValid() && to.Datagrams {
			dialer.LocalAddr = net.UDPAddrFromAddrPort(from)
		} else if to.From.IsValid() && to.Unix == "" {
			dialer.LocalAddr = net.TCPAddrFromAddrPort(from)
		}
		conn, err := dialer.DialContext(p.ctx, network, address)
		var call *os.SyscallError
		if errors.As(err, &call) && call.Syscall == "bind" && to.From.IsValid() {
			err = fmt.Errorf("from %v: this machine has no such address", to.From) // it is no want of ports
		}
		if err != nil {
			p.tell(happening{id: id, generation: generation, what: 'b', err: fmt.Errorf("connect: %w", short(err))})
			return
		}
		if !l.attach(conn) {
			return
		}
		p.tell(happening{id: id, generation: generation, what: 'o'})
		p.serve(id, generation, l)
	})
	return nil
}

// socket is the line's, for the owner; nil if it has none yet.
func (l *line) socket() net.Conn {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.conn
}

// attach gives the line its socket; false means that it was hung up before.
func (l *line) attach(conn net.Conn) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.ended {
		conn.Close()
		return false
	}
	l.conn = conn
	for _, b := range l.early {
		_, _ = conn.Write(b) // an error shows when the socket is read
	}
	l.early = nil
	return true
}

func (p *portable) tell(e happening) {
	select {
	case p.events <- e:
	case <-p.stop:
	}
}

// serve reads from the line until it ends; a second goroutine writes.
func (p *portable) serve(id, generation int32, l *line) {
	p.running.Go(func() { l.writeQueue(&p.queued) })
	looked := mono.Now() // when it was last read: what came before was taken then
	for {
		l.waitHeld()
		buf := p.buffers.Get().(*[readSize]byte)
		n, err := l.conn.Read(buf[:])
		if n > 0 || l.datagrams && err == nil {
			now := mono.Now()
			p.tell(happening{id: id, generation: generation, what: 'd', data: buf[:n],
				came: mono.Span{From: looked, To: now}})
			looked = now
		}
		if err != nil {
			if errors.Is(err, io.EOF) {
				p.tell(happening{id: id, generation: generation, what: 'f', err: ErrEnded})
				return
			}
			p.tell(happening{id: id, generation: generation, what: 'b', err: err})
			return
		}
	}
}

func (l *line) waitHeld() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for l.held && !l.ended {
		l.wake.Wait()
	}
}

func (p *portable) Hold(id int32, on bool) {
	if l := p.open(id); l != nil {
		l.mu.Lock()
		l.held = on
		l.mu.Unlock()
		l.wake.Broadcast()
	}
}

// Abort implements Driver.
func (p *portable) Abort(id int32) {
	if l := p.open(id); l != nil {
		if c, ok := l.socket().(interface{ SetLinger(int) error }); ok {
			_ = c.SetLinger(0)
		}
	}
	p.Hangup(id)
}

// OnWire implements Wire.
func (p *portable) OnWire() {}

// Local is the address of this end of a connection; zero if it has none.
func (p *portable) Local(id int32) netip.AddrPort {
	if l := p.open(id); l != nil && l.socket() != nil {
		switch at := l.socket().LocalAddr().(type) {
		case *net.TCPAddr:
			return at.AddrPort()
		case *net.UDPAddr:
			return at.AddrPort()
		}
	}
	return netip.AddrPort{}
}

// Unplug implements Driver: it needs the system's own sockets.
func (p *portable) Unplug(int32, bool) bool { return false }

// Gone implements Driver: nothing is ever unplugged.
func (p *portable) Gone(int32) mono.Span { return mono.Span{} }

func (l *line) writeQueue(queued *atomic.Int64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	defer func() { queued.Add(-int64(len(l.out))) }()
	for {
		for len(l.out) == 0 && !l.ended && !l.finish {
			if l.shut {
				l.shut = false
				if half, ok := l.conn.(interface{ CloseWrite() error }); ok {
					_ = half.CloseWrite() // an error shows again when the socket is read
				}
				continue
			}
			l.wake.Wait()
		}
		if l.ended || len(l.out) == 0 {
			l.ended = true
			l.conn.Close()
			return
		}
		b := l.out
		l.out, l.writing = nil, len(b)
		l.mu.Unlock()
		_, err := l.conn.Write(b)
		queued.Add(-int64(len(b)))
		l.mu.Lock()
		l.writing = 0
		if err != nil {
			l.ended = true
		}
	}
}

func (p *portable) Listen(at netip.AddrPort) (netip.AddrPort, error) {
	ln, err := net.Listen("tcp", at.String())
	if err != nil {
		return at, fmt.Errorf("listen at %v: %w", at, err)
	}
	p.listener = ln
	p.running.Go(func() {
		for {
			conn, err := ln.Accept()
			if errors.Is(err, net.ErrClosed) {
				return
			}
			if err != nil { // out of files, or the like: those who come wait
				select {
				case <-p.stop:
					return
				case <-time.After(50 * time.Millisecond):
				}
				continue
			}
			l := newLine()
			l.conn = conn
			p.tell(happening{what: 'a', line: l})
		}
	})
	return ln.Addr().(*net.TCPAddr).AddrPort(), nil
}

func (p *portable) open(id int32) *line {
	if int(id) >= len(p.conns) {
		return nil
	}
	return p.conns[id].line
}

func (p *portable) Reserve() int32 {
	if n := len(p.free); n > 0 {
		id := p.free[n-1]
		p.free = p.free[:n-1]
		return id
	}
	p.conns = append(p.conns, portableConn{})
	return int32(len(p.conns) - 1)
}

func (p *portable) CloseWrite(id int32) {
	if l := p.open(id); l != nil {
		l.mu.Lock()
		l.shut = true
		l.mu.Unlock()
		l.wake.Broadcast()
	}
}

func (p *portable) Queued(id int32) int {
	if id == All {
		return int(p.queued.Load())
	}
	l := p.open(id)
	if l == nil {
		return 0
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	return len(l.out) + l.writing
}

func (p *portable) Write(id int32, b []byte) bool {
	l := p.open(id)
	if l == nil || len(b) == 0 {
		return l != nil
	}
	if l.datagrams {
		return p.writeDatagram(id, l, b)
	}
	l.mu.Lock()
	if !l.ended {
		l.out = append(l.out, b...)
		p.queued.Add(int64(len(b)))
	}
	l.mu.Unlock()
	l.wake.Broadcast()
	return true
}

func (p *portable) Hangup(id int32)           { p.end(id, func(l *line) { l.ended = true }) }
func (p *portable) CloseWhenFlushed(id int32) { p.end(id, func(l *line) { l.finish = true }) }

func (p *portable) end(id int32, how func(*line)) {
	l := p.open(id)
	if l == nil {
		return
	}
	p.conns[id].line = nil
	if p.listener != nil || p.forPeers != nil {
		p.free = append(p.free, id)
	}
	if l.peer.IsValid() {
		delete(p.peers, l.peer)
	}
	l.end(how)
	if l.finish {
		p.ending = append(slices.DeleteFunc(p.ending, (*line).over), l)
	}
}

// end ends a line at once, or lets it finish, as how sets it.
func (l *line) end(how func(*line)) {
	l.mu.Lock()
	how(l)
	switch {
	case l.conn == nil:
	case l.ended:
		l.conn.Close() // also ends a write that is stuck
	default:
		_ = l.conn.SetWriteDeadline(time.Now().Add(finishWithin)) // the other side may never read
	}
	l.mu.Unlock()
	l.wake.Broadcast()
}

// finishWithin is how long the last bytes of a connection may take.
const finishWithin = 5 * time.Second

// over reports whether a line that was to finish has.
func (l *line) over() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.ended
}

func (p *portable) Wait(until mono.Time, h Handler) error {
	began := mono.Now()
	woken := began
	p.timer.Reset(max(0, min(until.Sub(began), time.Hour)))
	select {
	case e := <-p.events:
		p.blocked += mono.Now().Sub(began)
		woken = mono.Now()
		p.handle(e, h)
	case <-p.wake:
		p.blocked += mono.Now().Sub(began)
		p.caughtUp = began
		return nil
	case <-p.timer.C:
		p.blocked += mono.Now().Sub(began)
		p.caughtUp = began
		return nil
	}
	for n := range eventsPerWait {
		if n%16 == 15 && mono.Now().Sub(woken) > turnFor {
			return nil // as if there were more
		}
		select {
		case e := <-p.events:
			p.handle(e, h)
		default:
			p.caughtUp = began
			return nil
		}
	}
	return nil
}

// Wake implements Driver.
func (p *portable) Wake() {
	select {
	case p.wake <- struct{}{}:
	default:
	}
}

func (p *portable) handle(e happening, h Handler) {
	switch e.what {
	case 'a':
		p.accepted(e.line, h)
		return
	case 'p':
		p.fromPeer(e, h)
		return
	}
	if c := p.conns[e.id]; c.line == nil || c.generation != e.generation {
		return
	}
	switch e.what {
	case 'o':
		h.Opened(e.id)
	case 'd':
		h.Data(e.id, e.data, e.came)
		p.buffers.Put((*[readSize]byte)(e.data[:readSize]))
	case 'f', 'b':
		if half, ok := h.(HalfHandler); ok && e.what == 'f' {
			half.PeerFinished(e.id)
			return
		}
		p.Hangup(e.id)
		h.Broke(e.id, e.err)
	}
}

func (p *portable) accepted(l *line, h Handler) {
	id := p.Reserve()
	c := &p.conns[id]
	c.line, c.generation = l, c.generation+1
	generation := c.generation
	p.running.Go(func() { p.serve(id, generation, l) })
	h.Accepted(id)
}

func (p *portable) Close() error {
	close(p.stop)
	p.cancel()
	if p.listener != nil {
		p.listener.Close()
	}
	if p.forPeers != nil {
		p.forPeers.Close()
	}
	for id := range p.conns {
		p.Hangup(int32(id))
	}
	for _, l := range p.ending {
		l.end(func(l *line) { l.ended = true })
	}
	for drained := false; !drained; {
		select {
		case e := <-p.events:
			if e.what == 'a' {
				e.line.conn.Close()
			}
		default:
			drained = true
		}
	}
	p.running.Wait()
	return nil
}
