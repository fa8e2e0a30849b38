package probe

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tidepull/internal/capture/recording"
	"tidepull/internal/wire"
	"tidepull/internal/wire/http1"
	"tidepull/internal/wire/ws"
)

// run does a scripted probe and gives all that was reported, in words.
func run(t *testing.T, target Target, within time.Duration, actions ...Action) (string, []Event, error) {
	t.Helper()
	var text strings.Builder
	var events []Event
	err := Run(target, actions, within, func(e Event) {
		head, rest := Lines(&e)
		fmt.Fprintln(&text, head)
		for _, r := range rest {
			fmt.Fprintln(&text, "  "+r)
		}
		events = append(events, e)
	})
	return text.String(), events, err
}

// answer is a server that gives one answer to whatever is asked.
func answer(t *testing.T, with string) string {
	t.Helper()
	ln, err := net.Listen("tcp", "127.0.0.1:0")
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
				if with != "" {
					if _, err := http.ReadRequest(bufio.NewReader(c)); err != nil && !strings.HasPrefix(with, "SSH") {
						return
					}
					io.WriteString(c, with)
				}
			}()
		}
	}()
	return "ws://" + ln.Addr().String() + "/live"
}

// slowly is answer after a while.
func slowly(t *testing.T, after time.Duration, with string) string {
	t.Helper()
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		time.Sleep(after)
		c, _, err := w.(http.Hijacker).Hijack()
		if err == nil {
			io.WriteString(c, with)
			c.Close()
		}
	}))
	t.Cleanup(s.Close)
	return "ws" + strings.TrimPrefix(s.URL, "http") + "/poll"
}

// TestAnsweredTwice: a server that agrees, and then answers the request once more.
func TestAnsweredTwice(t *testing.T) {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		c, _ := upgrade(w, r, "")
		io.WriteString(c, "HTTP/1.1 404 Not Found\r\nContent-Length: 0\r\n\r\n")
		time.Sleep(50 * time.Millisecond)
		c.Close()
	}))
	defer s.Close()
	text, _, _ := run(t, Target{URL: "ws" + strings.TrimPrefix(s.URL, "http")}, time.Second,
		Action{Do: "pause", Text: "100ms"})
	if !strings.Contains(text, "answered a second time, over HTTP: HTTP/1.1 404 Not Found") {
		t.Error(text)
	}
}

