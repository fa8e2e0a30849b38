package poll

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"unsafe"

	"golang.org/x/sys/unix"
)

// datagramBuffer is how many bytes of datagrams the system may keep of a socket until they
// are read; what comes beyond is dropped. Memory is only used for what is there.
const datagramBuffer = 4 << 20

// datagramSocket makes a socket for datagrams.
func datagramSocket(a netip.AddrPort) (int, unix.Sockaddr, error) {
	fd, sa, err := socketFor(a, unix.SOCK_DGRAM)
	if err != nil {
		return 0, nil, err
	}
	if unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_RCVBUFFORCE, datagramBuffer) != nil { // it takes a right
		_ = unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_RCVBUF, datagramBuffer) // as much as may be
	}
	return fd, sa, nil
}

// manyAtOnce is from how many datagrams on, read off a socket in a row, some may have been
// dropped: fewer never fill what the system keeps.
const manyAtOnce = 16

// readDatagrams takes all that there are: each is a piece of its own, with a stamp of its own.
func (p *epoll) readDatagrams(id int32, c *conn) {
	for n := 1; ; n++ {
		if p.backlog.full() {
			p.partly = true
			return
		}
		size, errno := p.receive(c.fd, 0)
		switch {
		case errno == unix.EINTR:
		case errno == unix.EAGAIN:
			if n > manyAtOnce {
				p.countDropped(c)
			}
			return
		case errno != 0:
			p.broke(id, c, fmt.Errorf("read: %w", errno))
			return
		default:
			at := p.arrival()
			p.backlog.addData(id, c.generation, size, at, at)
		}
	}
}

// countDropped counts what the system dropped of a socket's datagrams since it was last
// asked.
func (p *epoll) countDropped(c *conn) {
	n := droppedOf(c.fd)
	p.dropped += int(n - c.dropped)
	c.dropped = n
}

// droppedOf is how many datagrams the system has dropped because a socket was not read in
// time; it is one of the numbers of SO_MEMINFO (linux/sock_diag.h).
func droppedOf(fd int32) uint32 {
	const drops = 8
	var info [drops + 1]uint32
	size := uint32(unsafe.Sizeof(info))
	_, _, errno := unix.Syscall6(unix.SYS_GETSOCKOPT, uintptr(fd), unix.SOL_SOCKET, unix.SO_MEMINFO,
		uintptr(unsafe.Pointer(&info)), uintptr(unsafe.Pointer(&size)), 0)
	if errno != 0 || size < uint32(unsafe.Sizeof(info)) {
		return 0
	}
	return info[drops]
}

// Dropped implements Driver.
func (p *epoll) Dropped() int { return p.dropped }

// A datagram that the system does not take at once waits in a connection's out, behind its
// length in so many bytes.
const queuedHead = 4

// sendDatagram sends one, or queues it.
func (p *epoll) sendDatagram(id int32, c *conn, b []byte) bool {
	if len(c.out) == 0 && !c.opening {
		switch errno := p.send(c, b); errno {
		case 0:
			return true
		case unix.EAGAIN:
		case unix.ENOBUFS, unix.ENOMEM, unix.EMSGSIZE:
			return false // it is not sent, and the connection is none the worse
		default: // what became of an earlier one; to say so once is all that the system does
			if c.peer == nil {
				p.broke(id, c, fmt.Errorf("send: %w", errno))
				return false
			}
			return p.send(c, b) == 0 // it was about another peer
		}
	}
	c.out = append(binary.NativeEndian.AppendUint32(c.out, uint32(len(b))), b...)
	p.queued += queuedHead + len(b)
	if c.peer == nil {
		p.waitOut(id, c, true)
	} else {
		p.peersWait()
	}
	return true
}

// flushDatagrams sends what is queued, as far as the system takes it.
func (p *epoll) flushDatagrams(c *conn) {
	for len(c.out) > 0 {
		size := int(binary.NativeEndian.Uint32(c.out))
		if p.send(c, c.out[queuedHead:queuedHead+size]) == unix.EAGAIN {
			return
		}
		c.out = c.out[queuedHead+size:]
		p.queued -= queuedHead + size
	}
	c.out = nil
}

// send hands a datagram to the system.
func (p *epoll) send(c *conn, b []byte) unix.Errno {
	var first *byte
	if len(b) > 0 {
		first = &b[0]
	}
	fd, to, size := uintptr(c.fd), uintptr(0), uintptr(0)
	if c.peer != nil {
		fd, to, size = uintptr(p.datagrams), uintptr(unsafe.Pointer(&c.peer.name)), uintptr(c.peer.size)
	}
	_, _, errno := unix.RawSyscall6(unix.SYS_SENDTO, fd, uintptr(unsafe.Pointer(first)), uintptr(len(b)), 0, to, size)
	return errno
}

// A remote is who sends datagrams to a driver that listens for them: all come over one
// socket.
type remote struct {
	name unix.RawSockaddrInet6 // or an IPv4 one, which is shorter
	size uint32
}

// peerKey tells peers apart.
type peerKey [unix.SizeofSockaddrInet6]byte

func (p *remote) key() (k peerKey) {
	copy(k[:], (*peerKey)(unsafe.Pointer(&p.name))[:p.size])
	return k
}

// datagramsID marks the events of the socket that peers send to.
const datagramsID = -3

