package tui_test

import (
	"bufio"
	"fmt"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"tidepull/internal/wire/ws"
)

// TestProbeUnderFlood: with 10,000 messages a second the probe's screen answers its keys before what came is worked off
// (some seconds' worth, if each message were drawn), however busy the machine is, and says how many it has not drawn.
func TestProbeUnderFlood(t *testing.T) {
	t.Parallel()
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer ln.Close()
	var flood, said atomic.Int64
	go func() {
		for {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				r, err := http.ReadRequest(bufio.NewReader(c))
				if err != nil {
					return
				}
				fmt.Fprintf(c, "HTTP/1.1 101 Switching Protocols\r\nUpgrade: websocket\r\nConnection: "+
					"Upgrade\r\nSec-WebSocket-Accept: %s\r\n\r\n", ws.AcceptFor(r.Header.Get("Sec-WebSocket-Key")))
				for {
					time.Sleep(10 * time.Millisecond)
					var b []byte
					for range flood.Load() {
						b = ws.AppendFrame(b, ws.OpText, fmt.Appendf(nil, `{"kind":"gauge","seq":%d}`, said.Add(1)))
					}
					if _, err := c.Write(b); err != nil {
						return
					}
				}
			}()
		}
	}()
	s := open(t, 120, 40, binary+" probe ws://"+ln.Addr().String()+"/live")
	s.until(`open, no subprotocol`, 20*time.Second)
	answer := func() time.Duration { // the median of how long the help takes to come and to go
		var all []time.Duration
		for range 9 {
			for _, key := range []struct {
				name  string
				shown bool
			}{{"?", true}, {"Escape", false}} {
				began := time.Now()
				s.keys(key.name)
				for strings.Contains(s.look(), "Probe answers:") != key.shown {
					if time.Since(began) > 10*time.Second {
						t.Fatalf("%s is not answered:\n%s", key.name, s.look())
					}
					time.Sleep(2 * time.Millisecond)
				}
				if key.shown {
					all = append(all, time.Since(began))
				}
			}
		}
		slices.Sort(all)
		return all[len(all)/2]
	}
	calm := answer()
	flood.Store(100)
	s.until(`"seq":\d{5}`, 30*time.Second)
	busy := answer()
	t.Logf("%v without messages, %v with %d", calm, busy, said.Load())
	if busy > 3*calm+2*time.Second {
		t.Errorf("a key is answered after %v, without messages after %v", busy, calm)
	}
	s.until(`[\d,]+ .*(not drawn|faster than they can be drawn)`, 10*time.Second)
}
