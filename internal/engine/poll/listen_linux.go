package poll

import (
	"errors"
	"fmt"
	"net/netip"
	"time"

	"golang.org/x/sys/unix"

	"tidepull/internal/base/mono"
	"tidepull/internal/wire"
)

// listenerID marks the listener's events.
const listenerID = -1

func (p *epoll) Listen(at netip.AddrPort) (netip.AddrPort, error) {
	fd, sa, err := socketFor(at, unix.SOCK_STREAM)
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
	return boundTo(fd, at)
}

// boundTo is the address that a socket listens at, which was asked to at another one with
// port 0, perhaps.
func boundTo(fd int, at netip.AddrPort) (netip.AddrPort, error) {
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

func (p *epoll) Reserve() int32 {
	if n := len(p.free); n > 0 {
		id := p.free[n-1]
		p.free = p.free[:n-1]
		return id
	}
	p.conns = append(p.conns, conn{fd: -1})
	return int32(len(p.conns) - 1)
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
		if p.attach(id, fd, false, false) == nil {
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
