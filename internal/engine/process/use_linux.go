package process

import (
	"bytes"
	"fmt"
	"os"
	"strconv"
	"time"
)

// ticks is how many clock ticks a second has in proc(5).
const ticks = 100

// Use is what a process uses; false if there is none, or nothing can be known of it.
func Use(pid int) (u Used, ok bool) {
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return u, false
	}
	// the name before may hold anything (proc(5), fields 14, 15, 20 and 24)
	f := bytes.Fields(stat[bytes.LastIndexByte(stat, ')')+1:])
	if len(f) < 22 || f[0][0] == 'Z' {
		return u, false
	}
	number := func(i int) int64 {
		n, _ := strconv.ParseInt(string(f[i]), 10, 64)
		return n
	}
	u.CPU = time.Duration(number(11)+number(12)) * time.Second / ticks
	u.Threads = int(number(17))
	u.Memory = number(21) * int64(os.Getpagesize())
	if files, err := os.ReadDir(fmt.Sprintf("/proc/%d/fd", pid)); err == nil {
		u.Files = len(files)
	}
	return u, true
}
