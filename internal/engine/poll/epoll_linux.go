package poll

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"tidepull/internal/base/mono"
	"tidepull/internal/wire"
)

// New returns the best driver for this system.
func New() (Driver, error) { return newEpoll() }

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
	tuned    bool
	backlog  backlog
	halves   bool      // the handler wants to hear of connections that are finished one way
	atOnce   bool      // for a benchmark: each piece is handed over before the next socket is read
	seen     mono.Time // when the last look began that read every socket that had anything
	looking  mono.Time // when the look at all sockets that is under way began
	partly   bool      // that look has left something in the kernel
	dials    int
	queued   int       // bytes that wait for the kernel, of all connections
	relisten mono.Time // when a listener that ran out of files is listened to again; 0: it is
	port     uint16    // the last local port that was picked here
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
	unseen     bool      // it was held since, so that looks at all sockets have not seen it
	out        []byte
}

// listenerID marks the listener's events.
const listenerID = -1

// wakerID marks the waker's events.
const wakerID = -2

// newEpoll returns the Linux driver.
func newEpoll() (Driver, error) {
	fd, err := unix.EpollCreate1(unix.EPOLL_CLOEXEC)
	if err != nil {
		return nil, fmt.Errorf("epoll_create1: %w", err)
	}
	p := &epoll{fd: fd, listener: -1, events: make([]unix.EpollEvent, eventsPerWait)}
	p.iov.SetLen(readSize)
	p.msg.Iov = &p.iov
	p.msg.SetIovlen(1)
	if err := p.waker.open(fd); err != nil {
		unix.Close(fd)
		return nil, err
	}
	return p, nil
}

func (p *epoll) Now() mono.Time    { return mono.Now() }
func (p *epoll) KernelTimes() bool { return true }

func (p *epoll) CaughtUp() mono.Time { return p.caughtUp }

func (p *epoll) Blocked() time.Duration { return p.blocked }

func (p *epoll) Dial(id int32, to wire.Endpoint) error {
	fd, err := p.dial(to)
	if err != nil {
		if p.listener >= 0 {
			p.free = append(p.free, id)
		}
		return fmt.Errorf("connect to %v: %w", to, short(err))
	}
	for int(id) >= len(p.conns) {
		p.conns = append(p.conns, conn{fd: -1})
	}
	p.Hangup(id) // an earlier life may still be sending its last bytes
	return p.attach(id, fd, true)
}

// The range from which local ports are picked here: Linux's default for its
// own picking (ip(7), ip_local_port_range).
const (
	firstPort = 32768
	lastPort  = 60999
	// ownPortsAfter is how many connections leave the picking to the kernel.
	ownPortsAfter = 4096
	portTries     = 100
)

// dial begins to connect with a new socket.
func (p *epoll) dial(to wire.Endpoint) (fd int, err error) {
	if to.Unix != "" {
		return unixSocket(to.Unix)
	}
	for range portTries {
		var sa unix.Sockaddr
		if fd, sa, err = tcpSocket(to.Addr); err != nil {
			return 0, err
		}
		if err = p.connect(fd, sa, to.Addr.Addr().Unmap().Is4()); err == nil {
			return fd, nil
		}
		unix.Close(fd)
		// The local port was taken towards this server: another one may not be,
		// and a socket cannot be bound twice.
		if !errors.Is(err, unix.EADDRNOTAVAIL) || p.dials <= ownPortsAfter {
			break
		}
	}
	return 0, err
}

// connect begins to connect. The kernel looks for a free local port by trying
// one after the other, which with half of them taken costs milliseconds for
// each connection; so for a crowd they are picked here, in a row.
func (p *epoll) connect(fd int, sa unix.Sockaddr, v4 bool) error {
	begin := func() error {
		if err := unix.Connect(fd, sa); err != nil && err != unix.EINPROGRESS {
			return err
		}
		return nil
	}
	if p.dials++; p.dials <= ownPortsAfter {
		return begin()
	}
	_ = unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_REUSEADDR, 1)
	for range portTries {
		if p.port++; p.port < firstPort || p.port > lastPort {
			p.port = firstPort
		}
		local := unix.Sockaddr(&unix.SockaddrInet4{Port: int(p.port)})
		if !v4 {
			local = &unix.SockaddrInet6{Port: int(p.port)}
		}
		if unix.Bind(fd, local) == nil {
			break
		}
	}
	return begin()
}