// TestUnescape: what stands for something else, and what does not.
func TestUnescape(t *testing.T) {
	for typed, want := range map[string]string{
		`CONNECT\n\n\0`: "CONNECT\n\n\x00", `tide\x21\t\\n\r`: "tide!\t\\n\r", `{"text":"a\nb"}`: `{"text":"a\nb"}`,
		`42["post",{"text":"a\nb"}]`: `42["post",{"text":"a\nb"}]`, "plain": "plain", "": "",
		`\q`: `\q stands for nothing`, `\`: `nothing behind the \`, `\x4`: `two hexadecimal digits`,
		`\xgg`: "two hexadecimal",
		`\é`:   `\é stands for nothing`,
	} {
		got, err := Unescape(typed)
		if err != nil {
			got = err.Error()
		}
		if got != want && (err == nil || !strings.Contains(got, want)) {
			t.Errorf("%s is %q, want %q", typed, got, want)
		}
	}
}

// TestRefusals: each way of not getting in is explained in words, with what to
// try.
func TestRefusals(t *testing.T) {
	const nobody = "ws://127.0.0.1:9" // no port that the system deals out
	plainServer := httptest.NewServer(http.NotFoundHandler())
	defer plainServer.Close()
	secure := httptest.NewTLSServer(http.NotFoundHandler())
	defer secure.Close()
	secure.Config.ErrorLog = nil
	for name, tc := range map[string]struct {
		target    Target
		says, try string
	}{
		"nobody listens": {Target{URL: nobody}, "nobody listens at 127.0.0.1", "whether the server runs"},
		"foreign origin": {Target{URL: answer(t, "HTTP/1.1 403 Forbidden\r\nContent-Length: 0\r\n\r\n"),
			Origin: "http://elsewhere.example"}, "403", "another origin: http://elsewhere.example"},
		"no origin": {Target{URL: answer(t, "HTTP/1.1 403 Forbidden\r\nContent-Length: 0\r\n\r\n")},
			"403", "an origin, as a browser sends it"},
		"wrong path": {Target{URL: answer(t,
			"HTTP/1.1 404 Not Found\r\nContent-Length: 8\r\n\r\nno berth")}, `it says "no berth"`, "another path"},
		"no credentials": {Target{URL: answer(t, "HTTP/1.1 401 Unauthorized\r\nContent-Length: 0\r\n\r\n")},
			"401", "credentials: a cookie"},
		"a page": {Target{URL: answer(t, "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nhi")}, "200",
			"a proxy in between may have taken the Upgrade out"},
		"wrong path, behind ASGI": {Target{URL: answer(t,
			"HTTP/1.1 403 Forbidden\r\nServer: uvicorn\r\nContent-Length: 0\r\n\r\n")},
			"try: another path: some servers " +
				"answer 403", "as this one's library does"},
		"foreign origin, answered 404": {Target{URL: answer(t, "HTTP/1.1 404 Not Found\r\nContent-Length: 0\r\n\r\n"),
			Origin: "http://elsewhere.example"}, "404", "another origin: some servers answer 404 to " +
			"http://elsewhere.example"},
		"in chunks": {Target{URL: answer(t, "HTTP/1.1 400 Bad Request\r\nTransfer-Encoding: chunked\r\n\r\n"+
			"9;x=1\r\nno berth \r\n4\r\nhere\r\n0\r\n\r\n")}, `it says "no berth here"`, ""},
		"an event stream": {Target{URL: answer(t,
			"HTTP/1.1 200 OK\r\nContent-Type: text/event-stream; charset=utf-8\r\n"+
				"\r\nevent: tide\n\n")}, "there is an event stream here, not a WebSocket", "an HTTP client"},
		"a long poll": {Target{URL: slowly(t, 2100*time.Millisecond, "HTTP/1.1 200 OK\r\nContent-Type: "+
			"application/json\r\nContent-Length: 2\r\n\r\n{}")}, "there is a long poll, which was answered after 2.",
			"another path"},
		"missing upgrade": {Target{URL: answer(t, "HTTP/1.1 101 Switching Protocols\r\nConnection: "+
			"Upgrade\r\n\r\n")}, "no Upgrade: websocket", "a proxy in between"},
		"wrong key": {Target{URL: answer(t, "HTTP/1.1 101 Switching Protocols\r\nUpgrade: "+
			"websocket\r\nConnection: Upgrade\r\nSec-WebSocket-Accept: x\r\n\r\n")}, "does not belong to the key", ""},
		"through a proxy": {Target{URL: answer(t, "HTTP/1.1 502 Bad Gateway\r\nVia: 1.1 "+
			"lockkeeper\r\nContent-Length: 0\r\n\r\n")}, "502", "the answer came via 1.1 lockkeeper"},
		"no HTTP": {Target{URL: answer(t, "SSH-2.0-something\r\n\r\n")}, "no HTTP",
			"does something else listen"},
		"closes": {Target{URL: answer(t, "")}, "closed the connection without an answer",
			"whether it speaks TLS"},
		"TLS, not known": {Target{URL: strings.Replace(secure.URL, "https", "wss", 1)},
			"not signed by anybody known", "--insecure"},
		"TLS where there is none": {Target{URL: strings.Replace(plainServer.URL, "http", "wss", 1)},
			"does not speak TLS", "ws:// in place"},
		"no such name": {Target{URL: "ws://no-such-berth.invalid/"}, "is not known", "the spelling"},
	} {
		t.Run(name, func(t *testing.T) {
			text, _, err := run(t, tc.target, time.Second)
			var none *NoConnection
			if !errors.As(err, &none) || !strings.Contains(text, "REFUSED: ") || !strings.Contains(text, tc.says) ||
				!strings.Contains(text, tc.try) {
				t.Errorf("%v\n%s", err, text)
			}
		})
	}
}

// upgrade agrees to WebSocket on a hijacked connection.
func upgrade(w http.ResponseWriter, r *http.Request, fields string) (net.Conn, *bufio.ReadWriter) {
	c, rw, err := w.(http.Hijacker).Hijack()
	if err != nil {
		panic(err)
	}
	fmt.Fprintf(rw, "HTTP/1.1 101 Switching Protocols\r\nUpgrade: websocket\r\nConnection: "+
		"Upgrade\r\n%sSec-WebSocket-Accept: %s\r\n\r\n", fields, ws.AcceptFor(r.Header.Get("Sec-WebSocket-Key")))
	rw.Flush()
	return c, rw
}

// TestOverTLS: the phases with the version and the certificate, the subprotocol
// and cookies that were agreed on, fragments, a wrong frame, and who closed.
func TestOverTLS(t *testing.T) {
	server := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		c, rw := upgrade(w, r, "Sec-WebSocket-Protocol: board.2\r\nSet-Cookie: berth=12; Path=/\r\n")
		defer c.Close()
		first := ws.AppendFrame(nil, ws.OpText, []byte(`{"kind":"wel`))
		first[0] &^= 0x80
		rest := ws.AppendFrame(nil, ws.OpContinuation, []byte(`come"}`))
		wrong := ws.AppendFrame(nil, ws.OpText, []byte("compressed?"))
		wrong[0] |= 0x40
		rw.Write(append(append(append(first, ws.AppendFrame(nil, ws.OpPing, []byte("are you there"))...), rest...),
			wrong...))
		rw.Flush()
		b := make([]byte, 64) // the pong, and then what is said
		io.ReadFull(rw, b[:6+13])
		rw.Write(ws.AppendFrame(nil, ws.OpClose, ws.AppendClosePayload(nil, 1008, "the berth is taken")))
		rw.Flush()
		io.Copy(io.Discard, rw)
	}))
	defer server.Close()
	target := Target{URL: strings.Replace(server.URL, "https", "wss", 1) + "/live?x=1", TLS: wire.TLS{Insecure: true},
		Origin: "http://harbour.example", Protocols: []string{"board.3", "board.2"},
		Fields: []http1.Field{{Name: "X-Berth", Value: "12"}}}
	text, events, err := run(t, target, 5*time.Second, Action{"expect", `/^\{"kind":"welcome"\}$/`},
		Action{"pause", "10s"}, Action{"send", "too late"})
	var late *NotOpen
	if !errors.As(err, &late) {
		t.Errorf("sending when it is over: %v", err)
	}
	for _, part := range []string{"name lookup", "TLS 1.3, TLS_", "certificate of O=Acme Co", "not verified",
		"asked: GET /live?x=1", "X-Berth: 12", "Origin: http://harbour.example",
		"Sec-WebSocket-Protocol: board.3, board.2",
		"answered: 101", "open, subprotocol board.2, no extensions, cookie berth=12; Path=/",
		"<- text, a fragment  12 B", "<- ping  13 B", "-> pong  13 B", "<- continuation, the last fragment  6 B",
		"WRONG: a reserved bit is set", "<- close 1008, policy: not allowed here", "the berth is taken",
		"-> close 1008, the answer to the server's close", "(by server)", "NOT SENT: the connection is closed"} {
		if !strings.Contains(text, part) {
			t.Errorf("there is no %q in\n%s", part, text)
		}
	}
	rec := Recording(target, events)
	said := ""
	for _, e := range rec.Entries {
		said += e.What + " "
	}
	if said != "open head head ping pong message message close close end " ||
		rec.Entries[5].Text != `{"kind":"welcome"}` || rec.Entries[5].From != recording.Server {
		t.Errorf("as a recording it is %s", said)
	}
}

