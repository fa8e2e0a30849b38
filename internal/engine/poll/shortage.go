package poll

import (
	"errors"
	"syscall"

	"tidepull/internal/wire"
)

// short marks an error that this machine caused by having run out of something.
func short(err error) error {
	for _, s := range []struct {
		errno syscall.Errno
		lack  wire.Lack
	}{{syscall.EADDRNOTAVAIL, wire.NoPort}, {syscall.EMFILE, wire.NoFile}, {syscall.ENFILE, wire.NoFile},
		{syscall.ENOBUFS, wire.NoMemory}, {syscall.ENOMEM, wire.NoMemory}} {
		if errors.Is(err, s.errno) {
			return &wire.Shortage{Lack: s.lack, Err: err}
		}
	}
	return err
}
