package poll

import (
	"errors"
	"fmt"
	"net/netip"
	"os"
	"time"

	"golang.org/x/sys/unix"

	"tidepull/internal/wire"
)

func (p *epoll) Dial(id int32, to wire.Endpoint) error {
	fd, err := p.dial(to)
	if err != nil {
		if p.listens() {
			p.free = append(p.free, id)
		}
		return fmt.Errorf("connect to %v: %w", to, short(err))
	}
	for int(id) >= len(p.conns) {
		p.conns = append(p.conns, conn{fd: -1})
	}
	p.Hangup(id) // an earlier life may still be sending its last bytes
	return p.attach(id, fd, true, to.Datagrams)
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
		if to.Datagrams {
			fd, sa, err = datagramSocket(to.Addr)
		} else {
			fd, sa, err = socketFor(to.Addr, unix.SOCK_STREAM)
		}
		if err != nil {
			return 0, err
		}
		if to.KeepAlive > 0 && !to.Datagrams {
			keepAlive(fd, to.KeepAlive)
		}
		if err = p.connect(fd, sa, to.Addr.Addr(), to.From); err == nil {
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

// keepAlive has the system ask the other side's system for a sign of life (RFC 9293 3.8.4),
// each time that nothing came for so long; the connection breaks if it gives none.
func keepAlive(fd int, every time.Duration) {
	seconds := max(1, int(every/time.Second))
	_ = unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_KEEPALIVE, 1)
	_ = unix.SetsockoptInt(fd, unix.IPPROTO_TCP, unix.TCP_KEEPIDLE, seconds)
	_ = unix.SetsockoptInt(fd, unix.IPPROTO_TCP, unix.TCP_KEEPINTVL, seconds)
	_ = unix.SetsockoptInt(fd, unix.IPPROTO_TCP, unix.TCP_KEEPCNT, 3)
}

// connect begins to connect, from an address of this machine if one is given. The kernel looks for a free local port by
// trying one after the other, which with half of them taken costs milliseconds for each connection; so for a crowd they
// are picked here, in a row, and each process begins somewhere else.
func (p *epoll) connect(fd int, sa unix.Sockaddr, to netip.Addr, from netip.Addr) error {
	p.dials++
	if from.IsValid() {
		to = from
	}
	if p.dials <= ownPortsAfter {
		if from.IsValid() {
			// The port is picked when it connects, so that one port can lead to several servers.
			_ = unix.SetsockoptInt(fd, unix.IPPROTO_IP, unix.IP_BIND_ADDRESS_NO_PORT, 1)
			if err := unix.Bind(fd, localAddress(to, from, 0)); err == unix.EADDRNOTAVAIL {
				return fmt.Errorf("from %v: this machine has no such address", from) // it is no want of ports
			} else if err != nil {
				return fmt.Errorf("from %v: %w", from, err)
			}
		}
	} else {
		if p.port == 0 {
			p.port = uint16(firstPort + os.Getpid()%100*((lastPort-firstPort)/100))
		}
		_ = unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_REUSEADDR, 1)
		for range portTries {
			if p.port++; p.port < firstPort || p.port > lastPort {
				p.port = firstPort
			}
			if unix.Bind(fd, localAddress(to, from, int(p.port))) == nil {
				break
			}
		}
	}
	if err := unix.Connect(fd, sa); err != nil && err != unix.EINPROGRESS {
		return err
	}
	return nil
}

// localAddress is what a socket is bound to that connects to an address, or from one.
func localAddress(to, from netip.Addr, port int) unix.Sockaddr {
	if ip := to.Unmap(); ip.Is4() {
		local := &unix.SockaddrInet4{Port: port}
		if from.IsValid() {
			local.Addr = from.Unmap().As4()
		}
		return local
	}
	local := &unix.SockaddrInet6{Port: port}
	if from.IsValid() {
		local.Addr = from.As16()
	}
	return local
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

// socketFor makes a socket for an address, of a kind.
func socketFor(a netip.AddrPort, kind int) (int, unix.Sockaddr, error) {
	family, sa := unix.AF_INET, unix.Sockaddr(nil)
	if ip := a.Addr().Unmap(); ip.Is4() {
		sa = &unix.SockaddrInet4{Port: int(a.Port()), Addr: ip.As4()}
	} else {
		family = unix.AF_INET6
		sa = &unix.SockaddrInet6{Port: int(a.Port()), Addr: ip.As16()}
	}
	fd, err := unix.Socket(family, kind|unix.SOCK_NONBLOCK|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return 0, nil, fmt.Errorf("socket: %w", err)
	}
	return fd, sa, nil
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
