package run

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"

	"tidepull/internal/base/plain"
	"tidepull/internal/engine/poll"
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

// dialling connects to where something is to be found from the network that the process is in, if the
// target may be reached there: the addresses that are looked at are those that are connected to.
func dialling(t *trial.Target) func(ctx context.Context, network, address string) (net.Conn, error) {
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		host, port, err := net.SplitHostPort(address)
		if err != nil {
			return nil, fmt.Errorf("%s is no address: %w", address, err)
		}
		all, err := poll.Lookup(ctx, host)
		if all, err = t.Reachable(host, all, err); err != nil {
			return nil, err
		}
		n, _ := traffic.Own()
		var failed error
		for _, at := range all {
			conn, err := n.Dial(ctx, network, net.JoinHostPort(at.String(), port))
			if err == nil {
				return conn, nil
			}
			failed = errors.Join(failed, err)
		}
		return nil, failed
	}
}

// webClient is net/http's usual one over dialling.
func webClient(to *trial.Target) *http.Client {
	t := http.DefaultTransport.(*http.Transport).Clone()
	t.DialContext = dialling(to)
	return &http.Client{Transport: t, CheckRedirect: staysThere}
}

// staysThere has redirects followed on the host that was asked, and nowhere else: what is sent along is
// for that host, and another one may be on another machine.
func staysThere(next *http.Request, before []*http.Request) error {
	first := before[0].URL
	switch {
	case len(before) >= 10:
		return errors.New("10 redirects, one after the other")
	case next.URL.Host != first.Host || next.URL.Scheme != first.Scheme:
		return fmt.Errorf("the answer leads to another host, %s://%s, which is not asked",
			plain.Text(next.URL.Scheme, 20), plain.Text(next.URL.Host, 80))
	}
	return nil
}
