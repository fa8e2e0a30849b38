// Package cost measures, for tests, what something costs: in the processor time of its thread,
// which does not grow with what else the machine does, as the time on a clock would.
package cost

import (
	"runtime"
	"syscall"
	"time"
)

// Of is the processor time that f takes. What f has other goroutines do does not count.
func Of(f func()) time.Duration {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	before := used()
	f()
	return used() - before
}

func used() time.Duration {
	const thread = 1 // RUSAGE_THREAD
	var r syscall.Rusage
	syscall.Getrusage(thread, &r)
	return time.Duration(r.Utime.Nano() + r.Stime.Nano())
}
