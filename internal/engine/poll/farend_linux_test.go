package poll

import (
	"net"
	"net/netip"
	"testing"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/wire"
)

// TestFarEnd: of an unplugged connection, which hears of nothing, it is known when its server
// closed it, over both versions of IP and a socket that serves both, also with so many that they
// are asked about in several goes; not before, and not of one that the server keeps.
func TestFarEnd(t *testing.T) {
	for _, c := range []struct{ listen, dial string }{
		{"127.0.0.1:0", "127.0.0.1"}, {"[::1]:0", "::1"}, {"[::]:0", "127.0.0.1"},
	} {
		t.Run(c.listen, func(t *testing.T) {
			l, err := net.Listen("tcp", c.listen)
			if err != nil {
				t.Skip(err)
			}
			defer l.Close()
			d, err := New()
			if err != nil {
				t.Fatal(err)
			}
			defer d.Close()
			p := &peer{d: d, got: map[int32][]byte{}}
			const many = 2*farEndsAtOnce + 5
			at := l.Addr().(*net.TCPAddr).AddrPort()
			to := wire.Endpoint{Addr: netip.AddrPortFrom(netip.MustParseAddr(c.dial), at.Port())}
			var server []net.Conn
			for id := range int32(many) {
				if err := d.Dial(id, to); err != nil {
					t.Fatal(err)
				}
				s, err := l.Accept()
				if err != nil {
					t.Fatal(err)
				}
				defer s.Close()
				server = append(server, s)
			}
			pass := func(how time.Duration) {
				for until := mono.Now().Add(how); mono.Now() < until; {
					if err := d.Wait(min(until, mono.Now().Add(10*time.Millisecond)), p); err != nil {
						t.Fatal(err)
					}
				}
			}
			pass(20 * time.Millisecond)
			for id := range int32(many) {
				if !d.Unplug(id, true) {
					t.Fatal("it cannot be unplugged")
				}
			}
			pass(20 * time.Millisecond)
			if g := d.Gone(0); g.To != 0 {
				t.Errorf("gone %v before it was closed", g)
			}
			for _, s := range server[1:] {
				s.Write([]byte("lost"))
			}
			before := mono.Now()
			for _, s := range server[1:] {
				s.Close()
			}
			after := mono.Now()
			pass(60 * time.Millisecond)
			for id := range int32(many) {
				g := d.Gone(id)
				if kept := id == 0; kept != (g.To == 0) || !kept && (g.From > after || g.To < before || g.From > g.To) {
					t.Errorf("%d gone %v, closed from %v to %v", id, g, before, after)
				}
			}
			if p.done > 0 || len(p.got) > 0 {
				t.Errorf("an unplugged connection heard of its end: %d, %d", p.done, len(p.got))
			}
		})
	}
}
