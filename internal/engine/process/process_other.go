//go:build !unix

package process

import (
	"errors"
	"os"
	"os/exec"
)

func apart(*exec.Cmd) {}

func signal(pid int, _, _ bool) error {
	p, err := os.FindProcess(pid)
	if err != nil {
		return err
	}
	return p.Kill()
}

func pause(int, bool, bool) error { return errors.New("this system cannot make a process stand still") }