// unixSocket connects to a socket of the file system, which is done at once or not
// at all (unix(7)).
func unixSocket(path string) (int, error) {
	fd, err := unix.Socket(unix.AF_UNIX, unix.SOCK_STREAM|unix.SOCK_NONBLOCK|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return 0, fmt.Errorf("socket: %w", err)
	}
	if err := unix.Connect(fd, &unix.SockaddrUnix{Name: path}); err != nil {
		unix.Close(fd)
		return 0, err
	}
	return fd, nil
}

func tcpSocket(a netip.AddrPort) (int, unix.Sockaddr, error) {
	family, sa := unix.AF_INET, unix.Sockaddr(nil)
	if ip := a.Addr().Unmap(); ip.Is4() {
		sa = &unix.SockaddrInet4{Port: int(a.Port()), Addr: ip.As4()}
	} else {
		family = unix.AF_INET6
		sa = &unix.SockaddrInet6{Port: int(a.Port()), Addr: ip.As16()}
	}
	fd, err := unix.Socket(family, unix.SOCK_STREAM|unix.SOCK_NONBLOCK|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return 0, nil, fmt.Errorf("socket: %w", err)
	}
	return fd, sa, nil
}

// attach puts an open or opening socket under an id.
func (p *epoll) attach(id int32, fd int, opening bool) error {
	// Without delay, or the tool's own sends would wait for acknowledgements;
	// with receive stamps, or latency would end when the tool gets round to
	// reading. A kernel without them leaves at 0, see read.
	_ = unix.SetsockoptInt(fd, unix.IPPROTO_TCP, unix.TCP_NODELAY, 1)
	_ = unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_TIMESTAMPNS, 1)
	c := &p.conns[id]
	*c = conn{fd: int32(fd), generation: c.generation + 1, opening: opening, waitsOut: opening, lookedAt: mono.Now()}
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
	return ev
}

func (p *epoll) waitOut(id int32, c *conn, want bool) {
	if c.waitsOut == want {
		return
	}
	c.waitsOut = want
	p.ask(id, c)
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
		c.unseen = true
		p.ask(id, c)
	}
}

func (p *epoll) Listen(at netip.AddrPort) (netip.AddrPort, error) {
	fd, sa, err := tcpSocket(at)
	if err != nil {
		return at, err
	}
	_ = unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_REUSEADDR, 1)
	if err = unix.Bind(fd, sa); err == nil {
		err = unix.Listen(fd, 4096)
	}
	ev := unix.EpollEvent{Events: unix.EPOLLIN, Fd: listenerID}
	if err == nil {
		err = unix.EpollCtl(p.fd, unix.EPOLL_CTL_ADD, fd, &ev)
	}
	if err != nil {
		unix.Close(fd)
		return at, fmt.Errorf("listen at %v: %w", at, err)
	}
	p.listener = fd
	bound, err := unix.Getsockname(fd)
	if err != nil {
		return at, fmt.Errorf("getsockname: %w", err)
	}
	switch b := bound.(type) {
	case *unix.SockaddrInet4:
		return netip.AddrPortFrom(at.Addr(), uint16(b.Port)), nil
	case *unix.SockaddrInet6:
		return netip.AddrPortFrom(at.Addr(), uint16(b.Port)), nil
	}
	return at, nil
}

func (p *epoll) open(id int32) *conn {
	if int(id) >= len(p.conns) || p.conns[id].fd < 0 {
		return nil
	}
	return &p.conns[id]
}

func (p *epoll) Reserve() int32 {
	if n := len(p.free); n > 0 {
		id := p.free[n-1]
		p.free = p.free[:n-1]
		return id
	}
	p.conns = append(p.conns, conn{fd: -1})
	return int32(len(p.conns) - 1)
}

func (p *epoll) CloseWrite(id int32) {
	c := p.open(id)
	if c == nil {
		return
	}
	if c.shutWrite = true; len(c.out) == 0 && !c.opening {
		_ = unix.Shutdown(int(c.fd), unix.SHUT_WR) // an error shows again when the socket is read
	}
}

func (p *epoll) Queued(id int32) int {
	if id == All {
		return p.queued
	}
	if c := p.open(id); c != nil {
		return len(c.out)
	}
	return 0
}

