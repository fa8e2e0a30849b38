package relay

import (
	"bufio"
	"bytes"
	"compress/flate"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"testing"
	"time"

	"tidepull/internal/capture/recording"
	"tidepull/internal/wire/ws"
)

// record runs f against a relay to a server and gives what was kept, read back
// from its file format.
func record(t *testing.T, to string, f func(addr string)) *recording.Recording {
	t.Helper()
	var file bytes.Buffer
	w := recording.NewWriter(&file, recording.Recording{By: "record", Target: to})
	r, err := Start(Options{Listen: "127.0.0.1:0", To: to}, w.Write)
	if err != nil {
		t.Fatal(err)
	}
	f(r.Addr.String())
	if err := r.Stop(); err != nil {
		t.Fatal(err)
	}
	rec, err := recording.Read(&file)
	if err != nil {
		t.Fatal(err)
	}
	return rec
}

// said joins what one side said in entries of a kind.
func said(rec *recording.Recording, what, from string) (all []byte, n int) {
	for _, e := range rec.Entries {
		if e.What == what && e.From == from {
			all, n = append(all, e.Payload()...), n+1
		}
	}
	return all, n
}

// TestBytes: raw TCP, random bytes both ways: both sides get exactly what was
// sent, and so does the recording.
func TestBytes(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	up, down := make([]byte, 300_000), make([]byte, 500_000)
	for i := range up {
		up[i] = byte(r.Uint32())
	}
	for i := range down {
		down[i] = byte(r.Uint32())
	}
	up[0] = 0x16 // as TLS begins: no HTTP
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer ln.Close()
	got := make(chan []byte, 1)
	go func() {
		c, err := ln.Accept()
		if err != nil {
			return
		}
		defer c.Close()
		written := make(chan bool)
		go func() {
			defer close(written)
			c.Write(down)
		}()
		defer func() { <-written }() // before it is closed
		b, _ := io.ReadAll(io.LimitReader(c, int64(len(up))))
		got <- b
	}()
	rec := record(t, "tcp://"+ln.Addr().String(), func(addr string) {
		c, err := net.Dial("tcp", addr)
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		go c.Write(up)
		b, err := io.ReadAll(io.LimitReader(c, int64(len(down))))
		if err != nil || !bytes.Equal(b, down) {
			t.Errorf("the client got %d of %d bytes, %v", len(b), len(down), err)
		}
		if b := <-got; !bytes.Equal(b, up) {
			t.Errorf("the server got %d of %d bytes", len(b), len(up))
		}
	})
	for from, want := range map[string][]byte{recording.Client: up, recording.Server: down} {
		if b, _ := said(rec, recording.Data, from); !bytes.Equal(b, want) {
			t.Errorf("kept of the %s: %d bytes, not those %d", from, len(b), len(want))
		}
	}
}

// TestHalfClosed: a client that says that it will send no more still gets the whole
// answer. While it reads nothing, the server cannot send without end: the relay does
// not hold what comes, and says so.
func TestHalfClosed(t *testing.T) {
	const size = 48 << 20 // more than the kernel takes on both ways
	for _, portable := range []bool{false, true} {
		ln, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		defer ln.Close()
		stuck := make(chan bool)
		go func() {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			defer c.Close()
			if b, err := io.ReadAll(c); err != nil || string(b) != "when?" { // until the client has finished
				return
			}
			piece, told := make([]byte, 64<<10), false
			for sent := 0; sent < size; {
				c.SetWriteDeadline(time.Now().Add(2 * time.Second))
				n, err := c.Write(piece[:min(len(piece), size-sent)])
				if sent += n; errors.Is(err, os.ErrDeadlineExceeded) && !told {
					told = true
					close(stuck)
				} else if err != nil && !told {
					return
				}
			}
		}()
		kept := 0
		r, err := Start(Options{Listen: "127.0.0.1:0", To: "tcp://" + ln.Addr().String(), Portable: portable},
			func(e recording.Entry) error {
				if e.From == recording.Server {
					kept += len(e.Payload())
				}
				return nil
			})
		if err != nil {
			t.Fatal(err)
		}
		c, err := net.Dial("tcp", r.Addr.String())
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		io.WriteString(c, "when?")
		c.(*net.TCPConn).CloseWrite()
		select {
		case <-stuck:
		case <-time.After(time.Minute):
			t.Errorf("portable %v: the server sends without end", portable)
		}
		if n, err := io.Copy(io.Discard, c); n != size || err != nil {
			t.Errorf("portable %v: the client got %d of %d bytes, %v", portable, n, size, err)
		}
		if err := r.Stop(); err != nil {
			t.Error(err)
		}
		if own := r.Own(); kept != size || own.Pieces < 10 || own.P50 <= 0 || own.Held == 0 {
			t.Errorf("portable %v: %d of %d bytes are kept; %+v", portable, kept, size, own)
		}
	}
}

