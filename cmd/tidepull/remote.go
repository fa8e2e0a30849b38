package main

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"time"

	"tidepull/internal/engine/poll"
	"tidepull/internal/trial"
	"tidepull/internal/wire"
)

// remote is the flag of commands that put load on a server, or open a port.
type remote struct {
	RemoteOK bool `name:"remote-ok" help:"${remote_ok}"`
}

// mayReach refuses a server that is not on this machine, unless that was said.
// load says with how much it would be loaded.
func (r *remote) mayReach(what, address, load string) error {
	host := hostOf(address)
	if r.RemoteOK || host == "" || isLocal(host) {
		return nil
	}
	return fmt.Errorf("%s would load %s %s, and that is not this machine; if it is yours to load, say --remote-ok",
		what, host, load)
}

// leadsTo looks up where an address leads, once: what is dialled is what was looked up and may be reached, as the name
// may lead elsewhere a moment later.
func (r *remote) leadsTo(ctx context.Context, a wire.Address) ([]netip.Addr, error) {
	addrs, err := poll.LookupInOrder(ctx, a.Name)
	allowed := trial.Target{Anywhere: r.RemoteOK}
	return allowed.Reachable(a.Name, addrs, err)
}

// mayRun is mayReach for a trial, which can name a host in its target.
func (r *remote) mayRun(t *trial.Trial) error {
	t.Target.Anywhere = r.RemoteOK
	if s := t.Server; s != nil && s.Metrics != "" {
		if err := r.mayReach(fmt.Sprintf("the trial %q", t.Name), s.Metrics,
			"to read its server's metrics each second"); err != nil {
			return err
		}
	}
	if t.Target.At != "" {
		at, _ := wire.ParseEndpoint(t.Target.At) // what is wrong with it is said where it is used
		if at.Unix != "" {
			return nil
		}
		return r.mayReach(fmt.Sprintf("the trial %q", t.Name), "tcp://"+at.String(),
			fmt.Sprintf("with %d clients for %v", t.Clients(), t.Length().Round(time.Second)))
	}
	addresses := append([]string{t.Target.Address, t.Target.HTTP}, t.Target.Nodes...)
	for i := range t.Target.Routes {
		addresses = append(addresses, t.Target.Routes[i].Address)
		if u := t.Target.Routes[i].Urgent; u != nil {
			addresses = append(addresses, u.Address)
		}
	}
	if t.Target.Proxy != "" {
		addresses = append(addresses, t.Target.Proxy)
	}
	for _, address := range addresses {
		if ip, err := netip.ParseAddr(hostOf(address)); t.Target.Proxy != "" && !r.RemoteOK &&
			address != t.Target.Proxy &&
			address != "" && hostOf(address) != t.Target.Remote && (err != nil || !ip.Unmap().IsLoopback()) {
			// It is the proxy that looks it up: where that leads nobody knows here.
			return fmt.Errorf("the trial %q would load %s through a proxy, and that may be anywhere; if it is yours "+
				"to "+
				"load, say --remote-ok, or write remote = %q in its target", t.Name, hostOf(address), hostOf(address))
		}
		if host := hostOf(address); host != "" && host == t.Target.Remote {
			continue
		}
		if err := r.mayReach(fmt.Sprintf("the trial %q", t.Name), address,
			fmt.Sprintf("with %d clients for %v", t.Clients(), t.Length().Round(time.Second))); err != nil {
			return fmt.Errorf("%w, or write remote = %q in its target", err, hostOf(address))
		}
	}
	return nil
}

// mayListen refuses an address that others than this machine can reach.
func (r *remote) mayListen(flag, address string) error {
	host, _, err := net.SplitHostPort(address)
	if err != nil || r.RemoteOK || host != "" && isLocal(host) {
		return nil // a wrong address is reported where it is used
	}
	if host == "" {
		host = "every interface"
	}
	return fmt.Errorf("%s %s would open a port on %s; write 127.0.0.1 before the colon, or say --remote-ok", flag,
		address, host)
}

func hostOf(address string) string {
	a, _ := wire.ParseAddress(address) // what is wrong with it is said where it is used
	return a.Name
}

// isLocal reports whether all addresses of a host are of this machine's loopback.
func isLocal(host string) bool {
	if ip, err := netip.ParseAddr(host); err == nil {
		return ip.Unmap().IsLoopback()
	}
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	all, err := poll.Lookup(ctx, host)
	if err != nil {
		return true // it cannot be reached either: it is looked up again, and looked at, when it is connected to
	}
	for _, ip := range all {
		if !ip.IsLoopback() {
			return false
		}
	}
	return true
}
