package run

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"tidepull/internal/client"
	"tidepull/internal/engine"
	"tidepull/internal/engine/poll"
	"tidepull/internal/engine/traffic"
	"tidepull/internal/trial"
	"tidepull/internal/wire"
)

// places are where a target's routes and requests lead, looked up.
type places struct {
	routes  [][]client.Place // of each route, its nodes
	web     wire.Endpoint    // for requests
	webHost string
	proxy   *wire.Endpoint             // that connects everything; nil: there is none
	at      *wire.Endpoint             // where all of them are, whatever their names are; nil: where those lead
	known   map[string][]wire.Endpoint // by the beginning of an address, up to its path
	silent  []string                   // addresses of names that have others, at which nobody answers
	lookup  func(context.Context, string) ([]netip.Addr, error)
}

// findPlaces looks everything up that clients of a target may connect to.
func findPlaces(ctx context.Context, t *trial.Target) (*places, error) {
	n, own := traffic.Own()
	p := &places{known: map[string][]wire.Endpoint{}, lookup: func(ctx context.Context, name string) ([]netip.Addr,
		error) {
		all, err := poll.Lookup(ctx, name)
		if all, err = t.Reachable(name, all, err); own && n.Host.IsValid() { // this machine is at the end of a cable
			for i := range all {
				all[i] = n.Reach(all[i])
			}
		}
		return all, err
	}}
	return p, p.find(ctx, t)
}

func (p *places) find(ctx context.Context, t *trial.Target) error {
	if t.Proxy != "" {
		if err := p.findProxy(ctx, t, t.Proxy); err != nil {
			return err
		}
	}
	if t.At != "" {
		at, err := wire.ParseEndpoint(t.At)
		if err != nil {
			return fmt.Errorf("connect_to: %w", err)
		}
		if at.Unix == "" {
			if _, err := t.Reachable(at.Addr.Addr().String(), []netip.Addr{at.Addr.Addr()}, nil); err != nil {
				return fmt.Errorf("connect_to: %w", err)
			}
		}
		p.at = &at
	}
	for i := range max(1, len(t.Routes)) {
		addresses := []string{t.Address}
		switch {
		case i > 0:
			addresses = []string{t.Routes[i].Address}
		case len(t.Nodes) > 0:
			addresses = t.Nodes
		}
		var nodes []client.Place
		for _, address := range addresses {
			a, err := wire.ParseAddress(address)
			if err != nil {
				return fmt.Errorf("the target's address: %w", err)
			}
			at, err := p.resolve(ctx, a)
			if err != nil {
				return err
			}
			place := client.Place{To: at[0], Others: at[1:], Host: a.Host, Path: a.Path}
			if u := t.Route(i).Urgent; u != nil {
				if place.Beside, err = p.resolveFirst(ctx, u.Address); err != nil {
					return err
				}
			}
			nodes = append(nodes, place)
		}
		p.routes = append(p.routes, nodes)
	}
	p.web, p.webHost = p.routes[0][0].To, p.routes[0][0].Host
	if t.HTTP != "" {
		a, err := wire.ParseAddress(t.HTTP)
		if err != nil {
			return fmt.Errorf("the target's http address: %w", err)
		}
		if p.web, err = p.resolveFirst(ctx, t.HTTP); err != nil {
			return err
		}
		p.webHost = a.Host
	}
	return nil
}

// served are the addresses at which clients reach the server.
func (p *places) served() (all []netip.AddrPort) {
	for _, route := range p.routes {
		for _, place := range route {
			for _, at := range append([]wire.Endpoint{place.To}, place.Others...) {
				if at.Addr.IsValid() {
					all = append(all, at.Addr)
				}
			}
		}
	}
	return all
}

// listening is where the server listens; nil if there is more than one place, or it is none that can be looked at.
func (p *places) listening() *wire.Endpoint {
	if len(p.routes) == 0 || len(p.routes[0]) != 1 || len(p.routes[0][0].Others) > 0 {
		return nil
	}
	to := p.routes[0][0].To
	if to.Unix != "" || to.Datagrams || to.Via != (wire.Via{}) || !to.Addr.IsValid() {
		return nil
	}
	return &to
}

