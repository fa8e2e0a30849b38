// Package machine asks the operating system what the process uses of it.
package machine

import "time"

// Use is what has been used so far.
type Use struct {
	Process time.Duration // processor time of the whole process
	Thread  time.Duration // of the calling thread; that of the process where threads are not told apart
}
