package ws

import (
	"bytes"
	"errors"
	"math/rand/v2"
	"strings"
	"testing"

	"tidepull/internal/wire"
	"tidepull/internal/wire/http1"
)

type got struct {
	op      byte
	payload string
	code    uint16
}

// readAll feeds b in the given pieces and keeps what is left between them, as
// a connection does.
func readAll(r *Reader, b []byte, cuts func(left int) int) (events []got, rest int, err error) {
	var held []byte
	for len(b) > 0 {
		n := min(cuts(len(b)), len(b))
		held, b = append(held, b[:n]...), b[n:]
		for {
			ev, n, err := r.Next(held)
			if err != nil {
				return events, len(held), err
			}
			if ev.Op != 0 {
				events = append(events, got{ev.Op, string(ev.Payload), ev.Code})
			}
			if n == 0 {
				break
			}
			held = held[n:]
		}
	}
	return events, len(held), nil
}

func fragment(first bool, fin bool, op byte, payload string) []byte {
	b := AppendFrame(nil, op, []byte(payload))
	if !first {
		b[0] &= 0xf0
	}
	if !fin {
		b[0] &= 0x7f
	}
	return b
}

// TestCutAnywhere reads one stream whole, byte by byte and randomly cut.
func TestCutAnywhere(t *testing.T) {
	long, huge := strings.Repeat("tide ", 60), strings.Repeat("gauge", 20000)
	var stream []byte
	stream = AppendFrame(stream, OpText, []byte(`{"kind":"welcome"}`))
	stream = append(stream, fragment(true, false, OpText, "Schl\xc3")...)
	stream = AppendFrame(stream, OpPing, []byte("beat"))
	stream = append(stream, fragment(false, true, 0, "\xa4ge")...)
	stream = AppendFrame(stream, OpBinary, []byte(long))
	stream = AppendFrame(stream, OpText, []byte(huge))
	stream = AppendFrame(stream, OpText, nil)
	stream = AppendFrame(stream, OpClose, AppendClosePayload(nil, CloseGoingAway, "ebb"))
	want := []got{
		{OpText, `{"kind":"welcome"}`, 0}, {OpPing, "beat", 0}, {OpText, "Schl\u00e4ge", 0},
		{OpBinary, long, 0}, {OpText, huge, 0}, {OpText, "", 0}, {OpClose, "ebb", CloseGoingAway},
	}
	random := rand.New(rand.NewPCG(5, 6))
	for name, cuts := range map[string]func(int) int{
		"whole":        func(left int) int { return left },
		"byte by byte": func(int) int { return 1 },
		"randomly cut": func(int) int { return 1 + random.IntN(3000) },
	} {
		events, rest, err := readAll(&Reader{}, bytes.Clone(stream), cuts)
		if err != nil || rest != 0 || len(events) != len(want) {
			t.Fatalf("%s: %d events, %d bytes left, %v", name, len(events), rest, err)
		}
		for i := range want {
			if events[i] != want[i] {
				t.Errorf("%s: event %d is %.40v, want %.40v", name, i, events[i], want[i])
			}
		}
	}
}

func TestViolations(t *testing.T) {
	for name, tc := range map[string]struct {
		bytes []byte
		code  uint16
	}{
		"reserved bit":       {[]byte{0xc1, 0}, CloseProtocolError},
		"reserved opcode":    {[]byte{0x83, 0}, CloseProtocolError},
		"masked by a server": {[]byte{0x81, 0x80, 0, 0, 0, 0}, CloseProtocolError},
		"long length":        {[]byte{0x81, 126, 0, 5}, CloseProtocolError},
		"longer length":      {[]byte{0x81, 127, 0, 0, 0, 0, 0, 0, 0, 5}, CloseProtocolError},
		"fragmented ping":    {[]byte{0x09, 0}, CloseProtocolError},
		"long ping":          {AppendFrame(nil, OpPing, make([]byte, 126)), CloseProtocolError},
		"stray continuation": {[]byte{0x80, 0}, CloseProtocolError},
		"message in message": {append(fragment(true, false, OpText, "a"), 0x81, 0), CloseProtocolError},
		"bad UTF-8":          {AppendFrame(nil, OpText, []byte{0xff}), CloseBadPayload},
		"half a close code":  {AppendFrame(nil, OpClose, []byte{3}), CloseProtocolError},
		"forbidden code":     {AppendFrame(nil, OpClose, AppendClosePayload(nil, 1005, "")), CloseProtocolError},
		"over the limit":     {AppendFrame(nil, OpBinary, make([]byte, 2000)), CloseTooBig},
		"fragments over that": {append(fragment(true, false, OpBinary, strings.Repeat("a", 900)),
			fragment(false, true, 0, strings.Repeat("b", 200))...), CloseTooBig},
	} {
		_, _, err := readAll(&Reader{Limit: 1000}, tc.bytes, func(left int) int { return left })
		var violated *wire.ProtocolError
		if !errors.As(err, &violated) || violated.Code != tc.code {
			t.Errorf("%s: %v, want code %d", name, err, tc.code)
		}
	}
}

