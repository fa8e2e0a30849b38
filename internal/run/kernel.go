package run

import (
	"context"
	"errors"
	"log/slog"
	"net"

	"tidepull/internal/engine/traffic"
	"tidepull/internal/trial"
)

// control starts the system's traffic control if the trial has it do faults, or it may be asked to
// by hand; nil if not.
func control(t *trial.Trial, o Options) (*traffic.Control, error) {
	if !t.Kernel {
		return nil, nil
	}
	network, ok := traffic.Own()
	if !ok {
		return nil, errors.New("faults by the kernel need a network namespace of their own, which only the " +
			"commands run " +
			"and demo begin: tidepull run --path kernel")
	}
	log := o.Log
	if log == nil {
		log = slog.New(slog.DiscardHandler)
	}
	return traffic.Start(network, t.NeedsNetem(), log)
}

// dial connects to where something is to be found from the network that the process is in.
func dial(ctx context.Context, network, address string) (net.Conn, error) {
	n, _ := traffic.Own()
	return n.Dial(ctx, network, address)
}
