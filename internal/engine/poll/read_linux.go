package poll

import (
	"fmt"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"tidepull/internal/base/mono"
)

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
	until = min(until, p.farEndsDue())
	if p.backlog.len() > 0 || len(p.again) > 0 {
		until = began // there is something to do
	}
	n, err := p.rest(until, began)
	now := mono.Now()
	p.blocked += now.Sub(began)
	p.syncClocks(now)
	p.lookAtFarEnds()
	for looked := began; err == nil; {
		if err = p.drain(n, looked, h); err != nil {
			break
		}
		p.dispatch(h)
		if at, ok := p.backlog.caughtUp(); ok {
			p.caughtUp = at
		}
		// What came in the meantime is read before more is worked on.
		if looked = mono.Now(); p.backlog.len() == 0 || looked.Sub(now) > turnFor {
			break // what is left in the kernel is read in the next turn
		}
		n, err = p.look()
	}
	return err
}

// dispatchFor bounds how long pieces are handed over before the sockets are looked at
// again: what comes to one socket twice in that time shares a stamp.
const dispatchFor = 200 * time.Microsecond

// dispatch hands over what was read, for a while.
func (p *epoll) dispatch(h Handler) {
	began := mono.Now()
	for n := 1; p.backlog.len() > 0; n++ {
		b, err := p.backlog.take()
		c := &p.conns[b.id]
		switch {
		case c.generation != b.generation: // the owner has hung up
		case b.what == 'o':
			h.Opened(b.id)
		case b.what == 'f':
			h.(HalfHandler).PeerFinished(b.id)
		case b.what == 'd':
			h.Data(b.id, b.data(), b.came())
		default:
			p.Hangup(b.id)
			h.Broke(b.id, err)
		}
		if n%8 == 0 && mono.Now().Sub(began) > dispatchFor {
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
	p.readTheRest()
	for looks := 0; ; looks++ {
		for _, ev := range p.events[:n] {
			if ev.Fd == listenerID {
				p.accept(h)
				continue
			}
			if ev.Fd == datagramsID {
				p.servePeers(h, ev.Events)
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
				p.dispatch(h)
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
// each would cost more than to read it. So if several are to be expected, by how
// many there were lately, the loop naps for as long as it takes some to come, and
// looks then; else, with few sockets ready, a moment is given for more to come. It
// delays no send, and no latency: those end in the kernel. A listener, which is a
// server and has its own latency, does not wait.
const (
	gatherFor   = 100 * time.Microsecond
	gatherUnder = 8
	napArrivals = 64
	leastNap    = 50 * time.Microsecond
	mostNap     = time.Millisecond
	// wakesBefore is how long before the next thing to do a nap ends: a sleep takes longer than it should.
	wakesBefore = 60 * time.Microsecond
)

// rest waits until something comes, or until an instant.
func (p *epoll) rest(until, now mono.Time) (n int, err error) {
	if nap := p.nap(until, now); nap > 0 {
		p.sleep(nap)
		if n, err = p.look(); err != nil || n > 0 {
			return n, err
		}
		now = mono.Now()
	}
	n, err = p.wait(until, now)
	if err == nil && n > 0 && n < gatherUnder && !p.listens() && until.Sub(mono.Now()) > 2*gatherFor {
		p.sleep(gatherFor)
		var more int
		more, err = p.lookBehind(n) // what is told once is not told again
		n += more
	}
	return n, err
}

// nap is how long to sleep before the sockets are looked at; 0: not at all.
func (p *epoll) nap(until, now mono.Time) time.Duration {
	if p.listens() {
		return 0
	}
	p.pace.upTo(now, p.backlog.read)
	nap := min(p.pace.timeOf(napArrivals), mostNap, until.Sub(now)-wakesBefore)
	if nap < leastNap || nap < p.pace.timeOf(2) {
		return 0
	}
	return nap
}

// sleep sleeps; an early end only means that fewer have come. It does not tell Go's scheduler, which would take the
// loop's processor (in the sense of GOMAXPROCS) away after 20 us and look for work for it. A run has one more than
// loops, so nobody waits for this one.
func (p *epoll) sleep(d time.Duration) {
	ts := unix.NsecToTimespec(int64(d))
	_, _, _ = unix.RawSyscall(unix.SYS_NANOSLEEP, uintptr(unsafe.Pointer(&ts)), 0, 0)
}

// A pace is how much was read lately.
type pace struct {
	since mono.Time
	read  uint64
	each  time.Duration // how long one takes to come; 0: none do
}

// paceOver is how long a time a pace is of.
const paceOver = 4 * time.Millisecond

// upTo takes note of how many pieces were read by an instant, all in all.
func (p *pace) upTo(now mono.Time, read uint64) {
	took := now.Sub(p.since)
	if took < paceOver {
		return
	}
	p.each = 0
	if n := read - p.read; n > 0 {
		p.each = took / time.Duration(n)
	}
	p.since, p.read = now, read
}

// timeOf is how long some take to come; a long time if none do.
func (p *pace) timeOf(n int) time.Duration {
	if p.each == 0 {
		return time.Hour
	}
	return time.Duration(n) * p.each
}

// look asks which sockets are ready, and does not wait. It does not tell the
// scheduler of the call.
func (p *epoll) look() (int, error) { return p.lookBehind(0) }

// lookBehind is look, which leaves the first events as they are.
func (p *epoll) lookBehind(have int) (int, error) {
	n, _, errno := unix.RawSyscall6(unix.SYS_EPOLL_PWAIT, uintptr(p.fd), uintptr(unsafe.Pointer(&p.events[have])),
		uintptr(len(p.events)-have), 0, 0, 0)
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

func (p *epoll) serve(id int32, c *conn, events uint32) {
	if c.opening {
		if !p.finishOpening(id, c) {
			return
		}
	} else if events&unix.EPOLLOUT != 0 && !p.flush(id, c) {
		return
	}
	if events&(unix.EPOLLIN|unix.EPOLLRDHUP|unix.EPOLLHUP|unix.EPOLLERR) == 0 {
		return
	}
	if c.finished {
		events &^= unix.EPOLLRDHUP // it is known
	}
	if events&(unix.EPOLLRDHUP|unix.EPOLLHUP|unix.EPOLLERR) != 0 {
		c.ends = true // behind what there is to read
	}
	if c.readIn != p.looking { // once in a look, so that one that pours does not fill the backlog
		p.read(id, c)
	} else if c.ends {
		p.readsAgain(id, c)
	}
}

// readsAgain has a connection read again, though nothing more comes over it.
func (p *epoll) readsAgain(id int32, c *conn) {
	if !c.again {
		c.again = true
		p.again = append(p.again, readAgain{id, c.generation})
	}
}

// readTheRest reads what was left in the kernel.
func (p *epoll) readTheRest() {
	rest := p.again
	p.again = p.spare[:0]
	for _, r := range rest {
		c := p.open(r.id)
		if c == nil || c.generation != r.generation || !c.again {
			continue
		}
		c.again = false
		if !c.held { // or it is told of what there is once it holds no more
			p.read(r.id, c)
		}
	}
	p.spare = rest[:0]
}

// read takes what is there, once: what may be left is read in the next turn.
func (p *epoll) read(id int32, c *conn) {
	if c.datagram {
		p.readDatagrams(id, c)
		return
	}
	if p.backlog.full() {
		p.partly = true // it waits in the kernel
		p.readsAgain(id, c)
		return
	}
	c.readIn = p.looking
	n, errno := p.receive(c.fd, 0)
	switch {
	case errno == unix.EAGAIN:
	case errno == unix.EINTR:
		p.partly = true
		p.readsAgain(id, c)
	case errno != 0:
		p.broke(id, c, fmt.Errorf("read: %w", errno))
	case n == 0 && p.halves && !c.finished:
		c.finished, c.again, c.ends = true, false, false
		p.ask(id, c)
		p.backlog.add(id, c.generation, 'f', nil)
	case n == 0:
		p.broke(id, c, ErrEnded)
	default:
		at, from := p.arrival(), c.lookedAt
		if !c.unseen {
			from = max(from, p.seen)
		}
		p.backlog.addData(id, c.generation, n, min(from, at), at)
		if n == readSize || c.ends {
			p.readsAgain(id, c) // there may be more
		}
		if n == readSize {
			p.partly = true
		} else {
			c.lookedAt, c.unseen = p.looking, c.held
		}
	}
}

// arrival takes the receive stamp of the last read out of its control message:
// of the last packet that it took bytes of.
func (p *epoll) arrival() mono.Time {
	if at, ok := StampIn(p.control[:p.msg.Controllen]); ok {
		return mono.OfOwn(mono.Time(at - p.offset))
	}
	return mono.Now()
}

// syncClocks reads the distance between the kernel's stamps (wall clock) and
// the monotonic clock again, often enough to follow a clock that is being
// slewed.
func (p *epoll) syncClocks(now mono.Time) {
	if p.offset == 0 || now.Sub(p.offsetAt) > 50*time.Millisecond {
		p.offset, p.offsetAt = mono.OwnWallOffset(), now
	}
}
