//go:build !linux

package machine

import (
	"runtime"
	"time"
)

var start = time.Now()

// Now has no portable source: it answers the time since the start, which is
// more than what was used.
func Now() Use { return Use{Process: time.Since(start), Thread: time.Since(start)} }

// Thread is not known here.
func Thread() int { return 0 }

// Resident is the memory that the runtime took from the system, in bytes.
func Resident() int64 {
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return int64(m.Sys - m.HeapReleased)
}

// Used is not known here.
func Used(int) (time.Duration, bool) { return 0, false }

// clock stands in for a clock that processes share: there is no other one.
func clock() int64 { return time.Now().UnixNano() }

// Cores is not known here.
func Cores() (used, stolen time.Duration) { return 0, 0 }
