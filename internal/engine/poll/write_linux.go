package poll

import (
	"unsafe"

	"golang.org/x/sys/unix"
)

func (p *epoll) waitOut(id int32, c *conn, want bool) {
	if c.waitsOut == want {
		return
	}
	c.waitsOut = want
	p.ask(id, c)
}

func (p *epoll) CloseWrite(id int32) {
	c := p.open(id)
	if c == nil || c.datagram || c.peer != nil {
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

func (p *epoll) Write(id int32, b []byte) bool {
	c := p.open(id)
	if c == nil || len(b) == 0 {
		return c != nil
	}
	if c.datagram || c.peer != nil {
		return p.sendDatagram(id, c, b)
	}
	if len(c.out) == 0 && !c.opening {
		n, errno := write(c.fd, b) // an error shows again when the socket is read
		if errno == unix.EPIPE || errno == unix.ECONNRESET {
			return false
		}
		b = b[n:]
	}
	if len(b) > 0 {
		c.out = append(c.out, b...)
		p.queued += len(b)
		p.waitOut(id, c, true)
	}
	return true
}

// write does not tell the scheduler of the call: it does not block.
func write(fd int32, b []byte) (int, unix.Errno) {
	n, _, errno := unix.RawSyscall(unix.SYS_WRITE, uintptr(fd), uintptr(unsafe.Pointer(&b[0])), uintptr(len(b)))
	if errno != 0 {
		return 0, errno
	}
	return int(n), 0
}

// flush sends what is queued; false means that the connection is closed.
func (p *epoll) flush(id int32, c *conn) bool {
	if c.datagram {
		p.flushDatagrams(c)
	}
	for len(c.out) > 0 && !c.datagram {
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
