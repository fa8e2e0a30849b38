//go:build unix

package process

import (
	"os/exec"
	"syscall"
)

// Apart puts a command into a process group of its own: the terminal's ctrl-c is not for it.
func Apart(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} }

// apart is Apart for a server: what it starts ends with it, and if this process is killed it is told to end, if the
// system can.
func apart(cmd *exec.Cmd) {
	Apart(cmd)
	endsWithUs(cmd.SysProcAttr)
}

// to is whom a signal goes to: the whole group of a server that was started here.
func to(pid int, ours bool) int {
	if ours {
		return -pid
	}
	return pid
}

// Kill ends a command that is Apart, and what it started.
func Kill(cmd *exec.Cmd) error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }

func signal(pid int, ours, rude bool) error {
	what := syscall.SIGTERM
	if rude {
		what = syscall.SIGKILL
	} else {
		_ = syscall.Kill(to(pid, ours), syscall.SIGCONT) // who stands still hears nothing
	}
	return syscall.Kill(to(pid, ours), what)
}

func pause(pid int, ours, on bool) error {
	if on {
		return syscall.Kill(to(pid, ours), syscall.SIGSTOP)
	}
	return syscall.Kill(to(pid, ours), syscall.SIGCONT)
}
