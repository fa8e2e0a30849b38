package poll

import (
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"sync"
	"time"

	"tidepull/internal/mono"
)

// A portable is the driver for every system: a reading and a writing goroutine
// for each socket, which hand what happens to the owner through one channel.
type portable struct {
	events   chan happening
	listener net.Listener
	conns    []portableConn // owner
	free     []int32        // owner
	stop     chan struct{}
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
	conn   net.Conn // set before opened is told
	mu     sync.Mutex
	wake   sync.Cond
	out    []byte // guarded by mu, like all below
	ended  bool
	finish bool
	held   bool // nothing is to be read
}

type happening struct {
	id, generation int32
	line           *line
	what           byte // 'a' accepted, 'o' opened, 'd' data, 'b' broke
	data           []byte
	at             mono.Time
	err            error
}

// NewPortable returns the driver that works on every system.
func NewPortable() (Driver, error) {
	p := &portable{events: make(chan happening, 1024), stop: make(chan struct{}), timer: time.NewTimer(time.Hour)}
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

func (p *portable) Dial(id int32, to netip.AddrPort) error {
	for int(id) >= len(p.conns) {
		p.conns = append(p.conns, portableConn{})
	}
	l := newLine()
	c := &p.conns[id]
	c.line, c.generation = l, c.generation+1
	generation := c.generation
	p.running.Go(func() {
		conn, err := net.DialTimeout("tcp", to.String(), 30*time.Second)
		if err != nil {
			p.tell(happening{id: id, generation: generation, what: 'b', err: fmt.Errorf("connect: %w", err)})
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

// attach gives the line its socket; false means that it was hung up before.
func (l *line) attach(conn net.Conn) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.ended {
		conn.Close()
		return false
	}
	l.conn = conn
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
	p.running.Go(l.writeQueue)
	for {
		l.waitHeld()
		buf := p.buffers.Get().(*[readSize]byte)
		n, err := l.conn.Read(buf[:])
		if n > 0 {
			p.tell(happening{id: id, generation: generation, what: 'd', data: buf[:n], at: mono.Now()})
		}
		if err != nil {
			if errors.Is(err, io.EOF) {
				err = ErrEnded
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

func (l *line) writeQueue() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for {
		for len(l.out) == 0 && !l.ended && !l.finish {
			l.wake.Wait()
		}
		if l.ended || len(l.out) == 0 {
			l.conn.Close()
			return
		}
		b := l.out
		l.out = nil
		l.mu.Unlock()
		_, err := l.conn.Write(b)
		l.mu.Lock()
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
			if err != nil {
				return
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

func (p *portable) Queued(id int32) int {
	l := p.open(id)
	if l == nil {
		return 0
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	return len(l.out)
}

func (p *portable) Write(id int32, b []byte) {
	if l := p.open(id); l != nil {
		l.mu.Lock()
		l.out = append(l.out, b...)
		l.mu.Unlock()
		l.wake.Broadcast()
	}
}

func (p *portable) Hangup(id int32)          { p.end(id, func(l *line) { l.ended = true }) }
func (p *portable) FinishAndHangup(id int32) { p.end(id, func(l *line) { l.finish = true }) }

func (p *portable) end(id int32, how func(*line)) {
	l := p.open(id)
	if l == nil {
		return
	}
	p.conns[id].line = nil
	if p.listener != nil {
		p.free = append(p.free, id)
	}
	l.mu.Lock()
	how(l)
	if l.ended && l.conn != nil {
		l.conn.Close() // also ends a write that is stuck
	}
	l.mu.Unlock()
	l.wake.Broadcast()
}

func (p *portable) Wait(until mono.Time, h Handler) error {
	began := mono.Now()
	p.timer.Reset(max(0, min(until.Sub(began), time.Hour)))
	select {
	case e := <-p.events:
		p.blocked += mono.Now().Sub(began)
		p.handle(e, h)
	case <-p.timer.C:
		p.blocked += mono.Now().Sub(began)
		p.caughtUp = began
		return nil
	}
	for range eventsPerWait {
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

func (p *portable) handle(e happening, h Handler) {
	if e.what == 'a' {
		p.accepted(e.line, h)
		return
	}
	if c := p.conns[e.id]; c.line == nil || c.generation != e.generation {
		return
	}
	switch e.what {
	case 'o':
		h.Opened(e.id)
	case 'd':
		h.Data(e.id, e.data, e.at)
		p.buffers.Put((*[readSize]byte)(e.data[:readSize]))
	case 'b':
		p.Hangup(e.id)
		h.Broke(e.id, e.err)
	}
}

func (p *portable) accepted(l *line, h Handler) {
	id := int32(len(p.conns))
	if n := len(p.free); n > 0 {
		id = p.free[n-1]
		p.free = p.free[:n-1]
	} else {
		p.conns = append(p.conns, portableConn{})
	}
	c := &p.conns[id]
	c.line, c.generation = l, c.generation+1
	generation := c.generation
	p.running.Go(func() { p.serve(id, generation, l) })
	h.Accepted(id)
}

func (p *portable) Close() error {
	close(p.stop)
	if p.listener != nil {
		p.listener.Close()
	}
	for id := range p.conns {
		p.Hangup(int32(id))
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
