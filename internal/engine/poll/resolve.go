package poll

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"slices"

	"tidepull/internal/wire"
)

// Resolve looks an address's name up. If it has several addresses, those of IPv4
// come first, as most servers under development listen there.
func Resolve(ctx context.Context, a wire.Address) (wire.Endpoint, error) {
	addrs, err := net.DefaultResolver.LookupNetIP(ctx, "ip", a.Name)
	if err != nil {
		return wire.Endpoint{}, err // says which name
	}
	if len(addrs) == 0 {
		return wire.Endpoint{}, fmt.Errorf("%s has no address", a.Name)
	}
	slices.SortStableFunc(addrs, func(a, b netip.Addr) int { return a.Unmap().BitLen() - b.Unmap().BitLen() })
	return wire.Endpoint{Addr: netip.AddrPortFrom(addrs[0].Unmap(), a.Port)}, nil
}
