package transport

import (
	"bytes"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/wire"
	"tidepull/internal/wire/http1"
	"tidepull/internal/wire/ws"
)

// told puts an event into words.
func told(ev Event) string {
	switch ev.Kind {
	case Message:
		return fmt.Sprintf("message %v %q", ev.Binary, ev.Payload)
	case Beat:
		return fmt.Sprintf("beat %q", ev.Payload)
	case Sign:
		return "sign"
	case Reply:
		return fmt.Sprintf("reply %d %q", ev.Head.Status, ev.Payload)
	}
	return fmt.Sprintf("%d %v", ev.Kind, ev.Err)
}

// feed gives a machine bytes in pieces of up to step, and returns what it tells
// and asks for. After each piece the machine is moved on once more, as by what comes on its
// client's other line or by the clock: nothing may come of that.
func feed(io *IO, m Machine, b []byte, step int) (events []string, asked Line) {
	for len(b) > 0 {
		n := min(step, len(b))
		m.Take(io, Main, bytes.Clone(b[:n]))
		b = b[n:]
		for ev := m.Next(io); ev.Kind != Nothing; ev = m.Next(io) {
			if ev.Kind != Sign { // how many of them there are depends on where it is cut
				events = append(events, told(ev))
			}
			if ev.Kind == Beat {
				m.Reply(io, ev.Payload)
			}
		}
		if ev := m.Next(io); ev.Kind != Nothing {
			events = append(events, "moved on, "+told(ev))
		}
	}
	asked = io.Lines[Main]
	asked.Out = bytes.Clone(asked.Out)
	io.Clear()
	return events, asked
}

func newIO() *IO { return &IO{Random: rand.NewPCG(1, 2)} }

// opened gives a WebSocket whose handshake request is sent, and the server's
// agreement.
func opened(t testing.TB, io *IO) (m *WebSocket, agreement []byte) {
	t.Helper()
	m = &WebSocket{}
	m.Open(io, &Opening{Endpoint: wire.Endpoint{Unix: "/s"}, Host: "h", Path: "/live",
		Fields: []http1.Field{{Name: "Sec-WebSocket-Protocol", Value: "a, b"}}}, 100)
	if io.Lines[Main].Dial == nil || io.Lines[Main].Dial.String() != "unix:/s" || m.Deadline() != 100 {
		t.Fatalf("it asks for %+v until %v", io.Lines[Main], m.Deadline())
	}
	io.Clear()
	m.Connected(io, Main)
	h, n, err := http1.ConsumeRequest(io.Lines[Main].Out)
	if err != nil || n == 0 || ws.CheckRequest(&h) != "" {
		t.Fatalf("the request is %q", io.Lines[Main].Out)
	}
	io.Clear()
	return m, append([]byte("HTTP/1.1 103 Early Hints\r\n\r\n"), ws.AppendAgreement(nil, h.Get("Sec-WebSocket-Key"))...)
}

func frame(op byte, text string) []byte { return ws.AppendFrame(nil, op, []byte(text)) }

