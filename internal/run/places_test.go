package run

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"strings"
	"testing"

	"tidepull/internal/trial"
	"tidepull/internal/wire"
)

// TestSeveralAddresses: clients are dealt out to the addresses of a name at which somebody
// answers; what does not answer is said.
func TestSeveralAddresses(t *testing.T) {
	first, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer first.Close()
	_, port, _ := net.SplitHostPort(first.Addr().String())
	second, err := net.Listen("tcp", "127.0.0.2:"+port)
	if err != nil {
		t.Skip(err) // not every system has more than one such address
	}
	defer second.Close()
	names := map[string][]string{"quay.test": {"127.0.0.1", "127.0.0.2", "127.0.0.3"}, "gone.test": {"127.0.0.3",
		"127.0.0.4"},
		"one.test": {"127.0.0.3"}}
	places := func(address, http string) (*places, error) {
		p := &places{known: map[string][]wire.Endpoint{}, lookup: func(_ context.Context,
			name string) (all []netip.Addr, err error) {
			for _, a := range names[name] {
				all = append(all, netip.MustParseAddr(a))
			}
			if len(all) == 0 {
				err = errors.New("no such name")
			}
			return all, err
		}}
		return p, p.find(context.Background(), &trial.Target{Address: address, HTTP: http,
			Routes: []trial.Route{{Address: address}}})
	}
	for address, want := range map[string]string{
		"ws://quay.test:": "127.0.0.1 127.0.0.2", "udp://quay.test:": "127.0.0.1",
		"tcp://gone.test:": "127.0.0.3", "ws://one.test:": "127.0.0.3"} {
		p, err := places(address+port, "http://quay.test:"+port)
		if err != nil {
			t.Fatal(err)
		}
		got := p.routes[0][0].To.Addr.Addr().String()
		for _, other := range p.routes[0][0].Others {
			got += " " + other.Addr.Addr().String()
		}
		if got != want || p.web.Addr.Addr().String() != "127.0.0.1" {
			t.Errorf("%s leads to %s, want %s; requests to %v", address, got, want, p.web)
		}
		if dealt := strings.Contains(p.note(), "dealt out to 127.0.0.1:"+port+", "+
			"127.0.0.2:"+port); dealt != (want == "127.0.0.1 127.0.0.2") {
			t.Errorf("%s: it says %q", address, p.note())
		}
	}
	if _, err := places("ws://nobody.test:80", ""); err == nil || !strings.Contains(err.Error(), "no such name") {
		t.Errorf("a name that nobody has: %v", err)
	}
}