func (p *epoll) Write(id int32, b []byte) {
	c := p.open(id)
	if c == nil || len(b) == 0 {
		return
	}
	if len(c.out) == 0 && !c.opening {
		n, _ := write(c.fd, b) // an error shows again when the socket is read
		b = b[n:]
	}
	if len(b) > 0 {
		c.out = append(c.out, b...)
		p.queued += len(b)
		p.waitOut(id, c, true)
	}
}

// write does not tell the scheduler of the call: it does not block.
func write(fd int32, b []byte) (int, unix.Errno) {
	n, _, errno := unix.RawSyscall(unix.SYS_WRITE, uintptr(fd), uintptr(unsafe.Pointer(&b[0])), uintptr(len(b)))
	if errno != 0 {
		return 0, errno
	}
	return int(n), 0
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
	if p.listener >= 0 {
		p.free = append(p.free, id)
	}
}

// shut closes a connection's socket, if it is open.
func (p *epoll) shut(c *conn) {
	if c.fd >= 0 {
		unix.Close(int(c.fd))
		p.queued -= len(c.out)
		c.fd, c.out = -1, nil
	}
}

func (p *epoll) FinishAndHangup(id int32) {
	if c := p.open(id); c != nil && len(c.out) > 0 {
		c.finish = true
		return
	}
	p.Hangup(id)
}

func (p *epoll) Wait(until mono.Time, h Handler) error {
	if !p.tuned {
		p.tuned = true
		// Waits end when they should, not up to 50 us later (prctl(2)). It is
		// the waiting thread's own setting.
		_ = unix.Prctl(unix.PR_SET_TIMERSLACK, 1000, 0, 0, 0)
	}
	_, p.halves = h.(HalfHandler)
	began := mono.Now()
	if p.relisten != 0 {
		until = min(until, p.relisten)
		p.listenAgain(began)
	}
	if p.backlog.len() > 0 {
		until = began // there is something to do
	}
	n, err := p.wait(until, began)
	if err == nil && n > 0 && n < gatherUnder && p.listener < 0 && until.Sub(mono.Now()) > 2*gatherFor {
		n, err = p.gather()
	}
	now := mono.Now()
	p.blocked += now.Sub(began)
	p.syncClocks()
	for looked := began; err == nil; {
		if err = p.drain(n, looked, h); err != nil {
			break
		}
		p.hand(h)
		if at, ok := p.backlog.caughtUp(); ok {
			p.caughtUp = at
		}
		// What came in the meantime is read before more is worked on.
		if looked = mono.Now(); p.backlog.len() == 0 || looked.Sub(now) > turnFor {
			break
		}
		n, err = p.look()
	}
	return err
}

// handFor bounds how long pieces are handed over before the sockets are looked at
// again: what comes to one socket twice in that time shares a stamp.
const handFor = 200 * time.Microsecond

// hand hands over what was read, for a while.
func (p *epoll) hand(h Handler) {
	began := mono.Now()
	for n := 1; p.backlog.len() > 0; n++ {
		b, err := p.backlog.take()
		c := &p.conns[b.id]
		switch {
		case c.generation != b.generation: // the owner has hung up
		case b.what == 'o':
			h.Opened(b.id)
		case b.what == 'f':
			h.(HalfHandler).Finished(b.id)
		case b.what == 'd':
			h.Data(b.id, b.data(), b.came())
		default:
			p.Hangup(b.id)
			h.Broke(b.id, err)
		}
		if n%8 == 0 && mono.Now().Sub(began) > handFor {
			return
		}
	}
}

// maxLooks bounds how often a drain looks at the sockets again because more were
// ready than one look tells.
const maxLooks = 256

// drain reads what there is into the backlog. The n sockets that are ready first
// are in p.events; began is when that was asked for.
func (p *epoll) drain(n int, began mono.Time, h Handler) (err error) {
	p.looking, p.partly = began, false
	for looks := 0; ; looks++ {
		for _, ev := range p.events[:n] {
			if ev.Fd == listenerID {
				p.accept(h)
				continue
			}
			if ev.Fd == wakerID {
				p.waker.read()
				continue
			}
			if c := p.open(ev.Fd); c != nil && c.generation == ev.Pad {
				p.serve(ev.Fd, c, ev.Events)
			}
			for p.atOnce && p.backlog.len() > 0 {
				p.hand(h)
			}
		}
		if n < len(p.events) {
			break
		}
		if looks == maxLooks || p.backlog.full() {
			p.partly = true
			break
		}
		p.looking = mono.Now()
		if n, err = p.look(); err != nil {
			return err
		}
	}
	if !p.partly { // every socket that had anything when the drain began was read
		p.backlog.looked(began)
		p.seen = began
	}
	return nil
}

