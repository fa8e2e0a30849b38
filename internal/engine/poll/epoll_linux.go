package poll

import (
	"fmt"
	"net/netip"
	"time"

	"golang.org/x/sys/unix"

	"tidepull/internal/base/mono"
)

// New returns the best driver for this system.
func New() (Sockets, error) { return newEpoll() }

// An epoll is the Linux driver. Every field belongs to the goroutine that uses
// it.
type epoll struct {
	fd       int
	waker    waker
	listener int // -1 if it does not listen
	conns    []conn
	free     []int32 // ids of accepted connections that ended
	events   []unix.EpollEvent
	control  [64]byte
	iov      unix.Iovec
	msg      unix.Msghdr
	offset   int64 // wall clock less monotonic clock
	offsetAt mono.Time
	blocked  time.Duration
	caughtUp mono.Time
	stamps   int // a socket that has the kernel stamp what arrives; -1: none
	tuned    bool
	backlog  backlog
	pace     pace
	halves   bool        // the handler wants to hear of connections that are finished one way
	atOnce   bool        // for a benchmark: each piece is handed over before the next socket is read
	seen     mono.Time   // when the last look began that read every socket that had anything
	looking  mono.Time   // when the look at all sockets that is under way began
	partly   bool        // that look has left something in the kernel
	again    []readAgain // of what it has left, so that it is read though nothing more comes
	spare    []readAgain
	dials    int
	queued   int       // bytes that wait for the kernel, of all connections
	relisten mono.Time // when a listener that ran out of files is listened to again; 0: it is
	port     uint16    // the last local port that was picked here

	datagrams int               // the socket that peers send datagrams to; -1 if there is none
	peers     map[peerKey]int32 // the ids of those who did
	from      remote            // of the datagram at hand
	// what the system had dropped of the datagrams of peers, when it was last asked
	peersDropped uint32
	dropped      int // datagrams that the system dropped, as they were not read in time

	far farEnds // of unplugged connections
}

type conn struct {
	fd         int32 // -1 if the id is free
	generation int32
	opening    bool
	waitsOut   bool      // EPOLLOUT is asked for
	held       bool      // EPOLLIN is not
	finish     bool      // close once out is empty
	ending     bool      // closed, and the owner has yet to be told
	finished   bool      // the other side will send no more, and the owner knows how to go on
	shutWrite  bool      // tell the other side that nothing more comes, once out is empty
	lookedAt   mono.Time // when it was last read: what came before was taken then
	ends       bool      // its end was told of, and is yet to be read
	again      bool      // it is to be read again: it is in the driver's list
	readIn     mono.Time // the look (looking) in which it was read last
	unseen     bool      // it was held since, so that looks at all sockets have not seen it
	datagram   bool      // it sends and gets datagrams
	dropped    uint32    // how many of those the system had dropped when it was last asked
	peer       *remote   // who sends datagrams to the driver's socket for them; nil: it has its own
	out        []byte
}

// A readAgain is a connection of which something may be left in the kernel: its events are told once for each time
// that something comes (EPOLLET), which spares the kernel a second look at every socket.
type readAgain struct{ id, generation int32 }

// wakerID marks the waker's events.
const wakerID = -2

// newEpoll returns the Linux driver.
func newEpoll() (Sockets, error) {
	fd, err := unix.EpollCreate1(unix.EPOLL_CLOEXEC)
	if err != nil {
		return nil, fmt.Errorf("epoll_create1: %w", err)
	}
	p := &epoll{fd: fd, listener: -1, datagrams: -1, events: make([]unix.EpollEvent, eventsPerWait)}
	p.stamps, _ = stampsBegin()
	p.iov.SetLen(readSize)
	p.msg.Iov = &p.iov
	p.msg.SetIovlen(1)
	if err := p.waker.open(fd); err != nil {
		unix.Close(fd)
		p.closeStamps()
		return nil, err
	}
	return p, nil
}

func (p *epoll) closeStamps() {
	if p.stamps >= 0 {
		unix.Close(p.stamps)
	}
}

func (p *epoll) Now() mono.Time { return mono.Now() }

func (p *epoll) KernelTimes() bool { return true }

func (p *epoll) CaughtUp() mono.Time { return p.caughtUp }

func (p *epoll) Blocked() time.Duration { return p.blocked }

// attach puts an open or opening socket under an id.
func (p *epoll) attach(id int32, fd int, opening, datagram bool) error {
	// Without delay, or the tool's own sends would wait for acknowledgements;
	// with receive stamps, or latency would end when the tool gets round to
	// reading. A kernel without them leaves at 0, see read.
	_ = unix.SetsockoptInt(fd, unix.IPPROTO_TCP, unix.TCP_NODELAY, 1)
	_ = unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_TIMESTAMPNS, 1)
	c := &p.conns[id]
	*c = conn{fd: int32(fd), generation: c.generation + 1, opening: opening, waitsOut: opening, lookedAt: mono.Now(),
		datagram: datagram}
	delete(p.far.gone, id)
	ev := p.event(id, c)
	if err := unix.EpollCtl(p.fd, unix.EPOLL_CTL_ADD, fd, &ev); err != nil {
		unix.Close(fd)
		c.fd = -1
		return fmt.Errorf("epoll_ctl: %w", err)
	}
	return nil
}

