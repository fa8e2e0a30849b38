package transport

import (
	"errors"
	"slices"
	"testing"
	"time"

	"tidepull/internal/wire"
)

// drained gives what a machine tells, in words.
func drained(io *IO, m Machine) (events []string) {
	for ev := m.Next(io); ev.Kind != Nothing; ev = m.Next(io) {
		events = append(events, told(ev))
	}
	return events
}

// datagrams gives an open socket for them.
func datagrams(io *IO, f *wire.Framing, first time.Duration) *Stream {
	m := &Stream{Framing: f, Datagrams: true, First: first}
	m.Open(io, &Opening{}, 100)
	io.Clear()
	m.Connected(io, Main)
	m.Next(io)
	return m
}

// TestDatagrams: whole messages come out of each datagram by itself, and go into one each.
func TestDatagrams(t *testing.T) {
	for name, c := range map[string]struct {
		framing wire.Framing
		came    []string
		tells   []string
		says    string
	}{
		"whole": {wire.Framing{Whole: true}, []string{"one\n", "", "\xff"},
			[]string{`message false "one\n"`, `message false "\xff"`}, "a\nb"},
		"lines": {wire.Framing{}, []string{"one\r\ntwo", "three\n\n"},
			[]string{`message false "one"`, `message false "two"`, `message false "three"`}, "ab\n"},
		"sized": {wire.Framing{Prefix: wire.Prefix2}, []string{"\x00\x03one\x00\x01x"},
			[]string{`message false "one"`, `message false "x"`}, "\x00\x03a\nb"},
		"broken": {wire.Framing{Prefix: wire.Prefix2}, []string{"\x00\x03one\x00"},
			[]string{`message false "one"`, "8 " + cutShort.Error()}, ""},
	} {
		io := newIO()
		m := datagrams(io, &c.framing, 0)
		var got []string
		for _, b := range c.came {
			m.Take(io, Main, []byte(b))
			got = append(got, drained(io, m)...)
		}
		if !slices.Equal(got, c.tells) {
			t.Errorf("%s: it tells %q, want %q", name, got, c.tells)
		}
		io.Clear()
		m.Say(io, []byte("a\nb"), false)
		m.Say(io, []byte("a\nb"), false)
		var sent []string
		io.Lines[Main].Send(7, func(_ int32, b []byte) bool { sent = append(sent, string(b)); return true })
		if c.says != "" && !slices.Equal(sent, []string{c.says, c.says}) || io.Held != 0 {
			t.Errorf("%s: it sends %q, and holds %d bytes", name, sent, io.Held)
		}
	}
}

// TestNothingCame: a socket is open whether anybody is there or not; if something must
// come soon, that shows.
func TestNothingCame(t *testing.T) {
	io := newIO()
	m := datagrams(io, &wire.Framing{Whole: true}, time.Second)
	if m.Deadline() != io.Now.Add(time.Second) {
		t.Fatalf("it waits until %v", m.Deadline())
	}
	m.Expire(io)
	if got := drained(io, m); !slices.Equal(got, []string{"7 nothing came in 1s"}) || m.IsOpen() {
		t.Errorf("it tells %q", got)
	}
	m = datagrams(io, &wire.Framing{Whole: true}, time.Second)
	m.Take(io, Main, []byte("hello"))
	if drained(io, m); m.Deadline() < 1<<62 {
		t.Errorf("it still waits, until %v", m.Deadline())
	}
}

// TestPair: a client with datagrams beside a stream is open once both are; what is urgent
// goes in datagrams, messages come over both, and the end of one is the end of both.
func TestPair(t *testing.T) {
	io := newIO()
	p := NewPair(&Stream{}, &wire.Framing{Whole: true})
	begin := func() {
		t.Helper()
		p.Open(io, &Opening{Endpoint: wire.Endpoint{Unix: "/s"}, Beside: wire.Endpoint{Unix: "/u"}}, 100)
		if d := io.Lines[Post].Dial; d == nil || !d.Datagrams || d.Unix != "/u" || io.Lines[Main].Dial != nil {
			t.Fatalf("it dials %+v and %+v", d, io.Lines[Main].Dial)
		}
		io.Clear()
		p.Connected(io, Post)
		if d := io.Lines[Main].Dial; d == nil || d.Datagrams || d.Unix != "/s" || drained(io, p) != nil {
			t.Fatalf("then it dials %+v", d)
		}
		io.Clear()
	}
	begin()
	p.Connected(io, Main)
	if got := drained(io, p); !slices.Equal(got, []string{"1 <nil>"}) || !p.IsOpen() {
		t.Fatalf("open it tells %q", got)
	}
	p.Say(io, []byte("slow"), false)
	p.SayUrgent(io, []byte("quick"))
	if a, b := string(io.Lines[Main].Out), string(io.Lines[Post].Out); a != "slow\n" || b != "quick" {
		t.Errorf("it sends %q and %q", a, b)
	}
	p.Take(io, Main, []byte("on"))
	got := drained(io, p)
	p.Take(io, Post, []byte("a datagram"))
	got = append(got, drained(io, p)...)
	p.Take(io, Main, []byte("e\n"))
	got = append(got, drained(io, p)...)
	if !slices.Equal(got, []string{`message false "a datagram"`, `message false "one"`}) {
		t.Errorf("there came %q", got)
	}
	io.Clear()
	p.Lost(io, Post, errors.New("nobody is there"))
	if got := drained(io, p); !slices.Equal(got, []string{"7 the datagrams beside it: nobody is there"}) ||
		!io.Lines[Main].Hangup || p.IsOpen() {
		t.Errorf("broken beside it tells %q, and asks for %+v", got, io.Lines[Main])
	}
	io.Clear()
	begin()
	p.Lost(io, Main, errors.New("refused"))
	if got := drained(io, p); !slices.Equal(got, []string{"6 refused"}) || !io.Lines[Post].Hangup {
		t.Errorf("refused it tells %q", got)
	}
	io.Clear()
	begin()
	p.Connected(io, Main)
	drained(io, p)
	p.Close(io, 1000, "")
	p.Expire(io)
	if got := drained(io, p); !slices.Equal(got, []string{"5 <nil>"}) || !io.Lines[Post].Hangup || io.Held != 0 {
		t.Errorf("closed it tells %q", got)
	}
}