// TestCutAnywhere: wherever the bytes of a whole life are cut, the same is told,
// the same is asked for, and nothing is held afterwards.
func TestCutAnywhere(t *testing.T) {
	long := strings.Repeat("berth ", 30000)
	for name, life := range map[string]struct {
		lines bool
		bytes []byte
		tells []string
	}{
		"websocket": {false, slices.Concat(frame(ws.OpText, "one"), []byte{0x01, 2, 't', 'w'}, frame(ws.OpPing, "p"),
			[]byte{0x80, 1, 'o'}, frame(ws.OpBinary, "\x00\xff"), frame(ws.OpText, long),
			frame(ws.OpClose, "\x0b\xb8bye")),
			[]string{fmt.Sprintf("%d <nil>", Opened), `message false "one"`, `beat "p"`, `message false "two"`,
				`message true "\x00\xff"`, fmt.Sprintf("message false %q", long),
				fmt.Sprintf("%d the server closed with code 3000 and said 'bye'", Broken)}},
		"lines": {true, []byte("one\r\n\n\r\ntwo\n" + long + "\nthree\nrest"),
			[]string{`message false "one"`, `message false "two"`, fmt.Sprintf("message false %q", long),
				`message false "three"`}},
		"no text": {true, []byte("one\nca\xff\nthree\n"),
			[]string{`message false "one"`, fmt.Sprintf("%d lines: a line is no valid UTF-8 (a line is UTF-8, "+
				"ended by LF)", Violated)}},
		"no protocol": {false, slices.Concat(frame(ws.OpText, "one"), []byte{0xf1, 0}, frame(ws.OpText, "two")),
			[]string{fmt.Sprintf("%d <nil>", Opened), `message false "one"`,
				fmt.Sprintf("%d websocket: a reserved bit is set and no extension was agreed on (RFC 6455 5.2)",
					Violated)}},
	} {
		var whole Line
		for _, step := range []int{1 << 30, 1, 2, 3, 5, 7, 1000, 4096} {
			io := newIO()
			var m Machine = &Stream{}
			b := life.bytes
			if life.lines {
				m.Open(io, &Opening{}, 100)
				io.Clear()
				m.Connected(io, Main)
				if ev := m.Next(io); ev.Kind != Opened || !m.IsOpen() {
					t.Fatalf("connected it tells %v", told(ev))
				}
			} else {
				web, agreement := opened(t, io)
				m, b = web, append(agreement, life.bytes...)
			}
			events, asked := feed(io, m, b, step)
			if !slices.Equal(events, life.tells) {
				t.Fatalf("%s in pieces of %d: %d events, want %d: %.300q", name, step, len(events), len(life.tells),
					events)
			}
			if step == 1<<30 {
				whole = asked
			}
			if !bytes.Equal(asked.Out, whole.Out) || asked.Hangup != whole.Hangup {
				t.Errorf("%s in pieces of %d asks for %q %v, in one for %q %v", name, step, asked.Out, asked.Hangup,
					whole.Out, whole.Hangup)
			}
			m.Drop(io)
			if io.Held != 0 {
				t.Errorf("%s: %d bytes are still held", name, io.Held)
			}
		}
	}
}

// TestEnds: how a transport ends, by whoever ends it.
func TestEnds(t *testing.T) {
	next := func(io *IO, m Machine) string { return told(m.Next(io)) }
	for name, tc := range map[string]struct {
		do   func(io *IO, m Machine)
		want string
	}{
		"lost": {func(io *IO, m Machine) { m.Lost(io, Main, errors.New("reset")) },
			fmt.Sprint(Broken, " reset")},
		"closed, then lost": {func(io *IO, m Machine) { m.Close(io, 1000, ""); m.Lost(io, Main, errors.New("reset")) },
			fmt.Sprint(Ended, " <nil>")},
		"lost twice": {func(io *IO, m Machine) {
			m.Lost(io, Main, errors.New("reset"))
			m.Next(io)
			m.Lost(io, Main, errors.New("again"))
		}, fmt.Sprint(Nothing, " <nil>")},
		"not in time, but open": {func(io *IO, m Machine) { m.Expire(io) }, fmt.Sprint(Nothing, " <nil>")},
	} {
		for _, lines := range []bool{true, false} {
			io := newIO()
			var m Machine = &Stream{}
			if lines {
				m.Open(io, &Opening{}, 100)
				m.Connected(io, Main)
				m.Next(io)
			} else {
				web, agreement := opened(t, io)
				m = web
				feed(io, m, agreement, 1<<30)
			}
			if tc.do(io, m); next(io, m) != tc.want {
				t.Errorf("%s, lines %v: want %s", name, lines, tc.want)
			}
		}
	}
	io := newIO()
	m, _ := opened(t, io)
	m.Expire(io)
	if got := next(io, m); got != fmt.Sprint(Refused, " no agreement in time") || !io.Lines[Main].Hangup {
		t.Errorf("not agreed in time: %s", got)
	}
	m, agreement := opened(t, io)
	feed(io, m, agreement, 1<<30)
	m.Close(io, 1000, "")
	if m.Deadline() != mono.Time(closeWithin) {
		t.Errorf("closing until %v", m.Deadline())
	}
	events, _ := feed(io, m, append(frame(ws.OpText, "late"), frame(ws.OpClose, "\x03\xe8")...), 3)
	if want := []string{`message false "late"`, fmt.Sprint(Answered, " <nil>")}; !slices.Equal(events, want) ||
		m.Deadline() != mono.Time(endWithin) {
		t.Errorf("closing it tells %q, until %v", events, m.Deadline())
	}
	m.Expire(io)
	if got := next(io, m); got != fmt.Sprint(Ended, " <nil>") || !io.Lines[Main].Hangup {
		t.Errorf("answered and not ended: %s", got)
	}
}

