//go:build unix

package mono

import (
	"time"

	"golang.org/x/sys/unix"
)

// machineNow reads the machine's monotonic clock (clock_gettime(2)), which all its processes share.
func machineNow() int64 {
	var t unix.Timespec
	if unix.ClockGettime(unix.CLOCK_MONOTONIC, &t) != nil {
		return time.Now().UnixNano()
	}
	return t.Nano()
}
