//go:build !unix

package machine

// RaiseFileLimit does not know of a limit on this system.
func RaiseFileLimit() int { return 0 }