// TestWrongFrames: what a server does against the protocol is shown where it
// stands, and the client looks on.
func TestWrongFrames(t *testing.T) {
	part := func(first byte, payload string) []byte {
		b := ws.AppendFrame(nil, ws.OpText, []byte(payload))
		b[0] = first
		return b
	}
	frames := [][]byte{
		part(0x80, "of nothing"), part(0x83, "reserved"), part(0x01, "begun"), part(0x81, "in between"),
		part(0x09, "a piece"),
		part(0x89, strings.Repeat("x", 126)), part(0x81, "\xff\xfe"), part(0x81, "all right"), part(0x88, "1"),
	}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		c, rw := upgrade(w, r, "")
		defer c.Close()
		for _, f := range frames {
			rw.Write(f)
		}
		rw.Flush()
		io.Copy(io.Discard, rw)
	}))
	defer server.Close()
	var wrong []string
	_, events, err := run(t, Target{URL: strings.Replace(server.URL, "http", "ws", 1)}, 5*time.Second,
		Action{"expect", "all right"}, Action{"pause", "300ms"})
	for _, e := range events {
		if e.What == In {
			wrong = append(wrong, e.Why)
		}
	}
	want := []string{"without a message to continue", "the opcode 3", "", "inside a fragmented one",
		"control frame is fragmented", "longer than 125 bytes", "no valid UTF-8", "", "half a code"}
	for i := range want {
		if i >= len(wrong) || !strings.Contains(wrong[i], want[i]) || (want[i] == "") != (wrong[i] == "") {
			t.Fatalf("frame %d, %v: %q, want %q", i, err, wrong, want)
		}
	}
}

