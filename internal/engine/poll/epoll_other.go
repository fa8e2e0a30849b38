//go:build !linux

package poll

// New returns the best driver for this system.
func New() (Driver, error) { return NewPortable() }
