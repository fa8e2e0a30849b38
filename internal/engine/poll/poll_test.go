package poll

import (
	"bytes"
	"errors"
	"net"
	"net/netip"
	"testing"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/wire"
)

// A peer is both sides of the tests: it counts what it hears.
type peer struct {
	d                      Driver
	accepted, opened, done int
	got                    map[int32][]byte
	lastAt, lastNow        mono.Time
	err                    error
	echo                   bool
}

func (p *peer) Accepted(int32) { p.accepted++ }
func (p *peer) Opened(int32)   { p.opened++ }
func (p *peer) Data(id int32, b []byte, came mono.Span) {
	p.got[id] = append(p.got[id], b...)
	p.lastAt, p.lastNow = came.To, p.d.Now()
	if p.echo {
		p.d.Write(id, b)
	}
}
func (p *peer) Broke(_ int32, err error) { p.done++; p.err = err }

func drivers(t *testing.T, f func(t *testing.T, server, client *peer, at netip.AddrPort)) {
	for name, make := range map[string]func() (Sockets, error){"best": New, "portable": NewPortable} {
		t.Run(name, func(t *testing.T) {
			server, client := &peer{got: map[int32][]byte{}, echo: true}, &peer{got: map[int32][]byte{}}
			for _, p := range []*peer{server, client} {
				d, err := make()
				if err != nil {
					t.Fatal(err)
				}
				p.d = d
				defer func() { p.d.Close() }()
			}
			at, err := server.d.Listen(netip.MustParseAddrPort("127.0.0.1:0"))
			if err != nil {
				t.Fatal(err)
			}
			f(t, server, client, at)
		})
	}
}

// turn lets both sides work until the condition holds.
func turn(t *testing.T, server, client *peer, what string, until func() bool) {
	t.Helper()
	turnBoth(t, server.d, server, client.d, client, what, until)
}

func turnBoth(t *testing.T, d1 Driver, h1 Handler, d2 Driver, h2 Handler, what string, until func() bool) {
	t.Helper()
	for deadline := time.Now().Add(10 * time.Second); !until(); {
		for _, w := range []struct {
			d Driver
			h Handler
		}{{d1, h1}, {d2, h2}} {
			if err := w.d.Wait(w.d.Now().Add(time.Millisecond), w.h); err != nil {
				t.Fatal(err)
			}
		}
		if time.Now().After(deadline) {
			t.Fatalf("%s: did not happen", what)
		}
	}
}

func TestEchoAndEnds(t *testing.T) {
	drivers(t, func(t *testing.T, server, client *peer, at netip.AddrPort) {
		const n = 50
		big := bytes.Repeat([]byte("lock-1 "), 300_000) // more than the kernel takes at once
		for id := range int32(n) {
			if err := client.d.Dial(id, wire.Endpoint{Addr: at}); err != nil {
				t.Fatal(err)
			}
			client.d.Write(id, []byte("early ")) // before it is open: queued
		}
		turn(t, server, client, "all open", func() bool { return client.opened == n && server.accepted == n })
		client.d.Write(7, big)
		turn(t, server, client, "the big one is back", func() bool { return len(client.got[7]) == len(big)+6 })
		if !bytes.Equal(client.got[7][6:], big) || string(client.got[8]) != "early " {
			t.Fatal("what came back is not what was sent")
		}
		for id := range int32(n) {
			if id%2 == 0 {
				client.d.Hangup(id)
				client.d.Write(id, []byte("too late"))
			} else {
				client.d.CloseWhenFlushed(id)
			}
		}
		turn(t, server, client, "the server sees all ends", func() bool { return server.done == n })
		if !errors.Is(server.err, ErrEnded) || client.done != 0 {
			t.Fatalf("server: %v; client heard of %d", server.err, client.done)
		}
		if err := client.d.Dial(0, wire.Endpoint{Addr: at}); err != nil { // an id is free again
			t.Fatal(err)
		}
		turn(t, server, client, "the second life",
			func() bool { return client.opened == n+1 && server.accepted == n+1 })
	})
}

