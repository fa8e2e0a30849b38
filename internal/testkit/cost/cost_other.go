//go:build !linux

package cost

import "time"

// Of is the time that f takes.
func Of(f func()) time.Duration {
	began := time.Now()
	f()
	return time.Since(began)
}