// A message to a crowd arrives at one client after the other. To wake up for
// each would cost more than to read it, so with few sockets ready a moment is
// given for more to come. It delays no send, and no latency: those end in the
// kernel. A listener, which is a server and has its own latency, does not wait.
const (
	gatherFor   = 100 * time.Microsecond
	gatherUnder = 8
)

func (p *epoll) gather() (int, error) {
	ts := unix.NsecToTimespec(int64(gatherFor))
	_ = unix.Nanosleep(&ts, nil) // an early end only means fewer
	return p.look()
}

// look asks which sockets are ready, and does not wait. It does not tell the
// scheduler of the call.
func (p *epoll) look() (int, error) {
	n, _, errno := unix.RawSyscall6(unix.SYS_EPOLL_PWAIT, uintptr(p.fd), uintptr(unsafe.Pointer(&p.events[0])),
		uintptr(len(p.events)), 0, 0, 0)
	switch errno {
	case 0:
		return int(n), nil
	case unix.EINTR:
		return 0, nil
	}
	return 0, fmt.Errorf("epoll_pwait: %w", errno)
}

// wait blocks with a resolution of nanoseconds (epoll_pwait2, Linux 5.11), or
// of milliseconds if the kernel is older.
func (p *epoll) wait(until, now mono.Time) (int, error) {
	left := max(0, until.Sub(now))
	if left > time.Hour {
		left = time.Hour
	}
	ts := unix.NsecToTimespec(int64(left))
	n, _, errno := unix.Syscall6(unix.SYS_EPOLL_PWAIT2, uintptr(p.fd), uintptr(unsafe.Pointer(&p.events[0])),
		uintptr(len(p.events)), uintptr(unsafe.Pointer(&ts)), 0, 0)
	switch errno {
	case 0:
		return int(n), nil
	case unix.EINTR:
		return 0, nil
	case unix.ENOSYS, unix.EPERM:
		got, err := unix.EpollWait(p.fd, p.events, int(left.Milliseconds()))
		if err == nil || err == unix.EINTR {
			return max(0, got), nil
		}
		return 0, fmt.Errorf("epoll_wait: %w", err)
	}
	return 0, fmt.Errorf("epoll_pwait2: %w", errno)
}

func (p *epoll) accept(h Handler) {
	for range 64 {
		fd, _, err := unix.Accept4(p.listener, unix.SOCK_NONBLOCK|unix.SOCK_CLOEXEC)
		if err != nil {
			var lack *wire.Shortage
			if errors.As(short(err), &lack) {
				p.pauseListening()
			}
			return
		}
		id := p.Reserve()
		if p.attach(id, fd, false) == nil {
			h.Accepted(id)
		} else {
			p.free = append(p.free, id)
		}
	}
}

// pauseFor is how long a listener that ran out of files waits for some to come
// back.
const pauseFor = 100 * time.Millisecond

// pauseListening leaves those who come in the kernel's queue: the listener would
// hear of them again at once, and for ever.
func (p *epoll) pauseListening() {
	_ = unix.EpollCtl(p.fd, unix.EPOLL_CTL_DEL, p.listener, nil) // it is in the set
	p.relisten = mono.Now().Add(pauseFor)
}

func (p *epoll) listenAgain(now mono.Time) {
	if p.relisten > now {
		return
	}
	ev := unix.EpollEvent{Events: unix.EPOLLIN, Fd: listenerID}
	if unix.EpollCtl(p.fd, unix.EPOLL_CTL_ADD, p.listener, &ev) == nil {
		p.relisten = 0
	} else {
		p.relisten = now.Add(pauseFor)
	}
}