// TestDeafServer: a server that does not read does not hold the client up.
func TestDeafServer(t *testing.T) {
	done := make(chan bool)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		c, _ := upgrade(w, r, "")
		<-done
		c.Close()
	}))
	defer server.Close()
	defer close(done)
	big := filepath.Join(t.TempDir(), "big")
	if err := os.WriteFile(big, make([]byte, 15<<20), 0o666); err != nil {
		t.Fatal(err)
	}
	text, _, err := run(t, Target{URL: strings.Replace(server.URL, "http", "ws", 1)}, 5*time.Second,
		Action{"send-file", big}, Action{"send", "more"})
	if err == nil || !strings.Contains(text, "NOT SENT: the server has not taken it within 3s: it does not read") ||
		!strings.Contains(text, "end: something could not be sent (by network)") {
		t.Errorf("%v\n%s", err, text)
	}
}

// TestLines: raw lines over TCP; and what makes no sense is refused before
// anything is done.
func TestLines(t *testing.T) {
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
		r := bufio.NewReader(c)
		fmt.Fprint(c, "HELLO from the lock\r\n")
		for {
			line, err := r.ReadString('\n')
			if err != nil {
				return
			}
			fmt.Fprintf(c, "you said %q\n", line)
		}
	}()
	target := Target{URL: "tcp://" + ln.Addr().String()}
	text, _, err := run(t, target, 2*time.Second, Action{"expect", "HELLO"}, Action{"send", "NAME Alder"},
		Action{"expect", `"NAME Alder\r\n"`})
	if err != nil || !strings.Contains(text, "plain TCP") || !strings.Contains(text, "-> line  10 B") {
		t.Errorf("%v\n%s", err, text)
	}
	var unmet *Unmet
	if _, _, err := run(t, Target{URL: answer(t, "HTTP/1.1 404 Not Found\r\n\r\n")}, time.Second,
		Action{"send-hex", "0g"}); err == nil || !strings.Contains(err.Error(), "hexadecimal digits") {
		t.Errorf("%v", err)
	}
	for do, text := range map[string]string{"close": "99", "expect": "/(/", "send-file": "/no/such/file",
		"pause": "soon"} {
		if _, _, err := run(t, target, time.Second, Action{do, text}); err == nil || errors.As(err, &unmet) {
			t.Errorf("%s %s: %v", do, text, err)
		}
	}
	if _, _, err := run(t, Target{URL: "mailto:harbour"}, time.Second); err == nil ||
		!strings.Contains(err.Error(), "ws://") {
		t.Errorf("%v", err)
	}
}

// TestUnmet: what does not come is said, and that the server ended it first.
func TestUnmet(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		c, rw := upgrade(w, r, "")
		defer c.Close()
		if r.URL.Path == "/waits" {
			io.Copy(io.Discard, rw)
		}
	}))
	defer server.Close()
	base := strings.Replace(server.URL, "http", "ws", 1)
	var unmet *Unmet
	if _, _, err := run(t, Target{URL: base + "/waits"}, 200*time.Millisecond, Action{"expect", "x"}); !errors.As(err,
		&unmet) || !strings.Contains(unmet.Why, "200ms") {
		t.Errorf("%v", err)
	}
	if _, _, err := run(t, Target{URL: base + "/ends"}, 5*time.Second, Action{"expect", "x"}); !errors.As(err,
		&unmet) || !strings.Contains(unmet.Why, "without a close frame (code 1006)") {
		t.Errorf("%v", err)
	}
}

