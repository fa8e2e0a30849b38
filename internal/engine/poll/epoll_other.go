//go:build !linux

package poll

import "syscall"

// New returns the best driver for this system.
func New() (Sockets, error) { return NewPortable() }

// Stamped reports whether this machine's kernel stamps what arrives: here that is not asked for.
func Stamped() bool { return false }

// StampIn gives the time in a receive stamp: there are none on this system.
func StampIn([]byte) (at int64, ok bool) { return 0, false }

// WantStamps asks for nothing: there are no stamps on this system.
func WantStamps(syscall.Conn) {}
