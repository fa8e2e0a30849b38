//go:build !unix

package process

import (
	"errors"
	"os"
	"os/exec"
)

// Apart does nothing: this system has no process groups.
func Apart(*exec.Cmd) {}

func apart(*exec.Cmd) {}

// Kill ends a command.
func Kill(cmd *exec.Cmd) error { return cmd.Process.Kill() }

func signal(pid int, _, _ bool) error {
	p, err := os.FindProcess(pid)
	if err != nil {
		return err
	}
	return p.Kill()
}

func pause(int, bool, bool) error { return errors.New("this system cannot make a process stand still") }