// TestHold: nothing is read of what is held, and all of it once it is held no more; an id that is not
// open is no matter. The address of a connection's end is known while it is open.
func TestHold(t *testing.T) {
	drivers(t, func(t *testing.T, server, client *peer, at netip.AddrPort) {
		server.echo = false
		if n, all := client.d.Queued(7), client.d.Queued(All); n != 0 || all != 0 {
			t.Errorf("%d bytes wait for nothing, %d in all", n, all)
		}
		client.d.Hold(7, true)
		if err := client.d.Dial(0, wire.Endpoint{Addr: at}); err != nil {
			t.Fatal(err)
		}
		turn(t, server, client, "open", func() bool { return client.opened == 1 && server.accepted == 1 })
		if local := client.d.(Sockets).Local(0); !local.IsValid() || local.Port() == at.Port() {
			t.Errorf("this end is at %v", local)
		}
		if local := client.d.(Sockets).Local(7); local.IsValid() {
			t.Errorf("the end of nothing is at %v", local)
		}
		server.d.Write(0, []byte("one "))
		turn(t, server, client, "the first", func() bool { return len(client.got[0]) == 4 })
		client.d.Hold(0, true)
		for end := time.Now().Add(100 * time.Millisecond); time.Now().Before(end); {
			server.d.Write(0, []byte("x"))
			turn(t, server, client, "a while", func() bool { return true })
			if err := client.d.Wait(client.d.Now().Add(10*time.Millisecond), client); err != nil {
				t.Fatal(err)
			}
		}
		if n := len(client.got[0]); n > 5 { // a read that was under way may have ended
			t.Errorf("%d bytes were read while it was held", n)
		}
		server.d.Write(0, make([]byte, 16<<20)) // more than the kernel takes while it is not read
		if n, all := server.d.Queued(0), server.d.Queued(All); n == 0 || n != all {
			t.Errorf("%d bytes wait for the client, %d in all", n, all)
		}
		client.d.Hold(0, false)
		turn(t, server, client, "the rest", func() bool { return len(client.got[0]) > 8 })
	})
}

// TestHurried: a connection that is looked at and given up while it is being made.
func TestHurried(t *testing.T) {
	drivers(t, func(t *testing.T, server, client *peer, at netip.AddrPort) {
		for id := range int32(50) {
			if err := client.d.Dial(id, wire.Endpoint{Addr: at}); err != nil {
				t.Fatal(err)
			}
			wait := time.Duration(id) * 10 * time.Microsecond // at one moment or another it has its socket
			for began := time.Now(); time.Since(began) < wait; {
				if local, ok := client.d.(interface{ Local(int32) netip.AddrPort }); ok {
					_ = local.Local(id)
				}
			}
			client.d.Abort(id)
		}
		if err := client.d.Dial(99, wire.Endpoint{Addr: at}); err != nil {
			t.Fatal(err)
		}
		turn(t, server, client, "the one that stays", func() bool { return client.opened == 1 })
	})
}

func TestRefused(t *testing.T) {
	drivers(t, func(t *testing.T, server, client *peer, at netip.AddrPort) {
		if err := server.d.Close(); err != nil {
			t.Fatal(err)
		}
		server.d, _ = NewPortable()
		if err := client.d.Dial(0, wire.Endpoint{Addr: at}); err != nil {
			t.Fatal(err)
		}
		turn(t, server, client, "refusal", func() bool { return client.done == 1 })
		if client.opened != 0 || client.err == nil {
			t.Fatal("no error")
		}
	})
}

