package poll

import (
	"encoding/binary"
	"slices"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"tidepull/internal/base/mono"
)

// farEnds watches the other ends of unplugged connections, which nothing that the server does
// reaches: the system is asked what became of them (sock_diag(7)), if they are on this machine
// and in its own network namespace. Nothing is sent to them, and it takes no rights.
type farEnds struct {
	socket  int // of netlink; 0: not yet opened, -1: it cannot be
	watched []farEnd
	gone    map[int32]mono.Span // by id, until it is dialled again
	looked  mono.Time           // when they were looked at last
	next    mono.Time           // when they are to be
	ask     []byte
	answer  []byte
}

// A farEnd is a connection as its other end's socket is known to the system.
type farEnd struct {
	id, generation int32
	request        [diagRequestSize]byte
	seen           bool // it was found open once; if it never was, it is not on this machine
}

// The sizes and numbers of linux/inet_diag.h and linux/sock_diag.h.
const (
	diagByFamily    = 20 // SOCK_DIAG_BY_FAMILY
	diagRequestSize = 56 // struct inet_diag_req_v2
	diagStates      = 0xfff
)

// Far ends are looked at this often, and less often if there are so many that it would cost
// the loop more than about a tenth of its time.
const (
	farEndsEvery = 2 * time.Millisecond
	farEndTakes  = 25 * time.Microsecond
)

// watchFarEnd begins to watch the other end of a connection.
func (p *epoll) watchFarEnd(id int32, c *conn) {
	f := &p.far
	if c.datagram || f.socket < 0 {
		return
	}
	if f.socket == 0 {
		fd, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_RAW|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK,
			unix.NETLINK_SOCK_DIAG)
		if err != nil {
			f.socket = -1
			return
		}
		f.socket, f.gone, f.answer = fd, map[int32]mono.Span{}, make([]byte, 16<<10)
	}
	w := farEnd{id: id, generation: c.generation}
	if !w.describe(int(c.fd)) {
		return
	}
	f.watched = append(f.watched, w)
	f.next = mono.Now()
}

// describe asks for the socket with the two addresses of fd, the other way round.
func (w *farEnd) describe(fd int) bool {
	local, err := unix.Getsockname(fd)
	if err != nil {
		return false
	}
	peer, err := unix.Getpeername(fd)
	if err != nil {
		return false
	}
	family, from, fromPort := addressBytes(peer)
	_, to, toPort := addressBytes(local)
	if family == 0 {
		return false // not TCP
	}
	r := w.request[:]
	r[0], r[1] = family, unix.IPPROTO_TCP
	binary.NativeEndian.PutUint32(r[4:], diagStates)
	binary.BigEndian.PutUint16(r[8:], fromPort)
	binary.BigEndian.PutUint16(r[10:], toPort)
	copy(r[12:28], from)
	copy(r[28:44], to)
	binary.NativeEndian.PutUint64(r[48:], ^uint64(0)) // INET_DIAG_NOCOOKIE: whichever it is
	return true
}

// addressBytes gives the parts of an address of IP; family 0: it is none.
func addressBytes(a unix.Sockaddr) (family uint8, address []byte, port uint16) {
	switch a := a.(type) {
	case *unix.SockaddrInet4:
		return unix.AF_INET, a.Addr[:], uint16(a.Port)
	case *unix.SockaddrInet6:
		return unix.AF_INET6, a.Addr[:], uint16(a.Port)
	}
	return 0, nil, 0
}

// farEndsDue is when the far ends are to be looked at; mono.Never if there are none.
func (p *epoll) farEndsDue() mono.Time {
	if len(p.far.watched) == 0 {
		return mono.Never
	}
	return p.far.next
}

// farEndsAtOnce is how many are asked about in one go: the system keeps no more answers than
// fit a socket's memory.
const farEndsAtOnce = 64

// lookAtFarEnds sees which of the far ends were closed.
func (p *epoll) lookAtFarEnds() {
	f, now := &p.far, mono.Now()
	if len(f.watched) == 0 || now < f.next {
		return
	}
	f.watched = slices.DeleteFunc(f.watched, func(w farEnd) bool {
		return p.conns[w.id].fd < 0 || p.conns[w.id].generation != w.generation
	})
	for some := range slices.Chunk(f.watched, farEndsAtOnce) {
		open := f.states(some)
		for i := range some {
			w := &some[i]
			if open[i] {
				w.seen = true
				continue
			}
			if w.seen { // else it is not here
				f.gone[w.id] = mono.Span{From: f.looked, To: mono.Now()}
			}
			w.generation = -1
		}
	}
	f.watched = slices.DeleteFunc(f.watched, func(w farEnd) bool { return w.generation < 0 })
	f.looked = now
	f.next = mono.Now().Add(max(farEndsEvery, time.Duration(len(f.watched))*farEndTakes))
}

// states asks which of some far ends are open. One about which the system does not answer
// counts as open if it was: nothing is concluded of silence.
func (f *farEnds) states(some []farEnd) (open [farEndsAtOnce]bool) {
	f.ask = f.ask[:0]
	for i := range some {
		open[i] = some[i].seen
		const head = unix.NLMSG_HDRLEN
		f.ask = binary.NativeEndian.AppendUint32(f.ask, head+diagRequestSize)
		f.ask = binary.NativeEndian.AppendUint16(f.ask, diagByFamily)
		f.ask = binary.NativeEndian.AppendUint16(f.ask, unix.NLM_F_REQUEST)
		f.ask = binary.NativeEndian.AppendUint32(f.ask, uint32(i)) // it is in the answer
		f.ask = binary.NativeEndian.AppendUint32(f.ask, 0)
		f.ask = append(f.ask, some[i].request[:]...)
	}
	// The system has answered when it returns.
	if unix.Sendto(f.socket, f.ask, 0, &unix.SockaddrNetlink{Family: unix.AF_NETLINK}) != nil {
		return open
	}
	for answers := 0; answers < len(some); {
		n, _, err := unix.Recvfrom(f.socket, f.answer, unix.MSG_DONTWAIT)
		if err == syscall.EINTR {
			continue
		}
		if err != nil {
			return open
		}
		all, err := syscall.ParseNetlinkMessage(f.answer[:n])
		if err != nil {
			return open
		}
		for _, m := range all {
			answers++
			i := int(m.Header.Seq)
			switch {
			case i >= len(some):
			case m.Header.Type == unix.NLMSG_ERROR:
				open[i] = open[i] && !isNotFound(m.Data)
			case len(m.Data) > 1:
				open[i] = isOpen(m.Data[1])
			}
		}
	}
	return open
}

func isNotFound(b []byte) bool {
	return len(b) >= 4 && -int32(binary.NativeEndian.Uint32(b)) == int32(unix.ENOENT)
}

// isOpen reports whether a socket in one of TCP's states (linux/tcp_states.h) was not closed by
// its owner.
func isOpen(state byte) bool {
	const established, synReceived, closeWait, newSynReceived = 1, 3, 8, 12
	return state == established || state == synReceived || state == closeWait || state == newSynReceived
}

// Gone implements Driver.
func (p *epoll) Gone(id int32) mono.Span { return p.far.gone[id] }
