package main

import (
	"fmt"
	"io"
	"os"
	"os/exec"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// screenClients listen to each of the two engines of which one has a screen.
const screenClients = 1000

// screens lets two engines sit in the same room at the same time, on the same core, of which one draws the run on a
// terminal, and measures what CPU each takes for each of its deliveries, in microseconds.
func (b *bencher) screens() (plainly, shown float64, err error) {
	board, addr, err := b.board()
	if err != nil {
		return 0, 0, err
	}
	defer board.end()
	l := plain("-")
	l.clients, l.every = screenClients, 50*time.Millisecond
	path, err := b.trialOf(l, addr)
	if err != nil {
		return 0, 0, err
	}
	l.names = "-on-screen"
	shownPath, err := b.trialOf(l, addr)
	if err != nil {
		return 0, 0, err
	}
	bare, err := start(pinned(1, b.tool, "--store=-", "run", path, "--headless"))
	if err != nil {
		return 0, 0, err
	}
	defer bare.end()
	cmd := pinned(1, b.tool, "--store=-", "run", shownPath)
	screen, err := onScreen(cmd)
	if err != nil {
		return 0, 0, err
	}
	defer screen.Close()
	defer func() {
		cmd.Process.Kill()
		cmd.Wait()
	}()
	if err := flowing(addr, 2*screenClients); err != nil {
		return 0, 0, err
	}
	us, err := each(addr, bare.cmd, cmd)
	if err != nil {
		return 0, 0, err
	}
	bare.cmd.Process.Signal(os.Interrupt)
	return us[0], us[1], nil
}

// onScreen starts a command on a terminal of its own (pty(7)), whose output is read and dropped.
func onScreen(cmd *exec.Cmd) (io.Closer, error) {
	master, err := os.OpenFile("/dev/ptmx", os.O_RDWR|syscall.O_NOCTTY, 0)
	if err != nil {
		return nil, fmt.Errorf("a terminal: %w", err)
	}
	var number, unlocked uint32
	for _, call := range []struct {
		what uint
		with *uint32
	}{{unix.TIOCSPTLCK, &unlocked}, {unix.TIOCGPTN, &number}} {
		if _, _, errno := unix.Syscall(unix.SYS_IOCTL, master.Fd(), uintptr(call.what),
			uintptr(unsafe.Pointer(call.with))); errno != 0 {
			master.Close()
			return nil, fmt.Errorf("a terminal: %w", errno)
		}
	}
	slave, err := os.OpenFile(fmt.Sprintf("/dev/pts/%d", number), os.O_RDWR|syscall.O_NOCTTY, 0)
	if err != nil {
		master.Close()
		return nil, fmt.Errorf("a terminal: %w", err)
	}
	defer slave.Close()
	if err := unix.IoctlSetWinsize(int(master.Fd()), unix.TIOCSWINSZ, &unix.Winsize{Row: 47, Col: 160}); err != nil {
		master.Close()
		return nil, fmt.Errorf("a terminal's size: %w", err)
	}
	cmd.Stdin, cmd.Stdout, cmd.Stderr = slave, slave, slave
	cmd.Env = append(os.Environ(), "TERM=xterm-256color", "COLORTERM=truecolor")
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	if err := cmd.Start(); err != nil {
		master.Close()
		return nil, err
	}
	go io.Copy(io.Discard, master)
	return master, nil
}
