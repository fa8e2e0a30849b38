//go:build unix

package machine

import "syscall"

// RaiseFileLimit lets the process open as many files as the system allows it,
// and returns how many that is; 0 if it is not known.
func RaiseFileLimit() int {
	var l syscall.Rlimit
	if syscall.Getrlimit(syscall.RLIMIT_NOFILE, &l) != nil {
		return 0
	}
	if l.Cur < l.Max {
		raised := syscall.Rlimit{Cur: l.Max, Max: l.Max}
		if syscall.Setrlimit(syscall.RLIMIT_NOFILE, &raised) == nil {
			l = raised
		}
	}
	return int(min(uint64(l.Cur), 1<<30))
}
