//go:build unix

package tui

import (
	"io"
	"os"
	"os/signal"
	"syscall"
	"time"

	tea "charm.land/bubbletea/v2"
)

// suspend puts the program aside, as ctrl+z does, until the shell brings it back.
//
// tea.Suspend does the same, but stops the process while the goroutine that drew may
// still have to stop its ticker: on a busy machine it does so after the new one was
// started, and the screen is never drawn again. As a command of our own there is time
// between the two.
func suspend() tea.Cmd {
	return tea.Exec(aside{}, nil)
}

// aside is the command that runs while the terminal is the shell's.
type aside struct{}

// Run stops the whole process group, the stand-in of a demo too, and returns when it
// goes on.
func (aside) Run() error {
	resumed := make(chan os.Signal, 1)
	signal.Notify(resumed, syscall.SIGCONT)
	defer signal.Stop(resumed)
	for range 5 {
		time.Sleep(5 * time.Millisecond)
	}
	if err := syscall.Kill(0, syscall.SIGTSTP); err != nil {
		return err
	}
	<-resumed
	return nil
}

func (aside) SetStdin(io.Reader)  {}
func (aside) SetStdout(io.Writer) {}
func (aside) SetStderr(io.Writer) {}
