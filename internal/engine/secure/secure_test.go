package secure

import (
	"bufio"
	"bytes"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"testing"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/engine/poll"
	"tidepull/internal/wire"
)

// server is crypto/tls's own: it answers lines with themselves.
func server(t *testing.T, cfg *tls.Config) netip.AddrPort {
	t.Helper()
	ln, err := tls.Listen("tcp", "127.0.0.1:0", cfg)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { ln.Close() })
	go func() {
		for {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				for in := bufio.NewReaderSize(c, 1<<20); ; {
					line, err := in.ReadSlice('\n')
					if err != nil {
						return
					}
					for len(line) > 0 { // in records of every size
						n := min(len(line), 1+len(line)/2)
						c.Write(line[:n])
						line = line[n:]
					}
				}
			}()
		}
	}()
	return ln.Addr().(*net.TCPAddr).AddrPort()
}

// heard is what a handler heard, by line.
type heard struct {
	opened map[int32]bool
	data   map[int32][]byte
	broke  map[int32]error
	spans  int
	then   func(id int32)
}

func listening() *heard {
	return &heard{opened: map[int32]bool{}, data: map[int32][]byte{}, broke: map[int32]error{}}
}

func (h *heard) Accepted(int32)  {}
func (h *heard) Opened(id int32) { h.opened[id] = true }
func (h *heard) Data(id int32, b []byte, came mono.Span) {
	h.data[id] = append(h.data[id], b...)
	if came.To > mono.Now() || came.From > came.To {
		h.spans++
	}
	if h.then != nil {
		h.then(id)
	}
}
func (h *heard) Broke(id int32, err error) { h.broke[id] = err }

// until waits for something.
func until(t *testing.T, d poll.Driver, h poll.Handler, what string, done func() bool) {
	t.Helper()
	for end := mono.Now().Add(20 * time.Second); !done(); {
		if mono.Now() > end {
			t.Fatalf("%s does not come", what)
		}
		if err := d.Wait(mono.Now().Add(50*time.Millisecond), h); err != nil {
			t.Fatal(err)
		}
	}
}

func authority(t *testing.T) (*Authority, tls.Certificate) {
	t.Helper()
	a, err := NewAuthority()
	if err != nil {
		t.Fatal(err)
	}
	cert, err := a.Issue("quay.test", "127.0.0.1")
	if err != nil {
		t.Fatal(err)
	}
	return a, cert
}

// TestClients: many connections, on both drivers and in both versions, say and hear what
// they should, from one byte to a megabyte; they resume their sessions; who ends in order
// is heard to; and the kernel's times go through.
func TestClients(t *testing.T) {
	a, cert := authority(t)
	for name, newDriver := range map[string]func() (poll.Sockets, error){"best": poll.New,
		"portable": poll.NewPortable} {
		for _, version := range []uint16{tls.VersionTLS12, tls.VersionTLS13} {
			t.Run(fmt.Sprint(name, " ", tls.VersionName(version)), func(t *testing.T) {
				at := server(t, &tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: version,
					MaxVersion: version})
				inner, err := newDriver()
				if err != nil {
					t.Fatal(err)
				}
				resumed := 0
				d := New(inner, Config{Client: &tls.Config{RootCAs: a.Pool()}, Resume: true,
					Done: func(_ time.Duration, again bool) {
						if again {
							resumed++
						}
					}})
				defer d.Close()
				const clients = 40
				for round := range 2 {
					h := listening()
					want := map[int32][]byte{}
					for id := range int32(clients) {
						want[id] = append(bytes.Repeat([]byte{'a' + byte(id%26)}, int(id)*int(id)*int(id)*7), '\n')
						if err := d.Dial(id, wire.Endpoint{Addr: at, TLS: "quay.test"}); err != nil {
							t.Fatal(err)
						}
						if id%2 == 0 {
							d.Write(id, want[id]) // before there is a connection
						}
					}
					until(t, d, h, "a connection", func() bool { return len(h.opened) == clients })
					for id := range int32(clients) {
						if id%2 == 1 {
							d.Write(id, want[id])
						}
					}
					until(t, d, h, "an answer", func() bool {
						for id, w := range want {
							if len(h.data[id]) < len(w) {
								return false
							}
						}
						return true
					})
					for id, w := range want {
						if !bytes.Equal(h.data[id], w) {
							t.Fatalf("round %d: line %d has other bytes", round, id)
						}
						d.CloseWhenFlushed(id)
					}
					if len(h.broke) > 0 || h.spans > 0 {
						t.Errorf("%v; %d wrong times", h.broke, h.spans)
					}
				}
				if resumed != clients {
					t.Errorf("%d of %d sessions were resumed", resumed, clients)
				}
			})
		}
	}
}

