package poll

import (
	"encoding/binary"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"tidepull/internal/base/mono"
)

// Bounds on the wait for the kernel to begin with its stamps.
const (
	stampTries = 200
	stampPause = time.Millisecond
)

// stampsBegin opens a socket that asks the kernel to stamp what arrives, and waits until it
// does. The kernel stamps packets only as long as some socket asks for it, and begins in a
// worker of its own: what comes before is stamped when it is read, as if it had come then.
// The socket is kept as long as the driver; -1 if there can be none. does reports whether the kernel has begun.
func stampsBegin() (fd int, does bool) {
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK, 0)
	if err != nil {
		return -1, false
	}
	at := &unix.SockaddrInet4{Addr: [4]byte{127, 0, 0, 1}}
	if unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_TIMESTAMPNS, 1) != nil || unix.Bind(fd, at) != nil {
		return fd, false
	}
	bound, err := unix.Getsockname(fd)
	if err != nil || unix.Connect(fd, bound) != nil {
		return fd, false
	}
	control := make([]byte, 128)
	var b [1]byte
	for range stampTries {
		if _, err := unix.Write(fd, b[:]); err != nil {
			return fd, false
		}
		time.Sleep(stampPause)
		_, n, _, _, err := unix.Recvmsg(fd, b[:], control, 0)
		if err != nil {
			continue
		}
		if at, ok := StampIn(control[:n]); ok && mono.WallOffset()+int64(mono.Now())-at > int64(stampPause)/2 {
			return fd, true
		}
	}
	return fd, false
}

// Stamped reports whether this machine's kernel stamps what arrives.
func Stamped() bool {
	fd, does := stampsBegin()
	if fd >= 0 {
		unix.Close(fd)
	}
	return does
}

// WantStamps asks the kernel to stamp what comes to a socket. If it does not, the instant at which something is read
// counts, which is later.
func WantStamps(c syscall.Conn) {
	if raw, err := c.SyscallConn(); err == nil {
		_ = raw.Control(func(fd uintptr) { _ = unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_TIMESTAMPNS, 1) })
	}
}

// StampIn gives the time in a receive stamp, the first of some control messages, in
// nanoseconds since 1970.
func StampIn(control []byte) (at int64, ok bool) {
	const header = unix.SizeofCmsghdr
	if len(control) < header+16 {
		return 0, false
	}
	h := (*unix.Cmsghdr)(unsafe.Pointer(&control[0]))
	if h.Level != unix.SOL_SOCKET || h.Type != unix.SO_TIMESTAMPNS {
		return 0, false
	}
	sec := int64(binary.NativeEndian.Uint64(control[header:]))
	return sec*1e9 + int64(binary.NativeEndian.Uint64(control[header+8:])), true
}
