package poll

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"tidepull/internal/wire"
)

// LookupInOrder gives the addresses of a name, at least one, in the order in which the
// system would try them (RFC 6724).
func LookupInOrder(ctx context.Context, name string) ([]netip.Addr, error) {
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
	return addrs, nil
}

// Lookup is LookupInOrder with the addresses of IPv4 first: most servers under
// development listen there.
func Lookup(ctx context.Context, name string) ([]netip.Addr, error) {
	addrs, err := LookupInOrder(ctx, name)
	slices.SortStableFunc(addrs, func(a, b netip.Addr) int { return a.BitLen() - b.BitLen() })
	return addrs, err
}

// Resolve looks an address's name up.
func Resolve(ctx context.Context, a wire.Address) (wire.Endpoint, error) {
	addrs, err := Lookup(ctx, a.Name)
	if err != nil {
		return wire.Endpoint{}, err
	}
	return wire.Endpoint{Addr: netip.AddrPortFrom(addrs[0], a.Port)}, nil
}

// answersWithin is how long an address may take to accept a connection, when it is found
// out which of a name's do.
const answersWithin = 2 * time.Second

// Answering gives those of some addresses at which a connection is accepted, and those at
// which none is, each in the given order.
func Answering(ctx context.Context, addrs []netip.Addr, port uint16) (good, bad []netip.Addr) {
	ctx, cancel := context.WithTimeout(ctx, answersWithin)
	defer cancel()
	answers := make([]bool, len(addrs))
	var all sync.WaitGroup
	for i, a := range addrs {
		all.Go(func() {
			var d net.Dialer
			conn, err := d.DialContext(ctx, "tcp", netip.AddrPortFrom(a, port).String())
			if answers[i] = err == nil; err == nil {
				conn.Close()
			}
		})
	}
	all.Wait()
	for i, a := range addrs {
		if answers[i] {
			good = append(good, a)
		} else {
			bad = append(bad, a)
		}
	}
	return good, bad
}

// firstLead is how long the first address is tried alone (RFC 8305 5, Connection Attempt
// Delay).
const firstLead = 250 * time.Millisecond

// An Attempt is one address that was tried, and what came of it.
type Attempt struct {
	To   string
	Took time.Duration
	Err  error // nil: it is connected, or another one was first
	Won  bool
}

// DialAny connects to one of some addresses: the families in turn, that of the first one
// first, each after the one before has failed or has had its lead (RFC 8305 4 and 5, happy
// eyeballs). Attempts are in the order of their beginnings.
func DialAny(ctx context.Context, addrs []netip.Addr, port uint16) (net.Conn, []Attempt, error) {
	addrs = inTurn(addrs)
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	type outcome struct {
		i    int
		conn net.Conn
		err  error
		took time.Duration
	}
	outcomes := make(chan outcome, len(addrs))
	var attempts []Attempt
	begin := func() {
		i, began := len(attempts), time.Now()
		to := netip.AddrPortFrom(addrs[i], port).String()
		attempts = append(attempts, Attempt{To: to})
		go func() {
			var d net.Dialer
			conn, err := d.DialContext(ctx, "tcp", to)
			outcomes <- outcome{i, conn, err, time.Since(began)}
		}()
	}
	var lead *time.Timer
	begin()
	lead = time.NewTimer(firstLead)
	defer lead.Stop()
	var err error
	for failed := 0; failed < len(addrs); {
		select {
		case o := <-outcomes:
			a := &attempts[o.i]
			a.Took, a.Err = o.took, o.err
			if o.err == nil {
				a.Won = true
				pending := len(attempts) - failed - 1
				cancel()
				for range pending { // one that comes too late
					if late := <-outcomes; late.conn != nil {
						late.conn.Close()
					}
				}
				return o.conn, attempts, nil
			}
			if failed++; err == nil {
				err = o.err // of the first, which is the likeliest to be meant
			}
			lead.Reset(0)
		case <-lead.C:
			if len(attempts) < len(addrs) {
				begin()
				lead.Reset(firstLead)
			}
		}
	}
	return nil, attempts, err
}

// inTurn puts addresses so that the families take turns.
func inTurn(addrs []netip.Addr) (turns []netip.Addr) {
	var first, second []netip.Addr
	for _, a := range addrs {
		if a.Is4() == addrs[0].Is4() {
			first = append(first, a)
		} else {
			second = append(second, a)
		}
	}
	for i := range max(len(first), len(second)) {
		turns = append(append(turns, first[min(i, len(first)):min(i+1, len(first))]...),
			second[min(i, len(second)):min(i+1, len(second))]...)
	}
	return turns
}