// TestRefusals: what is wrong with a connection is said, and nothing is told of it as
// open.
func TestRefusals(t *testing.T) {
	a, cert := authority(t)
	other, _ := authority(t)
	good := server(t, &tls.Config{Certificates: []tls.Certificate{cert}})
	asking := server(t, &tls.Config{Certificates: []tls.Certificate{cert}, ClientAuth: tls.RequireAndVerifyClientCert,
		ClientCAs: a.Pool(), MaxVersion: tls.VersionTLS12})
	plain, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer plain.Close()
	go func() {
		for {
			c, err := plain.Accept()
			if err != nil {
				return
			}
			c.Write([]byte("HTTP/1.1 400 Bad Request\r\n\r\n"))
			c.Close()
		}
	}()
	mine, err := a.Issue("a pilot")
	if err != nil {
		t.Fatal(err)
	}
	for name, tc := range map[string]struct {
		cfg  *tls.Config
		at   netip.AddrPort
		name string
		want string // "": it opens
	}{
		"trusted":           {&tls.Config{RootCAs: a.Pool()}, good, "quay.test", ""},
		"another authority": {&tls.Config{RootCAs: other.Pool()}, good, "quay.test", "unknown authority"},
		"another name":      {&tls.Config{RootCAs: a.Pool()}, good, "mole.test", "not mole.test"},
		"not looked at":     {&tls.Config{InsecureSkipVerify: true}, good, "mole.test", ""},
		"old versions only": {&tls.Config{RootCAs: a.Pool(), MaxVersion: tls.VersionTLS11}, good, "quay.test",
			"no supported versions"},
		"no TLS": {&tls.Config{RootCAs: a.Pool()}, plain.Addr().(*net.TCPAddr).AddrPort(), "quay.test",
			"TLS handshake"},
		"no certificate": {&tls.Config{RootCAs: a.Pool()}, asking, "quay.test", "handshake failure"},
		"with a certificate": {&tls.Config{RootCAs: a.Pool(), Certificates: []tls.Certificate{mine}}, asking,
			"quay.test", ""},
		"nobody at all there": {&tls.Config{}, netip.MustParseAddrPort("127.0.0.1:9"), "quay.test", "refused"},
	} {
		t.Run(name, func(t *testing.T) {
			inner, err := poll.New()
			if err != nil {
				t.Fatal(err)
			}
			d, h := New(inner, Config{Client: tc.cfg}), listening()
			defer d.Close()
			if err := d.Dial(3, wire.Endpoint{Addr: tc.at, TLS: tc.name}); err != nil {
				h.broke[3] = err
			}
			until(t, d, h, "an end", func() bool { return h.opened[3] || h.broke[3] != nil })
			if err := h.broke[3]; tc.want == "" && err != nil || tc.want != "" && (err == nil ||
				!strings.Contains(err.Error(), tc.want)) || h.opened[3] != (tc.want == "") {
				t.Errorf("opened %v, %v; want %q", h.opened[3], err, tc.want)
			}
		})
	}
}

// echo is a handler that answers with what came.
type echo struct {
	heard
	d poll.Driver
}

func (e *echo) Data(id int32, b []byte, _ mono.Span) { e.d.Write(id, b) }

