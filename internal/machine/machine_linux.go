package machine

import (
	"bytes"
	"os"
	"strconv"
	"syscall"
	"time"
)

// Now reads the processor time used so far.
func Now() Use {
	var p, t syscall.Rusage
	const thread = 1 // RUSAGE_THREAD
	if syscall.Getrusage(syscall.RUSAGE_SELF, &p) != nil || syscall.Getrusage(thread, &t) != nil {
		return Use{}
	}
	return Use{cpu(&p), cpu(&t)}
}

func cpu(r *syscall.Rusage) time.Duration {
	return time.Duration(r.Utime.Nano() + r.Stime.Nano())
}

// Resident is the process's resident memory in bytes, 0 where it is not known.
func Resident() int64 {
	b, err := os.ReadFile("/proc/self/statm")
	fields := bytes.Fields(b)
	if err != nil || len(fields) < 2 {
		return 0
	}
	pages, _ := strconv.ParseInt(string(fields[1]), 10, 64)
	return pages * int64(os.Getpagesize())
}
