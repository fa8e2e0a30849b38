//go:build !linux

package poll

// New returns the best driver for this system.
func New() (Sockets, error) { return NewPortable() }
