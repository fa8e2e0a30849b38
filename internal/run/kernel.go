package run

import (
	"context"
	"errors"
	"log/slog"
	"net"
	"net/http"

	"tidepull/internal/engine/traffic"
	"tidepull/internal/trial"
)

// control starts the system's traffic control if the trial has it do faults; nil if not.
func control(t *trial.Trial, log *slog.Logger) (*traffic.Control, error) {
	if !t.Kernel {
		return nil, nil
	}
	network, ok := traffic.Own()
	if !ok {
		return nil, errors.New("faults by the kernel need a network namespace of their own, which only the commands " +
			"run and demo begin: tidepull run --path kernel")
	}
	return traffic.Start(network, t.NeedsNetem(), log)
}

// dial connects to where something is to be found from the network that the process is in.
func dial(ctx context.Context, network, address string) (net.Conn, error) {
	n, _ := traffic.Own()
	return n.Dial(ctx, network, address)
}

// webClient is net/http's usual one over dial.
func webClient() *http.Client {
	t := http.DefaultTransport.(*http.Transport).Clone()
	t.DialContext = dial
	return &http.Client{Transport: t}
}