// TestHeldTogether: what all machines together hold is bounded.
func TestHeldTogether(t *testing.T) {
	io := newIO()
	m, agreement := opened(t, io)
	feed(io, m, agreement, 1<<30)
	io.Held = maxHeld // by others
	events, asked := feed(io, m, ws.AppendFrame(nil, ws.OpText, make([]byte, 100))[:50], 1<<30)
	if len(events) != 1 || !strings.Contains(events[0], "together hold 128 MiB") || !asked.Hangup ||
		io.Held != maxHeld {
		t.Errorf("%q, %d held", events, io.Held-maxHeld)
	}
}

// framings are ways in which messages over TCP end.
func framings() []*wire.Framing {
	all := []*wire.Framing{nil, {Ends: "\r\n"}, {Ends: "\x1e"}, {Ends: "aab"}}
	for i := range wire.Prefixes {
		all = append(all, &wire.Framing{Prefix: wire.Prefix(i + 1)})
	}
	return all
}

// overTCP gives a connected stream.
func overTCP(io *IO, f *wire.Framing) *Stream {
	m := &Stream{Framing: f}
	m.Open(io, &Opening{}, 100)
	m.Connected(io, Main)
	m.Next(io) // it is open
	io.Clear()
	return m
}

// TestSigns: a comment of an event stream, an empty line and a pong are signs of life; a
// comment is told of behind the event that it came before.
func TestSigns(t *testing.T) {
	io := newIO()
	events := &HTTP{Habits: &Habits{Mode: EventStream}}
	events.Open(io, &Opening{Host: "h", Path: "/events"}, 100)
	events.Connected(io, Main)
	web, agreement := opened(t, io)
	for name, c := range map[string]struct {
		m    Machine
		came []byte
		want string
	}{
		"a comment": {events, []byte("HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\n\r\ndata: " +
			"a\n\n:here\n\ndata: b\n\n"),
			"[1 <nil> message false \"a\" message false \"b\" sign]"},
		"an empty line": {overTCP(newIO(), nil), []byte("a\n\nb\n"), "[message false \"a\" sign message false \"b\"]"},
		"a pong": {web, append(agreement, frame(ws.OpPong, "tide")...),
			fmt.Sprintf("[1 <nil> %d <nil>]", Pong)},
	} {
		var got []string
		in := newIO()
		c.m.Take(in, Main, c.came)
		for ev := c.m.Next(in); ev.Kind != Nothing; ev = c.m.Next(in) {
			got = append(got, told(ev))
		}
		if fmt.Sprint(got) != c.want {
			t.Errorf("%s: %v, want %s", name, got, c.want)
		}
	}
}

// FuzzCuts: whatever a server sends, cut or whole, the same is told.
func FuzzCuts(f *testing.F) {
	f.Add([]byte("one\ntwo\n"), uint8(2))
	f.Add([]byte("\x00\x03one\x00\x00\x00\x03twoaabaaab"), uint8(3))
	f.Add(append(frame(ws.OpText, "one"), frame(ws.OpClose, "\x03\xe8bye")...), uint8(1))
	f.Fuzz(func(t *testing.T, b []byte, step uint8) {
		cuts := func(what string, start func(io *IO) (m Machine, before []byte)) {
			var both [2][]string
			for i, n := range []int{int(step) + 1, 1 << 30} {
				io := newIO()
				m, before := start(io)
				both[i], _ = feed(io, m, append(before, b...), n)
				if m.Drop(io); io.Held != 0 {
					t.Fatalf("%s: %d bytes are still held", what, io.Held)
				}
			}
			if !slices.Equal(both[0], both[1]) {
				t.Fatalf("%s: cut %q, whole %q", what, both[0], both[1])
			}
		}
		cuts("websocket", func(io *IO) (Machine, []byte) { return opened(t, io) })
		for _, framing := range framings() {
			cuts(fmt.Sprintf("%+v", framing), func(io *IO) (Machine, []byte) { return overTCP(io, framing), nil })
		}
	})
}