// TestKernelTime lets bytes wait unread: their arrival must be when they came,
// not when they were read.
func TestKernelTime(t *testing.T) {
	drivers(t, func(t *testing.T, server, client *peer, at netip.AddrPort) {
		if !client.d.KernelTimes() {
			t.Skip("this driver reads the clock after the read, and says so")
		}
		if err := client.d.Dial(0, wire.Endpoint{Addr: at}); err != nil {
			t.Fatal(err)
		}
		turn(t, server, client, "open", func() bool { return client.opened == 1 && server.accepted == 1 })
		server.echo = false
		before := client.d.Now()
		server.d.Write(0, []byte("notice"))
		after := client.d.Now()
		time.Sleep(80 * time.Millisecond)
		turn(t, server, client, "notice", func() bool { return len(client.got[0]) > 0 })
		const slack = mono.Time(time.Millisecond) // clocks are compared
		if client.lastAt < before-slack || client.lastAt > after+slack {
			t.Errorf("arrived at %v, sent between %v and %v", client.lastAt, before, after)
		}
		if lag := client.lastNow.Sub(client.lastAt); lag < 79*time.Millisecond {
			t.Errorf("the reading lag is %v, want at least 80 ms", lag)
		}
	})
}

// TestCloseUnread: a driver that is closed does not wait for a peer that reads
// nothing, however much is still to be sent to it.
func TestCloseUnread(t *testing.T) {
	drivers(t, func(t *testing.T, server, client *peer, at netip.AddrPort) {
		if err := client.d.Dial(0, wire.Endpoint{Addr: at}); err != nil {
			t.Fatal(err)
		}
		turn(t, server, client, "open", func() bool { return client.opened == 1 })
		client.d.Write(0, make([]byte, 32<<20)) // the server takes no more turn
		client.d.CloseWhenFlushed(0)
		began := time.Now()
		if err := client.d.Close(); err != nil {
			t.Error(err)
		}
		if took := time.Since(began); took > 5*time.Second {
			t.Errorf("it took %v", took)
		}
		client.d = closed{client.d}
	})
}

// closed is a driver that was closed already.
type closed struct{ Driver }

func (closed) Close() error { return nil }

// TestFrom: connections come from the address that is wanted; one that this machine does
// not have is no want of ports.
func TestFrom(t *testing.T) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer ln.Close()
	drivers(t, func(t *testing.T, server, client *peer, _ netip.AddrPort) {
		to := wire.Endpoint{Addr: ln.Addr().(*net.TCPAddr).AddrPort(), From: netip.MustParseAddr("127.0.0.7")}
		if err := client.d.Dial(0, to); err != nil {
			t.Fatal(err)
		}
		turn(t, server, client, "the connection", func() bool { return client.opened == 1 })
		c, err := ln.Accept()
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		if from := c.RemoteAddr().(*net.TCPAddr).AddrPort().Addr(); from != to.From {
			t.Errorf("it comes from %v", from)
		}
		to.From = netip.MustParseAddr("203.0.113.9")
		if err = client.d.Dial(1, to); err == nil {
			turn(t, server, client, "an error", func() bool { return client.err != nil })
			err = client.err
		}
		if short := (*wire.Shortage)(nil); errors.As(err, &short) {
			t.Errorf("an address of somebody else: %v", err)
		}
	})
}

// TestCloseWhileFull: a driver whose owner takes nothing any more closes, though more has come than may wait.
func TestCloseWhileFull(t *testing.T) {
	d, err := NewPortable()
	if err != nil {
		t.Fatal(err)
	}
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer ln.Close()
	go func() {
		for {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			c.Write([]byte("tide"))
			c.Close()
		}
	}()
	for id := range int32(3 * maxAhead) {
		if err := d.Dial(id, wire.Endpoint{Addr: netip.MustParseAddrPort(ln.Addr().String())}); err != nil {
			t.Fatal(err)
		}
	}
	closed := make(chan struct{})
	go func() {
		time.Sleep(300 * time.Millisecond) // for all of it to come; closing sooner is no other test
		d.Close()
		close(closed)
	}()
	select {
	case <-closed:
	case <-time.After(20 * time.Second):
		t.Error("it does not close")
	}
}
