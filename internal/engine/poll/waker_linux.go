package poll

import (
	"fmt"
	"sync"

	"golang.org/x/sys/unix"
)

// A waker ends the waits of an epoll: a counter of the kernel (eventfd(2)) in its set.
type waker struct {
	mu sync.Mutex // once it is closed, its number may be another file's
	fd int        // 0: closed
}

func (w *waker) open(epoll int) error {
	fd, err := unix.Eventfd(0, unix.EFD_CLOEXEC|unix.EFD_NONBLOCK)
	if err != nil {
		return fmt.Errorf("eventfd: %w", short(err))
	}
	if err := unix.EpollCtl(epoll, unix.EPOLL_CTL_ADD, fd,
		&unix.EpollEvent{Events: unix.EPOLLIN, Fd: wakerID}); err != nil {
		unix.Close(fd)
		return fmt.Errorf("epoll_ctl: %w", err)
	}
	w.fd = fd
	return nil
}

// read takes note of having been woken.
func (w *waker) read() {
	var count [8]byte
	_, _ = unix.Read(w.fd, count[:]) // an error only means that there is nothing
}

func (w *waker) close() {
	w.mu.Lock()
	defer w.mu.Unlock()
	unix.Close(w.fd)
	w.fd = 0
}

// Wake implements Driver.
func (p *epoll) Wake() {
	w := &p.waker
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.fd != 0 {
		one := [8]byte{1}
		_, _ = unix.Write(w.fd, one[:]) // it fails only if the counter is full, which wakes as well
	}
}