// findProxy looks the proxy up. What stands before its host is a credential for it.
func (p *places) findProxy(ctx context.Context, t *trial.Target, address string) error {
	u, err := url.Parse(address)
	if err != nil {
		return fmt.Errorf("the proxy's address: %w", err)
	}
	a, err := wire.ParseAddress(address)
	if err != nil {
		return fmt.Errorf("the proxy's address: %w", err)
	}
	at, err := poll.Resolve(ctx, a)
	if err != nil {
		return &engine.Unreachable{To: a.Host, Reasons: []string{err.Error()}}
	}
	if _, err := t.Reachable(a.Name, []netip.Addr{at.Addr.Addr()}, nil); err != nil {
		return fmt.Errorf("the proxy: %w", err)
	}
	if u.User != nil {
		password, _ := u.User.Password()
		at.Via.Authorization = "Basic " + base64.StdEncoding.EncodeToString([]byte(u.User.Username()+":"+password))
	}
	p.proxy = &at
	return nil
}

// resolve looks an address up, once. Of a name with several addresses it gives those at
// which connections are accepted: a server under development listens at 127.0.0.1, say, and
// not at all that localhost is. Datagrams are not accepted anywhere, and go to the first.
func (p *places) resolve(ctx context.Context, a wire.Address) (all []wire.Endpoint, err error) {
	key := a.Scheme + "://" + a.Host
	if known := p.known[key]; known != nil {
		return known, nil
	}
	if at, placed := p.placed(a); placed {
		all = []wire.Endpoint{at}
	} else {
		addrs, err := p.lookup(ctx, a.Name)
		if away := (*trial.Elsewhere)(nil); errors.As(err, &away) {
			return nil, err
		}
		if err != nil {
			return nil, &engine.Unreachable{To: a.Host, Reasons: []string{err.Error()}}
		}
		if a.Scheme == "udp" {
			addrs = addrs[:1]
		}
		for _, addr := range p.answering(ctx, addrs, a.Port) {
			all = append(all, wire.Endpoint{Addr: netip.AddrPortFrom(addr, a.Port)})
		}
	}
	for i := range all {
		all[i] = a.Secured(all[i])
	}
	p.known[key] = all
	return all, nil
}

// answering leaves out the addresses at which nobody answers, unless that is all of them.
func (p *places) answering(ctx context.Context, addrs []netip.Addr, port uint16) []netip.Addr {
	if len(addrs) < 2 {
		return addrs
	}
	good, bad := poll.Answering(ctx, addrs, port)
	if len(good) == 0 {
		return addrs[:1]
	}
	for _, addr := range bad {
		if !addr.IsLoopback() || !slices.ContainsFunc(good, netip.Addr.IsLoopback) {
			p.silent = append(p.silent, netip.AddrPortFrom(addr, port).String())
		}
	}
	return good
}

// note says of names with several addresses which of them clients connect to; "" if there
// is nothing to say.
func (p *places) note() (note string) {
	var dealt []string
	for _, place := range p.routes[0] {
		if len(place.Others) > 0 {
			dealt = append(dealt, place.To.String())
			for _, other := range place.Others {
				dealt = append(dealt, other.String())
			}
		}
	}
	if len(dealt) > 0 {
		note = " (dealt out to " + strings.Join(dealt, ", ") + ")"
	}
	if len(p.silent) > 0 {
		note += " (nobody answers at " + strings.Join(p.silent, ", ") + ", which its name is, too)"
	}
	return note
}

// resolveFirst takes an address apart and gives the first that its name has.
func (p *places) resolveFirst(ctx context.Context, address string) (wire.Endpoint, error) {
	a, err := wire.ParseAddress(address)
	if err != nil {
		return wire.Endpoint{}, fmt.Errorf("the target's address: %w", err)
	}
	all, err := p.resolve(ctx, a)
	if err != nil {
		return wire.Endpoint{}, err
	}
	return all[0], nil
}

// placed is where an address is to be reached whatever its name is; false if that follows
// from its name.
func (p *places) placed(a wire.Address) (wire.Endpoint, bool) {
	switch {
	case p.proxy != nil:
		at := *p.proxy
		at.Via.To = net.JoinHostPort(a.Name, strconv.Itoa(int(a.Port)))
		return at, true
	case p.at != nil:
		return *p.at, true
	}
	return wire.Endpoint{}, false
}

// whereIs gives the address of a place that an answer leads to: one of the target's own, or
// an address of this machine. Nothing is looked up while clients run.
func (p *places) whereIs(place string) (wire.Endpoint, bool) {
	a, err := wire.ParseAddress(place)
	if err != nil {
		return wire.Endpoint{}, false
	}
	if at := p.known[place]; at != nil {
		return at[0], true
	}
	ip, err := netip.ParseAddr(a.Name)
	if err != nil || !ip.Unmap().IsLoopback() {
		return wire.Endpoint{}, false
	}
	at := wire.Endpoint{Addr: netip.AddrPortFrom(ip, a.Port)}
	if p.proxy != nil {
		at, _ = p.placed(a)
	}
	return a.Secured(at), true
}
