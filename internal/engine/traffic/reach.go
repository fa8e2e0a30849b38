package traffic

import (
	"context"
	"net"
	"net/netip"
)

// Reach is where something at an address of this machine is to be found from the network: what
// listens at all addresses of the machine is found at the other end of the cable.
func (n *Network) Reach(a netip.Addr) netip.Addr {
	if n.Host.IsValid() && a.IsLoopback() {
		return n.Host
	}
	return a
}

// Dial connects as net.Dialer does, to where something is to be found from the network.
func (n *Network) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	if host, port, err := net.SplitHostPort(address); err == nil {
		if at, err := netip.ParseAddr(host); err == nil {
			address = net.JoinHostPort(n.Reach(at).String(), port)
		} else if host == "localhost" {
			address = net.JoinHostPort(n.Reach(netip.MustParseAddr("127.0.0.1")).String(), port)
		}
	}
	return new(net.Dialer).DialContext(ctx, network, address)
}