func (p *epoll) event(id int32, c *conn) unix.EpollEvent {
	ev := unix.EpollEvent{Fd: id, Pad: c.generation}
	if !c.held && !c.finished {
		ev.Events = unix.EPOLLIN | unix.EPOLLRDHUP
	}
	if c.waitsOut {
		ev.Events |= unix.EPOLLOUT
	}
	if !c.datagram && !c.waitsOut {
		ev.Events |= unix.EPOLLET
	}
	return ev
}

// ask asks for the events that a connection waits for.
func (p *epoll) ask(id int32, c *conn) {
	ev := p.event(id, c)
	// It cannot fail on a descriptor that is in the set.
	_ = unix.EpollCtl(p.fd, unix.EPOLL_CTL_MOD, int(c.fd), &ev)
}

func (p *epoll) Hold(id int32, on bool) {
	if c := p.open(id); c != nil && c.held != on {
		c.held = on
		if c.peer != nil {
			return // what comes while it holds is dropped
		}
		c.unseen = true
		p.ask(id, c)
	}
}

// dropAll is a socket filter (BPF) that takes nothing: the system drops each packet before
// it answers for it.
var dropAll = []unix.SockFilter{{Code: unix.BPF_RET | unix.BPF_K}}

func (p *epoll) Unplug(id int32, on bool) bool {
	c := p.open(id)
	switch {
	case c == nil || c.peer != nil:
		return false
	case on:
		p.watchFarEnd(id, c)
		return unix.SetsockoptSockFprog(int(c.fd), unix.SOL_SOCKET, unix.SO_ATTACH_FILTER,
			&unix.SockFprog{Len: uint16(len(dropAll)), Filter: &dropAll[0]}) == nil
	}
	return unix.SetsockoptInt(int(c.fd), unix.SOL_SOCKET, unix.SO_DETACH_FILTER, 0) == nil
}

// OnWire implements Wire.
func (p *epoll) OnWire() {}

// Local is the address of this end of a connection; zero if it has none.
func (p *epoll) Local(id int32) netip.AddrPort {
	c := p.open(id)
	if c == nil || c.peer != nil {
		return netip.AddrPort{}
	}
	at, err := unix.Getsockname(int(c.fd))
	if err != nil {
		return netip.AddrPort{}
	}
	_, address, port := addressBytes(at)
	from, _ := netip.AddrFromSlice(address)
	return netip.AddrPortFrom(from, port)
}

func (p *epoll) open(id int32) *conn {
	if int(id) >= len(p.conns) || p.conns[id].fd < 0 {
		return nil
	}
	return &p.conns[id]
}

func (p *epoll) Hangup(id int32) {
	if int(id) >= len(p.conns) {
		return
	}
	c := &p.conns[id]
	if c.fd < 0 && !c.ending {
		return
	}
	p.shut(c)
	c.ending = false
	c.generation++ // what was read of it is not handed over any more
	if p.listens() {
		p.free = append(p.free, id)
	}
}

// Abort implements Driver: a socket that does not linger is reset when it is closed
// (socket(7), SO_LINGER).
func (p *epoll) Abort(id int32) {
	if c := p.open(id); c != nil && !c.datagram && c.peer == nil {
		_ = unix.SetsockoptLinger(int(c.fd), unix.SOL_SOCKET, unix.SO_LINGER, &unix.Linger{Onoff: 1})
	}
	p.Hangup(id)
}

// listens reports whether the driver picks all numbers.
func (p *epoll) listens() bool { return p.listener >= 0 || p.datagrams >= 0 }

// shut closes a connection's socket, if it is open.
func (p *epoll) shut(c *conn) {
	if c.fd >= 0 {
		switch {
		case c.peer != nil:
			delete(p.peers, c.peer.key())
		case c.datagram:
			p.countDropped(c)
			fallthrough
		default:
			unix.Close(int(c.fd))
		}
		p.queued -= len(c.out)
		c.fd, c.out = -1, nil
	}
}

func (p *epoll) CloseWhenFlushed(id int32) {
	if c := p.open(id); c != nil && len(c.out) > 0 {
		c.finish = true
		return
	}
	p.Hangup(id)
}

// broke closes a connection; the owner hears of it after what was read before.
func (p *epoll) broke(id int32, c *conn, err error) {
	p.shut(c)
	c.ending = true
	p.backlog.add(id, c.generation, 'b', err)
}

func (p *epoll) Close() error {
	for id := range p.conns {
		p.Hangup(int32(id))
	}
	if p.listener >= 0 {
		unix.Close(p.listener)
	}
	if p.datagrams >= 0 {
		unix.Close(p.datagrams)
	}
	if p.far.socket > 0 {
		unix.Close(p.far.socket)
	}
	p.waker.close()
	p.closeStamps()
	return unix.Close(p.fd)
}
