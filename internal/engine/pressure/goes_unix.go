//go:build unix

package pressure

import (
	"os"
	"os/signal"
	"syscall"
)

// goesOn tells when the process goes on after it was stopped (signal(7), SIGCONT).
func goesOn() chan os.Signal {
	c := make(chan os.Signal, 1)
	signal.Notify(c, syscall.SIGCONT)
	return c
}
