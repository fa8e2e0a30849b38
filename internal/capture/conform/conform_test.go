package conform

import (
	"bufio"
	"context"
	"errors"
	"net"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"tidepull/internal/standin"
	"tidepull/internal/testkit/leak"
	"tidepull/internal/testkit/rude"
	"tidepull/internal/wire/http1"
	"tidepull/internal/wire/ws"
)

func TestMain(m *testing.M) { os.Exit(leak.Main(m)) }

func at(addr string, within time.Duration) Target {
	return Target{Host: addr, Path: "/live", Within: within, Dial: func(ctx context.Context) (net.Conn, error) {
		var d net.Dialer
		return d.DialContext(ctx, "tcp", addr)
	}}
}

// TestEveryCase: the shipped server does all that is demanded.
func TestEveryCase(t *testing.T) {
	s, err := standin.Start(standin.Config{Deflate: true})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Stop()
	n := 0
	err = Run(context.Background(), at(s.Addr.String(), 3*time.Second), func(o Outcome) {
		if n++; !o.Done && o.May == "" || o.Skipped != "" || o.Did == "" {
			t.Errorf("%s (%s): %s%s", o.Name, o.Section, o.Did, o.Skipped)
		}
	})
	if err != nil || n != len(Cases) || n < 60 {
		t.Errorf("%d cases of %d, %v", n, len(Cases), err)
	}
	names := map[string]bool{}
	for _, c := range Cases {
		if names[c.Name] || c.Section == "" {
			t.Errorf("%q stands there twice, or has no section", c.Name)
		}
		names[c.Name] = true
	}
}

// TestLenient: a server that agrees to everything and hears nothing does nothing of what is
// demanded, and one that goes away is noticed.
func TestLenient(t *testing.T) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	go func() {
		for {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				b := bufio.NewReader(c)
				r, err := http.ReadRequest(b)
				if err != nil {
					return
				}
				c.Write(ws.AppendAgreement(nil, r.Header.Get("Sec-WebSocket-Key"), http1.Field{Name: "X", Value: "y"}))
				for err == nil {
					_, err = b.ReadByte()
				}
			}()
		}
	}()
	borne := 0
	err = Run(context.Background(), at(ln.Addr().String(), 20*time.Millisecond), func(o Outcome) {
		switch {
		case o.Demand == MustAgree || o.Skipped != "": // it agrees to all, and to no compression
		case o.Demand == MustRefuse && o.Done:
			borne++ // net/http refuses some by itself
		case o.Done:
			t.Errorf("%s: %s", o.Name, o.Did)
		}
		if o.Name == Cases[len(Cases)-1].Name {
			ln.Close()
		}
	})
	var down *Down
	if !errors.As(err, &down) || down.Left != 0 || borne == 0 {
		t.Errorf("the server is gone: %v; %d refused", err, borne)
	}
	// one that goes down in the middle: the case is named, and nothing is said of those after it
	s, err := standin.Start(standin.Config{})
	if err != nil {
		t.Fatal(err)
	}
	tried := 0
	err = Run(context.Background(), at(s.Addr.String(), time.Second), func(o Outcome) {
		if tried++; tried == 30 {
			s.Stop()
		}
	})
	if !errors.As(err, &down) || down.After != Cases[29].Name || down.Left != len(Cases)-30 || tried != 30 {
		t.Errorf("%v after %d cases", err, tried)
	}
	if err := Run(context.Background(), at(ln.Addr().String(), time.Second), func(Outcome) {}); err == nil {
		t.Error("nobody is there, and that is no error")
	}
}

// TestUnknownWords: a server that ends the connection on what is no message of its own, however that comes,
// is not said to bear no fragments; one that wants a subprotocol is offered it.
func TestUnknownWords(t *testing.T) {
	t.Parallel()
	strict := &rude.Server{Shake: func(c *rude.Conn, h *http1.Head) {
		if !strings.Contains(h.Get("Sec-WebSocket-Protocol"), "quay.v1") {
			c.Send([]byte("HTTP/1.1 400 Bad Request\r\nContent-Length: 0\r\n\r\n"))
			c.Hangup()
			return
		}
		c.Agree(h, http1.Field{Name: "Sec-WebSocket-Protocol", Value: "quay.v1"})
	}, Frame: func(c *rude.Conn, op byte, b []byte) {
		switch op {
		case ws.OpPing:
			c.Send(ws.AppendFrame(nil, ws.OpPong, b))
		case ws.OpClose:
			c.Close(ws.CloseNormal, "")
			c.Finish()
		case ws.OpText:
			c.Close(ws.CloseNormal, "what?")
			c.Finish()
		}
	}}
	url, stop, err := strict.Listen()
	if err != nil {
		t.Fatal(err)
	}
	defer stop()
	addr := strings.TrimSuffix(strings.TrimPrefix(url, "ws://"), "/live")
	target := at(addr, 100*time.Millisecond)
	if err := Run(context.Background(), target, func(Outcome) {}); err == nil {
		t.Error("it is let in without its subprotocol")
	}
	target.Protocols = []string{"quay.v1"}
	skipped := 0
	err = Run(context.Background(), target, func(o Outcome) {
		if o.Demand == MustBear && !o.Done && o.Skipped == "" {
			t.Errorf("%s: %s", o.Name, o.Did)
		}
		if strings.Contains(o.Skipped, "in one plain frame") {
			skipped++
		}
	})
	if err != nil || skipped < 5 {
		t.Errorf("%v; %d are not tried", err, skipped)
	}
}