// TestAcceptsBoth: one port serves clients with TLS and without.
func TestAcceptsBoth(t *testing.T) {
	a, cert := authority(t)
	inner, err := poll.New()
	if err != nil {
		t.Fatal(err)
	}
	d := New(inner, Config{Server: &tls.Config{Certificates: []tls.Certificate{cert}}})
	at, err := d.Listen(netip.MustParseAddrPort("127.0.0.1:0"))
	if err != nil {
		t.Fatal(err)
	}
	datagrams, err := d.ListenDatagrams(netip.MustParseAddrPort("127.0.0.1:0"))
	if err != nil {
		t.Fatal(err)
	}
	ended, stop := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		defer d.Close()
		for h := (&echo{heard: *listening(), d: d}); ; {
			select {
			case <-stop:
				return
			default:
				d.Wait(mono.Now().Add(20*time.Millisecond), h)
			}
		}
	}()
	defer func() { close(stop); <-ended }()
	for i, secured := range []bool{true, false, true} {
		var c net.Conn
		if secured {
			c, err = tls.Dial("tcp", at.String(), &tls.Config{RootCAs: a.Pool(), ServerName: "quay.test"})
		} else {
			c, err = net.Dial("tcp", at.String())
		}
		if err != nil {
			t.Fatal(err)
		}
		text := strings.Repeat("tide ", 5000*i+1) + "\n"
		go fmt.Fprint(c, text)
		c.SetReadDeadline(time.Now().Add(10 * time.Second))
		if got, err := bufio.NewReader(c).ReadString('\n'); err != nil || got != text {
			t.Errorf("%d: %d of %d bytes, %v", i, len(got), len(text), err)
		}
		c.Close()
	}
	// Datagrams are in the clear, whatever is in them; an empty one is none.
	c, err := net.Dial("udp", datagrams.String())
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	c.SetReadDeadline(time.Now().Add(10 * time.Second))
	for _, text := range []string{"", "\x16 is where a handshake begins"} {
		if _, err = c.Write([]byte(text)); err != nil {
			t.Fatal(err)
		}
	}
	got := make([]byte, 100)
	if n, err := c.Read(got); err != nil || string(got[:n]) != "\x16 is where a handshake begins" {
		t.Errorf("a datagram comes back as %q, %v", got[:n], err)
	}
}

// TestTemporary holds crypto/tls to what this package rests on: a temporary error while a
// record is read is not final.
func TestTemporary(t *testing.T) {
	a, cert := authority(t)
	var client, far memory
	c := tls.Client(&client, &tls.Config{RootCAs: a.Pool(), ServerName: "quay.test"})
	s := tls.Server(&far, &tls.Config{Certificates: []tls.Certificate{cert}})
	lines := []*line{{conn: c}, {conn: s}}
	pipes := []*memory{&client, &far}
	for i, l := range lines {
		startHandshake(l, pipes[i])
	}
	for range 10 {
		for i, l := range lines {
			if l.more != nil {
				if _, waits := l.more(); !waits {
					l.more = nil
				}
			}
			pipes[1-i].in = append(pipes[1-i].in, pipes[i].out...)
			pipes[i].out = nil
		}
	}
	if lines[0].err != nil || lines[1].err != nil || lines[0].more != nil {
		t.Fatal(lines[0].err, lines[1].err)
	}
	if _, err := s.Write([]byte("high water at six")); err != nil {
		t.Fatal(err)
	}
	record, got := far.out, []byte(nil)
	buf := make([]byte, 100)
	for i := range record { // byte by byte
		client.in = append(client.in, record[i])
		n, err := c.Read(buf)
		got = append(got, buf[:n]...)
		var temporary later
		if err != nil && !errors.As(err, &temporary) {
			t.Fatalf("after %d of %d bytes: %v", i+1, len(record), err)
		}
	}
	if string(got) != "high water at six" {
		t.Errorf("%q", got)
	}
}
