// Package cost measures, for tests, what something costs: in the processor time of its thread,
// which does not grow with what else the machine does, as the time on a clock would.
package cost

import (
	"runtime"
	"syscall"
	"time"
	"unsafe"
)

// Of is the processor time that f takes. What f has other goroutines do does not count.
func Of(f func()) time.Duration {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	before := used()
	f()
	return used() - before
}

// used reads the thread's processor time to the nanosecond (clock_gettime(2)).
func used() time.Duration {
	const thread = 3 // CLOCK_THREAD_CPUTIME_ID
	var t syscall.Timespec
	syscall.RawSyscall(syscall.SYS_CLOCK_GETTIME, thread, uintptr(unsafe.Pointer(&t)), 0)
	return time.Duration(t.Nano())
}
