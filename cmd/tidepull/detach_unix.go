//go:build unix

package main

import (
	"os/exec"
	"syscall"
)

// detach keeps the terminal's interrupts away from a child: it ends when we
// say so.
func detach(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} }
