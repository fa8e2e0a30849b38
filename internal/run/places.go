package run

import (
	"context"
	"encoding/base64"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"strconv"

	"tidepull/internal/client"
	"tidepull/internal/engine"
	"tidepull/internal/engine/poll"
	"tidepull/internal/trial"
	"tidepull/internal/wire"
)

// places are where a target's routes and requests lead, looked up.
type places struct {
	routes  [][]client.Place // of each route, its nodes
	web     wire.Endpoint    // for requests
	webHost string
	proxy   *wire.Endpoint           // that connects everything; nil: there is none
	at      *wire.Endpoint           // where all of them are, whatever their names are; nil: where those lead
	known   map[string]wire.Endpoint // by the beginning of an address, up to its path
}

// findPlaces looks everything up that clients of a target may connect to.
func findPlaces(ctx context.Context, t *trial.Target) (*places, error) {
	p := &places{known: map[string]wire.Endpoint{}}
	if t.Proxy != "" {
		if err := p.findProxy(ctx, t.Proxy); err != nil {
			return nil, err
		}
	}
	if t.At != "" {
		at, err := wire.ParseEndpoint(t.At)
		if err != nil {
			return nil, fmt.Errorf("connect_to: %w", err)
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
				return nil, fmt.Errorf("the target's address: %w", err)
			}
			at, err := p.resolve(ctx, a)
			if err != nil {
				return nil, err
			}
			place := client.Place{To: at, Host: a.Host, Path: a.Path}
			if u := t.Route(i).Urgent; u != nil {
				if place.Beside, err = p.resolveAddress(ctx, u.Address); err != nil {
					return nil, err
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
			return nil, fmt.Errorf("the target's http address: %w", err)
		}
		if p.web, err = p.resolve(ctx, a); err != nil {
			return nil, err
		}
		p.webHost = a.Host
	}
	return p, nil
}

// findProxy looks the proxy up. What stands before its host is a credential for it.
func (p *places) findProxy(ctx context.Context, address string) error {
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
	if u.User != nil {
		password, _ := u.User.Password()
		at.Via.Authorization = "Basic " + base64.StdEncoding.EncodeToString([]byte(u.User.Username()+":"+password))
	}
	p.proxy = &at
	return nil
}

// resolve looks an address up, once.
func (p *places) resolve(ctx context.Context, a wire.Address) (wire.Endpoint, error) {
	if at, known := p.known[a.Scheme+"://"+a.Host]; known {
		return at, nil
	}
	at, placed := p.placed(a)
	if !placed {
		var err error
		if at, err = poll.Resolve(ctx, a); err != nil {
			return at, &engine.Unreachable{To: a.Host, Reasons: []string{err.Error()}}
		}
	}
	at = a.Secured(at)
	p.known[a.Scheme+"://"+a.Host] = at
	return at, nil
}

// resolveAddress takes an address apart and looks it up.
func (p *places) resolveAddress(ctx context.Context, address string) (wire.Endpoint, error) {
	a, err := wire.ParseAddress(address)
	if err != nil {
		return wire.Endpoint{}, fmt.Errorf("the target's address: %w", err)
	}
	return p.resolve(ctx, a)
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

// find gives the address of a place that an answer leads to: one of the target's own, or
// an address of this machine. Nothing is looked up while clients run.
func (p *places) find(place string) (wire.Endpoint, bool) {
	a, err := wire.ParseAddress(place)
	if err != nil {
		return wire.Endpoint{}, false
	}
	if at, known := p.known[place]; known {
		return at, true
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