func TestMaskedRoundTrip(t *testing.T) {
	for _, size := range []int{0, 1, 125, 126, 65535, 65536} {
		payload := bytes.Repeat([]byte("x"), size)
		frame := AppendMasked(nil, OpBinary, payload, [4]byte{1, 2, 3, 4})
		events, rest, err := readAll(&Reader{FromPeer: Client}, frame, func(int) int { return 70000 })
		if err != nil || rest != 0 || len(events) != 1 || events[0].payload != string(payload) {
			t.Errorf("%d bytes: %d events, %d left, %v", size, len(events), rest, err)
		}
	}
}

func TestHandshake(t *testing.T) {
	const key = "dGhlIHNhbXBsZSBub25jZQ==" // RFC 6455 1.3
	if got := AcceptFor(key); got != "s3pPLMBiTxaQ9kYGzzhZRbK+xOo=" {
		t.Fatalf("accept value is %s", got)
	}
	h, n, err := http1.ConsumeRequest(AppendRequest(nil, "127.0.0.1:7411", "/live", key))
	if err != nil || n == 0 || CheckRequest(&h) != "" || h.Path != "/live" {
		t.Fatalf("our own request: %+v, %v, %s", h, err, CheckRequest(&h))
	}
	whole := string(AppendAgreement(nil, key))
	for cut := range whole {
		if _, n, err := http1.ConsumeResponse([]byte(whole[:cut])); n != 0 || err != nil {
			t.Fatalf("a head cut at %d gives %d, %v", cut, n, err)
		}
	}
	for change, wrong := range map[[2]string]bool{
		{"", ""}: false, {"101", "200"}: true, {"Upgrade: websocket", "Upgrade: h2c"}: true,
		{"Connection: Upgrade", "Connection: keep-alive"}: true, {"s3pPLM", "S3pPLM"}: true,
		{"Connection: Upgrade", "connection: keep-alive, upgrade"}: false,
	} {
		h, _, err := http1.ConsumeResponse([]byte(strings.Replace(whole, change[0], change[1], 1)))
		if err != nil {
			t.Fatal(err)
		}
		if err := CheckResponse(&h, key, Offer{}); (err != nil) != wrong {
			t.Errorf("with %q: %v", change, err)
		}
	}
}

// FuzzReader: no input makes the reader panic or read past what it was given,
// and where the input is cut does not change what comes out.
func FuzzReader(f *testing.F) {
	f.Add(AppendFrame(nil, OpText, []byte("a")), uint8(1))
	f.Add(append(fragment(true, false, OpText, "a"), fragment(false, true, 0, "b")...), uint8(3))
	f.Add(AppendFrame(nil, OpClose, AppendClosePayload(nil, 1000, "bye")), uint8(2))
	f.Fuzz(func(t *testing.T, b []byte, step uint8) {
		one, _, err1 := readAll(&Reader{Limit: 1 << 16}, b, func(left int) int { return left })
		two, _, err2 := readAll(&Reader{Limit: 1 << 16}, b, func(int) int { return int(step)%7 + 1 })
		if (err1 == nil) != (err2 == nil) || len(one) != len(two) {
			t.Fatalf("whole: %d events, %v; cut: %d events, %v", len(one), err1, len(two), err2)
		}
		for i := range one {
			if one[i] != two[i] {
				t.Fatalf("event %d differs: %v, %v", i, one[i], two[i])
			}
		}
	})
}