func (p *epoll) serve(id int32, c *conn, events uint32) {
	if c.opening {
		if !p.finishOpening(id, c) {
			return
		}
	} else if events&unix.EPOLLOUT != 0 && !p.flush(id, c) {
		return
	}
	if events&(unix.EPOLLIN|unix.EPOLLRDHUP|unix.EPOLLHUP|unix.EPOLLERR) != 0 {
		p.read(id, c)
	}
}

func (p *epoll) finishOpening(id int32, c *conn) bool {
	code, err := unix.GetsockoptInt(int(c.fd), unix.SOL_SOCKET, unix.SO_ERROR)
	if err == nil && code != 0 {
		err = unix.Errno(code)
	}
	if err != nil {
		p.broke(id, c, fmt.Errorf("connect: %w", short(err)))
		return false
	}
	c.opening = false
	p.waitOut(id, c, len(c.out) > 0)
	p.backlog.add(id, c.generation, 'o', nil)
	return true
}

// flush sends what is queued; false means that the connection is closed.
func (p *epoll) flush(id int32, c *conn) bool {
	for len(c.out) > 0 {
		n, errno := write(c.fd, c.out)
		if errno != 0 || n == 0 {
			break
		}
		c.out = c.out[n:]
		p.queued -= n
	}
	if len(c.out) > 0 {
		return true
	}
	c.out = nil
	p.waitOut(id, c, false)
	if c.shutWrite {
		_ = unix.Shutdown(int(c.fd), unix.SHUT_WR)
	}
	if c.finish {
		p.Hangup(id)
		return false
	}
	return true
}

// read takes what is there, once: what does not fit is reported again.
func (p *epoll) read(id int32, c *conn) {
	if p.backlog.full() {
		p.partly = true // it waits in the kernel
		return
	}
	room := p.backlog.room()
	p.iov.Base = &room[0]
	p.msg.Control = &p.control[0]
	p.msg.SetControllen(len(p.control))
	n, _, errno := unix.RawSyscall(unix.SYS_RECVMSG, uintptr(c.fd), uintptr(unsafe.Pointer(&p.msg)), 0)
	switch {
	case errno == unix.EAGAIN || errno == unix.EINTR:
	case errno != 0:
		p.broke(id, c, fmt.Errorf("read: %w", errno))
	case n == 0 && p.halves && !c.finished:
		c.finished = true
		p.ask(id, c)
		p.backlog.add(id, c.generation, 'f', nil)
	case n == 0:
		p.broke(id, c, ErrEnded)
	default:
		at, from := p.arrival(), c.lookedAt
		if !c.unseen {
			from = max(from, p.seen)
		}
		p.backlog.addData(id, c.generation, int(n), min(from, at), at)
		if int(n) == len(room) {
			p.partly = true // there may be more
		} else {
			c.lookedAt, c.unseen = p.looking, c.held
		}
	}
}

// broke closes a connection; the owner hears of it after what was read before.
func (p *epoll) broke(id int32, c *conn, err error) {
	p.shut(c)
	c.ending = true
	p.backlog.add(id, c.generation, 'b', err)
}

// arrival takes the receive stamp of the last read out of its control message:
// of the last packet whose bytes it took.
func (p *epoll) arrival() mono.Time {
	const header = unix.SizeofCmsghdr
	if p.msg.Controllen >= header+16 {
		h := (*unix.Cmsghdr)(unsafe.Pointer(&p.control[0]))
		if h.Level == unix.SOL_SOCKET && h.Type == unix.SO_TIMESTAMPNS {
			sec := int64(binary.NativeEndian.Uint64(p.control[header:]))
			nsec := int64(binary.NativeEndian.Uint64(p.control[header+8:]))
			return mono.Time(sec*1e9 + nsec - p.offset)
		}
	}
	return mono.Now()
}

// syncClocks reads the distance between the kernel's stamps (wall clock) and
// the monotonic clock again, often enough to follow a clock that is being
// slewed.
func (p *epoll) syncClocks() {
	now := mono.Now()
	if p.offset == 0 || now.Sub(p.offsetAt) > 50*time.Millisecond {
		p.offset, p.offsetAt = mono.WallOffset(), now
	}
}

func (p *epoll) Close() error {
	for id := range p.conns {
		p.Hangup(int32(id))
	}
	if p.listener >= 0 {
		unix.Close(p.listener)
	}
	p.waker.close()
	return unix.Close(p.fd)
}
