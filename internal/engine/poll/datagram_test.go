package poll

import (
	"bytes"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"tidepull/internal/base/mono"
	"tidepull/internal/wire"
)

// pieces is a peer that keeps what comes to it apart.
type pieces struct {
	peer
	came []string
}

func (p *pieces) Data(id int32, b []byte, came mono.Span) {
	p.came = append(p.came, string(b))
	p.peer.Data(id, b, came)
}

// TestDatagrams: each is handed over by itself, whatever its size, and who sends them can
// be answered; the end of the other side is heard of when something is sent there.
func TestDatagrams(t *testing.T) {
	drivers(t, func(t *testing.T, server, _ *peer, _ netip.AddrPort) {
		at, err := server.d.ListenDatagrams(netip.MustParseAddrPort("127.0.0.1:0"))
		if err != nil {
			t.Fatal(err)
		}
		var client pieces
		client.got = map[int32][]byte{}
		if client.d, err = New(); strings.Contains(t.Name(), "portable") {
			client.d, err = NewPortable()
		}
		if err != nil {
			t.Fatal(err)
		}
		defer client.d.Close()
		turn := func(what string, until func() bool) {
			t.Helper()
			turnBoth(t, server.d, server, client.d, &client, what, until)
		}
		sizes := []int{1, 0, 7, wire.MaxDatagram, 1}
		var want []string
		for id := range int32(3) {
			if err := client.d.Dial(id, wire.Endpoint{Addr: at, Datagrams: true}); err != nil {
				t.Fatal(err)
			}
			for _, size := range sizes {
				b := bytes.Repeat([]byte{'a' + byte(id)}, size)
				if client.d.Write(id, b); size > 0 { // an empty one is none
					want = append(want, string(b))
				}
			}
		}
		turn("all come back", func() bool { return len(client.came) >= len(want) })
		slices.Sort(client.came)
		if slices.Sort(want); !slices.Equal(client.came, want) || server.accepted != 3 || client.opened != 3 {
			t.Fatalf("%d came back of %d; %d accepted", len(client.came), len(want), server.accepted)
		}
		if !server.d.IsDatagrams(0) || !client.d.IsDatagrams(2) || client.d.IsDatagrams(9) {
			t.Error("it does not know its datagrams")
		}
		if client.d.Write(1, make([]byte, wire.MaxDatagram+1)) {
			t.Error("a datagram was sent that is too long")
		}
		client.d.Hangup(1)
		if client.d.KernelTimes() {
			for id := range int32(3) {
				server.d.Write(id, []byte("more"))
			}
			turn("the one that is gone is heard of", func() bool { return server.done == 1 })
		}
		server.d.Close()
		server.d, _ = New()
		client.d.Write(2, []byte("anybody?"))
		turn("nobody is there any more", func() bool { return client.done == 1 })
	})
}

// TestDropped: what the system drops because nobody reads is counted.
func TestDropped(t *testing.T) {
	server, client := &peer{got: map[int32][]byte{}}, &pieces{}
	client.got = map[int32][]byte{}
	for _, p := range []*peer{server, &client.peer} {
		d, err := New()
		if err != nil {
			t.Fatal(err)
		}
		p.d = d
		defer d.Close()
	}
	if !client.d.KernelTimes() {
		t.Skip("this system does not say what it dropped")
	}
	at, err := server.d.ListenDatagrams(netip.MustParseAddrPort("127.0.0.1:0"))
	if err != nil {
		t.Fatal(err)
	}
	if err := client.d.Dial(0, wire.Endpoint{Addr: at, Datagrams: true}); err != nil {
		t.Fatal(err)
	}
	client.d.Write(0, []byte("hello"))
	turnBoth(t, server.d, server, client.d, client, "hello", func() bool { return server.accepted == 1 })
	const n = 20_000
	for range n {
		server.d.Write(0, make([]byte, 1000))
	}
	turnBoth(t, server.d, server, client.d, client, "all are accounted for",
		func() bool { return len(client.came)+client.d.Dropped() == n })
	if client.d.Dropped() == 0 || len(client.came) < manyAtOnce {
		t.Errorf("%d came, %d were dropped", len(client.came), client.d.Dropped())
	}
}
