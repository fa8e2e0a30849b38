//go:build unix && !linux

package process

import "syscall"

// endsWithUs does nothing: only Linux tells the children of a process that is killed.
func endsWithUs(*syscall.SysProcAttr) {}
