package poll

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"slices"

	"tidepull/internal/wire"
)

// Lookup gives the addresses of a name, at least one, those of IPv4 first: most
// servers under development listen there.
func Lookup(ctx context.Context, name string) ([]netip.Addr, error) {
	addrs, err := net.DefaultResolver.LookupNetIP(ctx, "ip", name)
	if err != nil {
		return nil, err // says which name
	}
	if len(addrs) == 0 {
		return nil, fmt.Errorf("%s has no address", name)
	}
	for i := range addrs {
		addrs[i] = addrs[i].Unmap()
	}
	slices.SortStableFunc(addrs, func(a, b netip.Addr) int { return a.BitLen() - b.BitLen() })
	return addrs, nil
}

// Resolve looks an address's name up.
func Resolve(ctx context.Context, a wire.Address) (wire.Endpoint, error) {
	addrs, err := Lookup(ctx, a.Name)
	if err != nil {
		return wire.Endpoint{}, err
	}
	return wire.Endpoint{Addr: netip.AddrPortFrom(addrs[0], a.Port)}, nil
}