// TestFramings: what one side says in a framing the other hears, wherever it is cut; what
// ends messages cannot stand in one, and a length that cannot be is an error.
func TestFramings(t *testing.T) {
	said := []string{"one", "with aab and \x1e and \r\n in it", "", strings.Repeat("long ", 40), "gr\u00fc\u00dfe"}
	for _, f := range framings() {
		for _, step := range []int{1, 2, 3, 7, 1 << 20} {
			io := newIO()
			m := overTCP(io, f)
			for _, text := range said {
				m.Say(io, []byte(text), false)
			}
			heard := overTCP(newIO(), f)
			events, _ := feed(newIO(), heard, bytes.Clone(io.Lines[Main].Out), step)
			var want []string
			for _, text := range said {
				switch {
				case f == nil || f.Lines():
					text = strings.NewReplacer("\r", "", "\n", "").Replace(text)
				case f.Prefix == wire.NoPrefix:
					text = strings.ReplaceAll(text, f.Ends, "")
				}
				if text != "" || f != nil && f.Prefix != wire.NoPrefix {
					want = append(want, fmt.Sprintf("message false %q", text))
				}
			}
			if fmt.Sprint(events) != fmt.Sprint(want) {
				t.Errorf("%+v in pieces of %d: %q\nwant %q", f, step, events, want)
			}
		}
	}
	for _, wrong := range [][]byte{{0xff, 0xff, 0xff, 0xff}, bytes.Repeat([]byte{0xff}, 11)} {
		f := &wire.Framing{Prefix: wire.Prefix4}
		if len(wrong) > 4 {
			f.Prefix = wire.PrefixVarint
		}
		io := newIO()
		events, asked := feed(io, overTCP(io, f), wrong, 1)
		if len(events) != 1 || !strings.Contains(events[0], "more than 16 MiB") || !asked.Hangup {
			t.Errorf("%v: %q", f.Prefix, events)
		}
	}
}

// TestLongLine: a line that comes in many pieces is not searched again and again.
func TestLongLine(t *testing.T) {
	b := append(bytes.Repeat([]byte("x"), 15<<20), '\n')
	io := newIO()
	m := &Stream{}
	m.Open(io, &Opening{}, 100)
	m.Connected(io, Main)
	took := func(step int) time.Duration {
		began := time.Now()
		if events, _ := feed(io, m, b, step); len(events) == 0 {
			t.Fatal("it does not come")
		}
		return time.Since(began)
	}
	took(1 << 30)
	if whole, cut := took(1<<30), took(16<<10); cut > 50*whole+time.Second {
		t.Errorf("in one piece %v, in 960 pieces %v", whole, cut)
	}
}

// TestHandshakeCookies: a cookie that comes with the agreement is kept, and one of a refusal is not.
func TestHandshakeCookies(t *testing.T) {
	for status, want := range map[string]string{"": "berth=12", "HTTP/1.1 401 Unauthorized\r\n": ""} {
		io := newIO()
		m, agreement := opened(t, io)
		m.opening.Jar = &http1.Jar{}
		jar := m.opening.Jar
		_, head, _ := bytes.Cut(agreement, []byte("\r\n\r\n"))
		line, rest, _ := bytes.Cut(head, []byte("\r\n"))
		if status == "" {
			status = string(line) + "\r\n"
		}
		m.Take(io, Main, []byte(status+"Set-Cookie: berth=12\r\n"+string(rest)))
		for m.Next(io).Kind != Nothing {
		}
		if got := jar.Field("h", "/", false, io.Wall()); got != want {
			t.Errorf("after %q the cookies are '%s', want '%s'", status, got, want)
		}
	}
}