func FuzzResponseHead(f *testing.F) {
	f.Add([]byte("HTTP/1.1 101 Switching Protocols\r\nA: b\r\n\r\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		h, n, err := http1.ConsumeResponse(b)
		if n > len(b) || err == nil && n > 0 && (h.Status < 100 || h.Status > 999) {
			t.Fatalf("%d of %d bytes, %+v, %v", n, len(b), h, err)
		}
	})
}

func TestNoAllocation(t *testing.T) {
	frame := AppendFrame(nil, OpText, []byte(strings.Repeat("notice ", 20)))
	out := make([]byte, 0, 512)
	var r Reader
	if n := testing.AllocsPerRun(100, func() {
		if ev, n, err := r.Next(frame); ev.Op != OpText || n != len(frame) || err != nil {
			t.Fatal(ev, n, err)
		}
		out = AppendMasked(out[:0], OpText, frame, [4]byte{9, 8, 7, 6})
	}); n != 0 {
		t.Fatalf("%v allocations, want 0", n)
	}
}

func BenchmarkNext(b *testing.B) {
	frame := AppendFrame(nil, OpText, []byte(strings.Repeat("notice ", 20)))
	var r Reader
	for b.Loop() {
		if _, n, _ := r.Next(frame); n == 0 {
			b.Fatal("not read")
		}
	}
}

// FuzzParseFrame: looking on takes any frame that the Reader takes, with the
// same payload, and says no more than it was given.
func FuzzParseFrame(f *testing.F) {
	f.Add(AppendMasked(nil, OpText, []byte("gate"), [4]byte{1, 2, 3, 4}), 0)
	f.Add(append(AppendFrame(nil, OpPing, nil), AppendFrame(nil, OpBinary, make([]byte, 200))...), 3)
	f.Add([]byte{0x70, 0xff, 0xff}, 1)
	f.Fuzz(func(t *testing.T, b []byte, _ int) {
		frame, n, err := parseFrame(b)
		if n > len(b) || err == nil && n == 0 && len(frame.Payload) > 0 {
			t.Fatalf("took %d of %d bytes", n, len(b))
		}
		r := Reader{}
		if len(b) > 1 && b[1]&0x80 != 0 {
			r.FromPeer = Client
		}
		ev, m, readErr := r.Next(append([]byte(nil), b...))
		if readErr == nil && m > 0 && (err != nil || m != n || ev.Op != 0 && ev.Op != OpClose &&
			string(ev.Payload) != string(frame.Payload)) {
			t.Fatalf("the Reader takes %d bytes, %q; parseFrame %d, %q, %v", m, ev.Payload, n, frame.Payload, err)
		}
	})
}

// TestWatcherLimits: without a limit of its own a watcher takes what a reader takes; with one no more.
func TestWatcherLimits(t *testing.T) {
	frame := AppendFrame(nil, OpText, bytes.Repeat([]byte("x"), 1000))
	for limit, whole := range map[int]bool{0: true, 1000: true, 999: false} {
		w := Watcher{From: Server, Limit: limit}
		e, n, err := w.Next(frame)
		if (err == nil && n == len(frame) && e.Whole && len(e.Message) == 1000) != whole {
			t.Errorf("with a limit of %d: %d bytes, whole %v, %v", limit, n, e.Whole, err)
		}
	}
}

// TestCloseWords: the first and the last code of each range belong to it (RFC 6455 7.4.2).
func TestCloseWords(t *testing.T) {
	for code, want := range map[uint16]string{1000: "normal", 3000: "a framework", 3999: "a framework",
		4000: "the application's own", 4999: "the application's own", 5000: "", 2999: ""} {
		got := CloseWords(code)
		if want != "" && !strings.Contains(got, want) || want == "" && strings.Contains(got, "a code of") {
			t.Errorf("%d is %q", code, got)
		}
	}
}
