package tunnel

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"testing"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/engine/poll"
	"tidepull/internal/wire"
)

// proxy is one on net/http: it lets one credential through, to anywhere.
func proxy(t *testing.T) netip.AddrPort {
	t.Helper()
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.Method != "CONNECT":
			http.Error(w, "a proxy", http.StatusMethodNotAllowed)
			return
		case r.Header.Get("Proxy-Authorization") != "Basic cGlsb3Q6dGlkZQ==":
			http.Error(w, "who is that?", http.StatusProxyAuthRequired)
			return
		}
		to, err := net.Dial("tcp", r.Host)
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadGateway)
			return
		}
		c, rw, err := w.(http.Hijacker).Hijack()
		if err != nil {
			return
		}
		fmt.Fprint(c, "HTTP/1.1 200 Connected\r\nVia: 1.1 quay\r\n\r\n")
		go io.Copy(to, rw)
		io.Copy(c, to)
		c.Close()
	})}
	go server.Serve(ln)
	t.Cleanup(func() { server.Close() })
	return ln.Addr().(*net.TCPAddr).AddrPort()
}

type heard struct {
	opened bool
	data   string
	broke  error
}

func (h *heard) Accepted(int32)                      {}
func (h *heard) Opened(int32)                        { h.opened = true }
func (h *heard) Data(_ int32, b []byte, _ mono.Span) { h.data += string(b) }
func (h *heard) Broke(_ int32, err error)            { h.broke = err }

// TestTunnel: through a proxy a line says and hears what it does without, from the first
// byte on; what the proxy has against it is said.
func TestTunnel(t *testing.T) {
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
			go func() {
				defer c.Close()
				fmt.Fprint(c, "welcome;") // at once: it may come behind the proxy's answer
				line, _ := bufio.NewReader(c).ReadString('\n')
				fmt.Fprint(c, line)
			}()
		}
	}()
	at, free := proxy(t), ln.Addr().String()
	for name, tc := range map[string]struct {
		via  wire.Via
		want string // of what was heard, or of the error
	}{
		"through":       {wire.Via{To: free, Authorization: "Basic cGlsb3Q6dGlkZQ=="}, "welcome;high water\n"},
		"no credential": {wire.Via{To: free}, "the proxy answered 407 Proxy Authentication Required"},
		"nobody there": {wire.Via{To: "127.0.0.1:9", Authorization: "Basic cGlsb3Q6dGlkZQ=="},
			"the proxy answered 502 Bad Gateway"},
	} {
		t.Run(name, func(t *testing.T) {
			inner, err := poll.New()
			if err != nil {
				t.Fatal(err)
			}
			d, h := New(inner), &heard{}
			defer d.Close()
			if err := d.Dial(5, wire.Endpoint{Addr: at, Via: tc.via}); err != nil {
				t.Fatal(err)
			}
			d.Write(5, []byte("high "))
			for end := mono.Now().Add(10 * time.Second); mono.Now() < end && h.broke == nil && h.data != tc.want; {
				if h.opened && !strings.Contains(h.data, "water") {
					d.Write(5, []byte("water\n"))
					h.opened = false
				}
				d.Wait(mono.Now().Add(20*time.Millisecond), h)
			}
			// The far side closes once it has answered: that may come with its answer.
			if h.data != tc.want && (h.broke == nil || h.broke.Error() != tc.want) {
				t.Errorf("%q, %v", h.data, h.broke)
			}
		})
	}
}

// hung notes which lines of the driver below are ended.
type hung struct {
	poll.Wire
	hung, aborted []int32
}

func (h *hung) Dial(int32, wire.Endpoint) error { return nil }
func (h *hung) Hangup(id int32)                 { h.hung = append(h.hung, id) }
func (h *hung) Abort(id int32)                  { h.aborted = append(h.aborted, id) }

// TestGivenUp: a line that is given up on its way through the proxy is ended below as well.
func TestGivenUp(t *testing.T) {
	below := &hung{}
	d := New(below)
	for id := range int32(2) {
		if err := d.Dial(id, wire.Endpoint{Via: wire.Via{To: "a.example:80"}}); err != nil {
			t.Fatal(err)
		}
	}
	d.Hangup(0)
	d.Abort(1)
	if len(below.hung) != 1 || below.hung[0] != 0 || len(below.aborted) != 1 || below.aborted[0] != 1 {
		t.Errorf("%v were hung up, %v aborted", below.hung, below.aborted)
	}
}