// ListenDatagrams implements Driver. The system tells of those that are gone if it can: of
// a peer that has closed its socket a message says so (ip(7), IP_RECVERR).
func (p *epoll) ListenDatagrams(at netip.AddrPort) (netip.AddrPort, error) {
	fd, sa, err := datagramSocket(at)
	if err != nil {
		return at, err
	}
	_ = unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_TIMESTAMPNS, 1)
	if at.Addr().Unmap().Is4() {
		_ = unix.SetsockoptInt(fd, unix.IPPROTO_IP, unix.IP_RECVERR, 1)
	} else {
		_ = unix.SetsockoptInt(fd, unix.IPPROTO_IPV6, unix.IPV6_RECVERR, 1)
	}
	if err = unix.Bind(fd, sa); err == nil {
		ev := unix.EpollEvent{Events: unix.EPOLLIN, Fd: datagramsID}
		err = unix.EpollCtl(p.fd, unix.EPOLL_CTL_ADD, fd, &ev)
	}
	if err != nil {
		unix.Close(fd)
		return at, fmt.Errorf("listen for datagrams at %v: %w", at, err)
	}
	p.datagrams, p.peers = fd, map[peerKey]int32{}
	return boundTo(fd, at)
}

// servePeers takes what peers have sent.
func (p *epoll) servePeers(h Handler, events uint32) {
	if events&unix.EPOLLOUT != 0 {
		p.flushPeers()
	}
	for events&unix.EPOLLERR != 0 && p.takeRefusal() {
	}
	for n := 0; !p.backlog.full(); n++ {
		size, errno := p.receiveFrom(0)
		if errno != 0 { // none is left, or one that was sent came to nobody: the queue of errors says to whom
			if n > manyAtOnce {
				dropped := droppedOf(int32(p.datagrams))
				p.dropped += int(dropped - p.peersDropped)
				p.peersDropped = dropped
			}
			return
		}
		if id, ok := p.idOfPeer(h); ok {
			at := p.arrival()
			p.backlog.addData(id, p.conns[id].generation, size, at, at)
		}
	}
	p.partly = true
}

// idOfPeer is the id of who sent the datagram at hand; false if it is not to be taken.
func (p *epoll) idOfPeer(h Handler) (id int32, ok bool) {
	key := p.from.key()
	id, known := p.peers[key]
	if known {
		return id, !p.conns[id].held
	}
	if len(p.peers) >= maxPeers {
		return 0, false
	}
	id = p.Reserve()
	c, from := &p.conns[id], p.from
	*c = conn{fd: peerFD, generation: c.generation + 1, peer: &from}
	p.peers[key] = id
	h.Accepted(id)
	return id, p.open(id) != nil
}

// peerFD stands for the socket of all peers in a conn.
const peerFD = 1 << 30

// takeRefusal takes a message that says that a peer is gone out of the queue of errors;
// false if there is none.
func (p *epoll) takeRefusal() bool {
	_, errno := p.receiveFrom(unix.MSG_ERRQUEUE)
	if errno != 0 {
		return false
	}
	if id, known := p.peers[p.from.key()]; known {
		p.broke(id, &p.conns[id], errPeerGone)
	}
	return true
}

var errPeerGone = errors.New("nobody takes datagrams there any more")

// peersWait has the driver hear when the socket of all peers takes datagrams again.
func (p *epoll) peersWait() { p.askPeers(unix.EPOLLIN | unix.EPOLLOUT) }

func (p *epoll) askPeers(events uint32) {
	ev := unix.EpollEvent{Events: events, Fd: datagramsID}
	_ = unix.EpollCtl(p.fd, unix.EPOLL_CTL_MOD, p.datagrams, &ev) // it is in the set
}

// flushPeers sends what waits, of all peers.
func (p *epoll) flushPeers() {
	for i := range p.conns {
		if c := &p.conns[i]; c.peer != nil && c.fd >= 0 {
			if p.flushDatagrams(c); len(c.out) > 0 {
				return
			}
			if c.finish {
				p.Hangup(int32(i))
			}
		}
	}
	p.askPeers(unix.EPOLLIN)
}

// receiveFrom reads once from the socket of all peers; p.from then says which peer's it is.
func (p *epoll) receiveFrom(flags uintptr) (n int, errno unix.Errno) {
	p.from = remote{}
	p.msg.Name, p.msg.Namelen = (*byte)(unsafe.Pointer(&p.from.name)), unix.SizeofSockaddrInet6
	n, errno = p.receive(int32(p.datagrams), flags)
	p.from.size = p.msg.Namelen
	p.msg.Name, p.msg.Namelen = nil, 0
	return n, errno
}

// receive reads once from a socket into the backlog's room.
func (p *epoll) receive(fd int32, flags uintptr) (n int, errno unix.Errno) {
	room := p.backlog.room()
	p.iov.Base = &room[0]
	p.msg.Control = &p.control[0]
	p.msg.SetControllen(len(p.control))
	got, _, errno := unix.RawSyscall(unix.SYS_RECVMSG, uintptr(fd), uintptr(unsafe.Pointer(&p.msg)), flags)
	return int(got), errno
}

// IsDatagrams implements Driver.
func (p *epoll) IsDatagrams(id int32) bool {
	c := p.open(id)
	return c != nil && (c.datagram || c.peer != nil)
}