// TestWebSocket: messages with and without compression, in fragments, with
// control frames in between, are kept as they were said.
func TestWebSocket(t *testing.T) {
	for name, squeeze := range map[string]bool{"plain": false, "compressed": true} {
		t.Run(name, func(t *testing.T) {
			messages := []string{"the gate turns", strings.Repeat("tide gauge 3.2 m; ", 500), "",
				"the gate turns again: the gate turns", "né ⚓"}
			ln, err := net.Listen("tcp", "127.0.0.1:0")
			if err != nil {
				t.Fatal(err)
			}
			defer ln.Close()
			go func() {
				c, err := ln.Accept()
				if err != nil {
					return
				}
				defer c.Close()
				req, err := http.ReadRequest(bufio.NewReader(c))
				if err != nil {
					return
				}
				ext := ""
				if squeeze {
					ext = "Sec-WebSocket-Extensions: permessage-deflate\r\n"
				}
				fmt.Fprintf(c, "HTTP/1.1 101 Switching Protocols\r\nUpgrade: websocket\r\nConnection: "+
					"Upgrade\r\n%sSec-WebSocket-Accept: %s\r\n\r\n", ext,
					ws.AcceptFor(req.Header.Get("Sec-WebSocket-Key")))
				c.Write(frames(messages, squeeze, false))
				io.Copy(io.Discard, c)
			}()
			rec := record(t, "ws://"+ln.Addr().String()+"/live", func(addr string) {
				c, err := net.Dial("tcp", addr)
				if err != nil {
					t.Fatal(err)
				}
				defer c.Close()
				c.Write(ws.AppendRequest(nil, addr, "/live", ws.KeyFor([16]byte{})))
				c.Write(frames(messages, squeeze, true)) // before the answer is here
				want := frames(messages, squeeze, false)
				var got []byte
				for b := make([]byte, 4096); !bytes.HasSuffix(got, want); {
					c.SetReadDeadline(time.Now().Add(20 * time.Second))
					n, err := c.Read(b)
					if got = append(got, b[:n]...); err != nil {
						t.Fatalf("the client got %d bytes, and then %v", len(got), err)
					}
				}
			})
			for _, from := range []string{recording.Client, recording.Server} {
				var got []string
				fragments, compressed := 0, 0
				for _, e := range rec.Entries {
					if e.What == recording.Trouble || e.What == recording.Data {
						t.Errorf("%+v", e)
					}
					if e.What == recording.Message && e.From == from {
						got = append(got, e.Text)
						fragments += e.Fragments
						compressed += e.Compressed
					}
				}
				if strings.Join(got, "|") != strings.Join(messages, "|") || fragments != 3 ||
					(compressed > 0) != squeeze {
					t.Errorf("of the %s: %.300q, %d fragments, %d bytes compressed", from, got, fragments, compressed)
				}
				if p, n := said(rec, recording.Ping, from); n != 1 || string(p) != "in between" {
					t.Errorf("ping of the %s: %q", from, p)
				}
			}
		})
	}
}

// frames makes frames of messages, the second in three fragments.
func frames(messages []string, squeeze, masked bool) (out []byte) {
	var z bytes.Buffer
	fw, _ := flate.NewWriter(&z, flate.BestCompression)
	for i, m := range messages {
		payload, rsv := []byte(m), byte(0)
		if squeeze {
			z.Reset()
			fw.Write(payload)
			fw.Flush()
			payload, rsv = bytes.TrimSuffix(bytes.Clone(z.Bytes()), []byte{0, 0, 0xff, 0xff}), 0x40
		}
		pieces := [][]byte{payload}
		if i == 1 {
			n := len(payload)
			pieces = [][]byte{payload[:n/3], payload[n/3 : n/2], payload[n/2:]}
		}
		for k, p := range pieces {
			op := byte(ws.OpText)
			if k > 0 {
				op = ws.OpContinuation
			}
			at := len(out)
			if masked {
				out = ws.AppendMasked(out, op, p, [4]byte{1, 2, 3, 4})
			} else {
				out = ws.AppendFrame(out, op, p)
			}
			if k == 0 {
				out[at] |= rsv
			}
			if k < len(pieces)-1 {
				out[at] &^= 0x80
				if k == 0 {
					ping := ws.AppendFrame(nil, ws.OpPing, []byte("in between"))
					if masked {
						ping = ws.AppendMasked(nil, ws.OpPing, []byte("in between"), [4]byte{9, 8, 7, 6})
					}
					out = append(out, ping...)
				}
			}
		}
	}
	return out
}

// TestHTTP: an event stream, and long polling over one connection.
func TestHTTP(t *testing.T) {
	polls := 0
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/stream" {
			w.Header().Set("Content-Type", "text/event-stream")
			for i := range 3 {
				fmt.Fprintf(w, "event: notice\nid: %d\ndata: {\"seq\":%d,\ndata: \"gate\":\"turns\"}\n\n", i, i)
				w.(http.Flusher).Flush()
			}
			fmt.Fprint(w, ": a comment\n\ndata: last\n\n")
			return
		}
		b, _ := io.ReadAll(r.Body)
		polls++
		time.Sleep(20 * time.Millisecond)
		fmt.Fprintf(w, `{"poll":%d,"said":%q}`, polls, b)
	}))
	defer server.Close()
	rec := record(t, server.URL, func(addr string) {
		for _, path := range []string{"/stream", "/poll", "/poll", "/poll"} {
			resp, err := http.Post("http://"+addr+path, "text/plain", strings.NewReader("after "+path))
			if err != nil {
				t.Fatal(err)
			}
			io.Copy(io.Discard, resp.Body)
			resp.Body.Close()
		}
		http.DefaultClient.CloseIdleConnections()
	})
	events, n := said(rec, recording.Event, recording.Server)
	if n != 4 || string(events) != `{"seq":0,`+"\n"+`"gate":"turns"}{"seq":1,`+"\n"+`"gate":"turns"}{"seq":2,`+"\n"+
		`"gate":"turns"}last` {
		t.Errorf("%d events: %s", n, events)
	}
	content, n := said(rec, recording.Content, recording.Server)
	if n != 3 || string(content) != `{"poll":1,"said":"after /poll"}{"poll":2,"said":"after /poll"}{"poll":3,"sa`+
		`id":"after /poll"}` {
		t.Errorf("%d answers: %s", n, content)
	}
	if content, n := said(rec, recording.Content, recording.Client); n != 4 ||
		string(content) != "after /streamafter /pollafter /pollafter /poll" {
		t.Errorf("%d questions: %s", n, content)
	}
}
