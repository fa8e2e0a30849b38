//go:build !linux

package poll

// New returns the best driver for this system.
func New() (Sockets, error) { return NewPortable() }

// Stamped reports whether this machine's kernel stamps what arrives: here that is not asked for.
func Stamped() bool { return false }
