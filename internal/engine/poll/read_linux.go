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
	if p.backlog.len() > 0 {
		until = began // there is something to do
	}
	n, err := p.wait(until, began)
	if err == nil && n > 0 && n < gatherUnder && !p.listens() && until.Sub(mono.Now()) > 2*gatherFor {
		n, err = p.gather()
	}
	now := mono.Now()
	p.blocked += now.Sub(began)
	p.syncClocks()
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
			break
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

// read takes what is there, once: what does not fit is reported again.
func (p *epoll) read(id int32, c *conn) {
	if c.datagram {
		p.readDatagrams(id, c)
		return
	}
	if p.backlog.full() {
		p.partly = true // it waits in the kernel
		return
	}
	n, errno := p.receive(c.fd, 0)
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
		p.backlog.addData(id, c.generation, n, min(from, at), at)
		if n == readSize {
			p.partly = true // there may be more
		} else {
			c.lookedAt, c.unseen = p.looking, c.held
		}
	}
}

// arrival takes the receive stamp of the last read out of its control message:
// of the last packet that it took bytes of.
func (p *epoll) arrival() mono.Time {
	if at, ok := stampIn(p.control[:p.msg.Controllen]); ok {
		return mono.Time(at - p.offset)
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