// TestFlood: a scripted probe of a server that says more than is kept for it
// hangs on nothing: what comes too fast is counted, and the end is seen.
func TestFlood(t *testing.T) {
	const n = 20_000
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		c, _ := upgrade(w, r, "")
		defer c.Close()
		var all []byte
		for i := range n {
			all = ws.AppendFrame(all, ws.OpText, fmt.Appendf(nil, `{"kind":"gauge","seq":%d}`, i))
		}
		c.Write(ws.AppendFrame(all, ws.OpClose, ws.AppendClosePayload(nil, ws.CloseNormal, "enough")))
		io.Copy(io.Discard, c)
	}))
	defer server.Close()
	began := time.Now()
	text, events, err := run(t, Target{URL: strings.Replace(server.URL, "http", "ws", 1)}, 20*time.Second,
		Action{"expect", fmt.Sprintf(`"seq":%d}`, n-1)})
	if err != nil || len(events) < n || time.Since(began) > 20*time.Second {
		t.Errorf("%v after %v, %d events\n%.400s", err, time.Since(began), len(events), text)
	}
}

// TestPieces: over TCP what does not end is shown as it is, with its bytes; messages may
// stand behind their length, and bytes may be taken as they come.
func TestPieces(t *testing.T) {
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
				io.WriteString(c, "who is there? ")
				io.Copy(c, c)
			}()
		}
	}()
	at := "tcp://" + ln.Addr().String()
	text, _, err := run(t, Target{URL: at}, time.Second, Action{"pause", "500ms"}, Action{"send", `Alder\x00`},
		Action{"expect", "who is there? Alder"})
	if err != nil || !strings.Contains(text, "<- unfinished, more has not come yet  14 B\n  who is there?") ||
		!strings.Contains(text, "77 68 6f 20 69 73") || !strings.Contains(text, "<- line  20 B") {
		t.Errorf("%v\n%s", err, text)
	}
	text, _, err = run(t, Target{URL: at, Raw: true}, time.Second, Action{"expect", "there?"},
		Action{"send", `open\n\0`}, Action{"expect", "open\n\x00"})
	if err != nil || !strings.Contains(text, "-> bytes  6 B") {
		t.Errorf("%v\n%s", err, text)
	}
	// 'w' and 'h' are 119 and 104: as a length of one byte and the beginning of a message
	// that does not end; as one of two bytes, a longer one.
	text, _, _ = run(t, Target{URL: at, Prefix: wire.Prefix1}, time.Second, Action{"pause", "500ms"})
	if !strings.Contains(text, "<- unfinished") {
		t.Error(text)
	}
	for _, name := range wire.Prefixes {
		prefix := wire.PrefixNamed(name)
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		go func() {
			c, err := l.Accept()
			if err == nil {
				io.Copy(c, c)
				c.Close()
			}
		}()
		text, _, err := run(t, Target{URL: "tcp://" + l.Addr().String(), Prefix: prefix}, time.Second,
			Action{"send", "the gate"}, Action{"send", "is open"}, Action{"expect", "the gate"}, Action{"expect",
				"is open"})
		if l.Close(); err != nil || strings.Count(text, "<- message") != 2 {
			t.Errorf("%s: %v\n%s", prefix, err, text)
		}
	}
	if _, _, err := run(t, Target{URL: at, Prefix: wire.Prefix1}, time.Second,
		Action{"send", strings.Repeat("x", 256)}); err == nil || !strings.Contains(err.Error(), "can say 255") {
		t.Errorf("%v", err)
	}
	text, _, _ = run(t, Target{URL: at, Prefix: wire.Prefix4}, time.Second, Action{"pause", "200ms"})
	if !strings.Contains(text, "by its length (4) a message has more than 16 MiB") {
		t.Error(text)
	}
}
