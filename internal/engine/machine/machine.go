// Package machine asks the operating system what the process uses of it.
package machine

import (
	"os"
	"time"
)

// Use is what has been used so far.
type Use struct {
	Process time.Duration // processor time of the whole process
	Thread  time.Duration // of the calling thread; that of the process if threads cannot be measured one by one
	Waited  time.Duration // for how long the thread was ready to run and had no core; 0 if it is not known
	Stolen  time.Duration // core time taken away from the whole machine by what it runs on; 0 if it is not known
}

// CreatePrivate creates a file, or empties one that is there, for its user alone: what a server said may
// be in it.
func CreatePrivate(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	if err := KeepPrivate(path); err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// KeepPrivate takes a file that others may read away from them; older versions
// made such files. What is not a regular file stays as it is.
func KeepPrivate(path string) error {
	info, err := os.Stat(path)
	if err != nil || !info.Mode().IsRegular() || info.Mode().Perm()&0o077 == 0 {
		return nil
	}
	return os.Chmod(path, 0o600)
}
