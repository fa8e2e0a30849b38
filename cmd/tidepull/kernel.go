package main

import (
	"fmt"

	"tidepull/internal/engine/traffic"
	"tidepull/internal/trial"
)

// breaking is the flag of commands that break what is on the path of clients.
type breaking struct {
	Path string `enum:"own,kernel,trial" default:"trial" help:"${path}"`
}

// enter begins this program anew in a network namespace of its own, if the system's traffic control
// is to do faults and it is in none yet: then it does not return.
func enter(t *trial.Trial) error {
	if !t.Kernel {
		return nil
	}
	return enterWith(t.Server == nil || len(t.Server.Command) == 0)
}

// enterWith is enter; host says that the network leads to the rest of the machine.
func enterWith(host bool) error {
	if _, inside := traffic.Own(); !inside {
		return traffic.Enter(host)
	}
	return nil
}

// notReached is why a server was not reached, with what may be the reason.
func notReached(err error) error {
	if n, inside := traffic.Own(); inside && n.Host.IsValid() {
		return fmt.Errorf("%w; with faults by the kernel the clients have a network of their own, from which a "+
			"server is reached only if it listens at all addresses (0.0.0.0), or if the trial starts it", err)
	}
	return err
}
