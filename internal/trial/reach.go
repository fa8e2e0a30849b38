package trial

import (
	"fmt"
	"net/netip"
)

// MayReach reports whether a run may connect to an address that a host's name led to: one of this
// machine, unless the trial names the host or whoever runs it has said that it may be any.
func (t *Target) MayReach(host string, at netip.Addr) bool {
	return at.Unmap().IsLoopback() || t.Anywhere || host != "" && host == t.Remote
}

// An Elsewhere is why a run does not connect to a host: its name leads to another machine now, whatever
// it led to when the run was begun.
type Elsewhere struct {
	Host string
	At   netip.Addr
}

func (e *Elsewhere) Error() string {
	return fmt.Sprintf("%s is at %v, and that is not this machine; if it is yours to load, say --remote-ok, or write "+
		"remote = %q in its target", e.Host, e.At, e.Host)
}

// Reachable gives the addresses that a name led to if all of them may be reached.
func (t *Target) Reachable(host string, all []netip.Addr, err error) ([]netip.Addr, error) {
	for _, at := range all {
		if !t.MayReach(host, at) {
			return nil, &Elsewhere{host, at}
		}
	}
	return all, err
}
