package machine

import (
	"bytes"
	"os"
	"strconv"
	"syscall"
	"time"
	"unsafe"
)

// Now reads the processor time used so far.
func Now() Use {
	var p, t syscall.Rusage
	const thread = 1 // RUSAGE_THREAD
	if syscall.Getrusage(syscall.RUSAGE_SELF, &p) != nil || syscall.Getrusage(thread, &t) != nil {
		return Use{}
	}
	_, stolen := Cores()
	return Use{cpu(&p), cpu(&t), field("/proc/thread-self/schedstat", 1, time.Nanosecond), stolen}
}

// Cores reads for how long the machine's cores worked, and for how long they were taken from it
// by what it runs on.
func Cores() (used, stolen time.Duration) {
	words := firstLine("/proc/stat")
	for _, i := range []int{1, 2, 3, 6, 7} { // user, nice, system, irq, softirq
		used += number(words, i, time.Second/userHertz)
	}
	return used, number(words, 8, time.Second/userHertz)
}

// Thread is the number of the calling thread.
func Thread() int { return syscall.Gettid() }

// userHertz is the unit of /proc/stat (proc(5)): fixed on Linux.
const userHertz = 100

// field reads the n-th word of a file's first line as a multiple of a unit.
func field(path string, n int, unit time.Duration) time.Duration {
	return number(firstLine(path), n, unit)
}

// firstLine gives the words of a file's beginning, its first line among them.
func firstLine(path string) [][]byte {
	f, err := os.Open(path)
	if err != nil {
		return nil
	}
	defer f.Close()
	var b [512]byte
	got, _ := f.Read(b[:])
	return bytes.Fields(b[:got])
}

func number(words [][]byte, n int, unit time.Duration) time.Duration {
	if n >= len(words) {
		return 0
	}
	v, _ := strconv.ParseInt(string(words[n]), 10, 64)
	return time.Duration(v) * unit
}

func cpu(r *syscall.Rusage) time.Duration {
	return time.Duration(r.Utime.Nano() + r.Stime.Nano())
}

// Resident is the process's resident memory in bytes, 0 if it is not known.
func Resident() int64 {
	b, err := os.ReadFile("/proc/self/statm")
	fields := bytes.Fields(b)
	if err != nil || len(fields) < 2 {
		return 0
	}
	pages, _ := strconv.ParseInt(string(fields[1]), 10, 64)
	return pages * int64(os.Getpagesize())
}

// Used is the processor time that a process has used, its threads together; false if that
// cannot be known.
func Used(pid int) (time.Duration, bool) {
	b, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/stat")
	i := bytes.LastIndexByte(b, ')') // the name before it may hold anything (proc(5))
	if err != nil || i < 0 {
		return 0, false
	}
	words := bytes.Fields(b[i+1:])
	if len(words) < 13 {
		return 0, false
	}
	user, _ := strconv.ParseInt(string(words[11]), 10, 64)
	system, _ := strconv.ParseInt(string(words[12]), 10, 64)
	return time.Duration(user+system) * time.Second / userHertz, true
}

// clock reads the machine's monotonic clock (clock_gettime(2)), which its processes share.
func clock() int64 {
	var t syscall.Timespec
	const monotonic = 1 // CLOCK_MONOTONIC
	if _, _, errno := syscall.RawSyscall(syscall.SYS_CLOCK_GETTIME, monotonic, uintptr(unsafe.Pointer(&t)),
		0); errno != 0 {
		return time.Now().UnixNano()
	}
	return t.Nano()
}
