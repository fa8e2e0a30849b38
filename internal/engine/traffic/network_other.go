//go:build !linux

package traffic

import (
	"errors"
	"net/netip"
	"os/exec"
)

// A Network is a network namespace of the process's own, which only Linux has.
type Network struct {
	Up, Down string
	Host     netip.Addr
}

// Own gives the namespace of its own that the process is in: none.
func Own() (Network, bool) { return Network{}, false }

// Enter begins this program anew in a network namespace of its own, which only Linux has.
func Enter(bool) error { return errors.New("faults by the kernel need Linux") }

func (n *Network) command(_ string, of func() *exec.Cmd) ([]byte, error) {
	return of().CombinedOutput()
}
