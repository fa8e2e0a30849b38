package transport

import (
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/wire"
	"tidepull/internal/wire/http1"
	"tidepull/internal/wire/ws"
)

// asking gives a transport over HTTP that has asked for messages, and what it asked.
func asking(t testing.TB, io *IO, h *Habits) (m *HTTP, request string) {
	t.Helper()
	m = &HTTP{Habits: h}
	m.Open(io, &Opening{Endpoint: wire.Endpoint{Unix: "/s"}, Host: "quay.test", Path: "/ask", Post: "/say",
		Fields: []http1.Field{{Name: "Authorization", Value: "Bearer tide"}}}, mono.Time(5*time.Second))
	if io.Lines[Main].Dial == nil {
		t.Fatal("it does not connect")
	}
	io.Clear()
	m.Connected(io, Main)
	request = string(io.Lines[Main].Out)
	io.Clear()
	return m, request
}

// line gives what was asked for on a line, and forgets all of it.
func line(io *IO, n int) Line {
	l := io.Lines[n]
	l.Out = bytes.Clone(l.Out)
	io.Clear()
	return l
}

// events drains a machine.
func events(io *IO, m Machine) (all []string) {
	for ev := m.Next(io); ev.Kind != Nothing; ev = m.Next(io) {
		all = append(all, told(ev))
	}
	return all
}

func chunked(parts ...string) string {
	var b strings.Builder
	for _, p := range parts {
		fmt.Fprintf(&b, "%x\r\n%s\r\n", len(p), p)
	}
	return b.String()
}

// TestHTTPCutAnywhere: wherever the answers are cut, over each mode the same is told, and
// nothing is held afterwards.
func TestHTTPCutAnywhere(t *testing.T) {
	open := fmt.Sprintf("%d <nil>", Opened)
	long := strings.Repeat("berth ", 20000)
	for name, life := range map[string]struct {
		habits Habits
		bytes  string
		tells  []string
	}{
		"events": {Habits{}, "HTTP/1.1 103 Early Hints\r\n\r\nHTTP/1.1 200 OK\r\nContent-Type: text/event-stream; " +
			"charset=utf-8\r\nTransfer-Encoding: chunked\r\n\r\n" + chunked(":here\n\nid: 7\ndata: o",
			"ne\ndata:two\n\nda",
			"ta: three\r\n\r\nretry: 50\n\ndata: "+long+"\n\n"),
			[]string{open, `message false "one\ntwo"`, `message false "three"`, fmt.Sprintf("message false %q", long)}},
		"events until the end": {Habits{}, "HTTP/1.0 200 OK\r\nContent-Type: text/event-stream\r\n\r\ndata: one\n\n",
			[]string{open, `message false "one"`}},
		"no event stream": {Habits{}, "HTTP/1.1 200 OK\r\nContent-Type: text/html\r\nContent-Length: 2\r\n\r\nhi",
			[]string{fmt.Sprintf("%d the upgrade was refused: the answer is no text/event-stream, but text/html",
				Refused)}},
		"refused": {Habits{}, "HTTP/1.1 503 Service Unavailable\r\nContent-Length: 2\r\n\r\nno",
			[]string{fmt.Sprintf("%d the upgrade was refused: answered 503 Service Unavailable", Refused)}},
		"lines": {Habits{Mode: LongAnswer}, "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n" +
			chunked("one\nt", "wo\n\r\n", "thr", "ee\nrest") + "0\r\n\r\n",
			[]string{open, `message false "one"`, `message false "two"`, `message false "three"`,
				fmt.Sprintf("%d the server ended the stream", Broken)}},
		"records": {Habits{Mode: LongAnswer, Framing: wire.Framing{Prefix: wire.Prefix2}},
			"HTTP/1.1 200 OK\r\n\r\n\x00\x03one\x00\x00\x00\x03two", []string{open, `message false "one"`,
				`message false ""`, `message false "two"`}},
		"no text": {Habits{Mode: LongAnswer}, "HTTP/1.1 200 OK\r\n\r\none\nca\xff\n",
			[]string{open, `message false "one"`, fmt.Sprintf("%d lines: a line is no valid UTF-8 (a line is UTF-8, "+
				"ended by LF)", Violated)}},
		"a poll": {Habits{Mode: LongPolling}, "HTTP/1.1 200 OK\r\nContent-Length: 7\r\n\r\none\ntwo",
			[]string{open, `message false "one\ntwo"`}},
		"a poll of lines": {Habits{Mode: LongPolling}, "HTTP/1.1 200 OK\r\nContent-Type: application/x-ndjson\r\n" +
			"Content-Length: 9\r\n\r\none\n\ntwo\n", []string{open, `message false "one"`, `message false "two"`}},
		"a poll of records": {Habits{Mode: LongPolling, Framed: true, Framing: wire.Framing{Ends: "\x1e"}},
			"HTTP/1.1 200 OK\r\nContent-Length: 7\r\n\r\none\x1etwo", []string{open, `message false "one"`,
				`message false "two"`}},
		"no protocol": {Habits{Mode: LongPolling}, "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\nzz\r\n",
			[]string{fmt.Sprintf("%d http: a chunk's size is no number (RFC 9112 7.1)", Refused)}},
	} {
		for _, step := range []int{1, 2, 3, 7, 61, 4096, len(life.bytes)} {
			io := newIO()
			m, _ := asking(t, io, &life.habits)
			got, _ := feed(io, m, []byte(life.bytes), step)
			if !slices.Equal(got, life.tells) {
				t.Errorf("%s in pieces of %d: %.300q", name, step, got)
			}
			if m.Drop(io); io.Held != 0 {
				t.Errorf("%s in pieces of %d: %d bytes are held", name, step, io.Held)
			}
		}
	}
}

// TestEventStreamComesBack: a stream that the server ends is asked for again, after the
// time that the server wants, from the event on that it gave last.
func TestEventStreamComesBack(t *testing.T) {
	io := newIO()
	m, request := asking(t, io, &Habits{})
	if !strings.Contains(request, "Accept: text/event-stream\r\n") || strings.Contains(request, "Last-Event-ID") {
		t.Errorf("it asks %q", request)
	}
	m.Take(io, Main, []byte("HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\nTransfer-Encoding: chunked\r\n\r\n"+
		chunked("retry: 40\nid: 7\ndata: x\n\n", "id: 8\n\nid: 9\ndata: not whole")+"0\r\n\r\n"))
	if got := events(io, m); len(got) != 2 {
		t.Fatalf("%q", got)
	}
	if l := line(io, Main); l.Hangup || m.Deadline() != mono.Time(40*time.Millisecond) || !m.IsOpen() {
		t.Errorf("it asks for %+v, and waits until %v", l, m.Deadline())
	}
	io.Now = mono.Time(40 * time.Millisecond)
	m.Expire(io)
	if got := string(line(io, Main).Out); !strings.Contains(got, "Last-Event-ID: 8\r\n") {
		t.Errorf("it asks %q", got)
	}
	m.Take(io, Main, []byte("HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\n\r\nid: 12\ndata: y\n\nid: 13\nda"))
	if got := events(io, m); len(got) != 1 {
		t.Fatalf("%q", got)
	}
	io.Clear()
	m.Lost(io, Main, errors.New("reset")) // an answer without a length ends with the connection, come what may
	if got := events(io, m); len(got) != 0 || m.Deadline() != mono.Time(80*time.Millisecond) {
		t.Fatalf("%q, waits until %v", got, m.Deadline())
	}
	io.Now = mono.Time(80 * time.Millisecond)
	m.Expire(io)
	m.Connected(io, Main)
	if got := string(line(io, Main).Out); !strings.Contains(got, "Last-Event-ID: 12\r\n") {
		t.Errorf("it asks %q", got)
	}
	m.Take(io, Main, []byte("HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\nTransfer-Encoding: chunked\r\n\r\n"))
	events(io, m)
	m.Lost(io, Main, errors.New("reset")) // in the middle of one that says where it ends
	if got := events(io, m); len(got) != 0 {
		t.Fatalf("%q", got)
	}
	io.Now = mono.Time(200 * time.Millisecond)
	m.Expire(io)
	m.Connected(io, Main)
	io.Clear()
	m.Take(io, Main, []byte("HTTP/1.1 204 No Content\r\n\r\n")) // it is to stay away (9.2.3)
	if got := events(io, m); len(got) != 1 || !strings.HasPrefix(got[0], fmt.Sprint(Broken)) {
		t.Errorf("%q", got)
	}
}

// TestPosts: what is said goes one after the other, waits if the server says so, and is
// said before the end; the end is said if the server wants to hear of it.
func TestPosts(t *testing.T) {
	io := newIO()
	m, _ := asking(t, io, &Habits{Mode: LongPolling, Type: "text/plain", Ends: true})
	m.Take(io, Main, []byte("HTTP/1.1 204 No Content\r\n\r\n"))
	if got := events(io, m); len(got) != 1 || m.Deadline() != mono.Time(patience) {
		t.Fatalf("%q, next at %v: a server that does not hold polls is not asked at once", got, m.Deadline())
	}
	io.Clear()
	m.Say(io, []byte("one"), false)
	m.Say(io, []byte("two"), false)
	if l := line(io, Post); l.Dial == nil || len(l.Out) > 0 {
		t.Fatalf("%+v", l)
	}
	m.Connected(io, Post)
	if got := string(line(io, Post).Out); !strings.HasPrefix(got, "POST /say HTTP/1.1\r\nHost: quay.test\r\n") ||
		!strings.HasSuffix(got, "Content-Type: text/plain\r\nContent-Length: 3\r\n\r\none") {
		t.Errorf("%q", got)
	}
	m.Take(io, Post, []byte("HTTP/1.1 429 Too Many Requests\r\nRetry-After: 2\r\nKeep-Alive: timeout=2, "+
		"max=9\r\nContent-Length: 0\r\n\r\n"))
	if got := events(io, m); len(got) != 0 {
		t.Errorf("%q", got)
	}
	io.Clear()
	io.Now = mono.Time(2 * time.Second)
	m.Expire(io)
	m.Connected(io, Post) // the old connection was not used for long
	if got := string(line(io, Post).Out); !strings.HasSuffix(got, "\r\n\r\none") {
		t.Errorf("%q", got)
	}
	m.Close(io, 1000, "")
	m.Take(io, Post, []byte("HTTP/1.1 204 No Content\r\n\r\n"))
	if got := events(io, m); len(got) != 0 || !strings.HasSuffix(string(line(io, Post).Out), "\r\n\r\ntwo") {
		t.Errorf("%q", got)
	}
	m.Take(io, Post, []byte("HTTP/1.1 204 No Content\r\n\r\n"))
	if got := events(io, m); len(got) != 0 || !strings.HasPrefix(string(line(io, Post).Out), "DELETE /ask ") {
		t.Errorf("%q", got)
	}
	m.Take(io, Post, []byte("HTTP/1.1 204 No Content\r\n\r\n"))
	if got := events(io, m); !slices.Equal(got, []string{fmt.Sprintf("%d <nil>", Ended)}) {
		t.Errorf("%q", got)
	}
	m, _ = asking(t, io, &Habits{Mode: LongPolling}) // a server that answers no POST is not told without end
	m.Take(io, Main, []byte("HTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n"))
	events(io, m)
	for range 9 {
		m.Say(io, make([]byte, 1<<20), false)
	}
	if m.Expire(io); m.Deadline() != mono.Never {
		t.Errorf("it waits until %v", m.Deadline())
	}
	if got := events(io, m); len(got) != 1 || !strings.HasPrefix(got[0], fmt.Sprint(Broken,
		" the server does not answer")) {
		t.Errorf("%q", got)
	}
	io.Clear()
	m, _ = asking(t, io, &Habits{Mode: LongPolling})
	m.Take(io, Main, []byte("HTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n"))
	events(io, m)
	m.Say(io, []byte("one"), false)
	m.Connected(io, Post)
	m.Take(io, Post, []byte("HTTP/1.1 400 Bad Request\r\nContent-Length: 0\r\n\r\n"))
	if got := events(io, m); !slices.Equal(got, []string{fmt.Sprintf("%d what it said was answered 400 Bad Request",
		Broken)}) {
		t.Errorf("%q", got)
	}
}

// TestRequestHabits: cookies go where they belong, a credential does not follow a
// redirect to another host, and gzip is read.
func TestRequestHabits(t *testing.T) {
	io := newIO()
	io.Find = func(place string) (wire.Endpoint, bool) {
		return wire.Endpoint{Unix: "/other"}, place == "http://other.test"
	}
	m := &Requests{Line: Side, Jar: &http1.Jar{}}
	here := &wire.Endpoint{Unix: "/s"}
	m.Ask(io, here, "quay.test", Request{Method: "GET", Path: "/a/b", Redirects: 3, Fields: []http1.Field{
		{Name: "Authorization", Value: "Bearer tide"}, {Name: "X-Lock", Value: "3"}}})
	m.Connected(io)
	io.Clear()
	m.Take(io, []byte("HTTP/1.1 302 Found\r\nSet-Cookie: berth=7; Path=/\r\nSet-Cookie: deep=1\r\n"+
		"Set-Cookie: far=1; Domain=other.test\r\nSet-Cookie: brief=1; Path=/; Max-Age=10\r\nLocation: /c\r\n"+
		"Content-Length: 0\r\n\r\n"))
	if ev := m.Next(io); ev.Kind != Nothing {
		t.Fatalf("%+v", ev)
	}
	got := string(line(io, Side).Out)
	if !strings.HasPrefix(got, "GET /c ") || !strings.Contains(got, "Cookie: berth=7; brief=1\r\n") ||
		!strings.Contains(got, "Bearer tide") {
		t.Errorf("%q", got)
	}
	io.Now = mono.Time(time.Minute)
	m.Take(io, []byte("HTTP/1.1 307 Temporary Redirect\r\nLocation: http://other.test/d\r\nContent-Length: 0\r\n\r\n"))
	m.Next(io)
	if l := line(io, Side); !l.Hangup || l.Dial == nil || l.Dial.Unix != "/other" {
		t.Errorf("%+v", l)
	}
	m.Connected(io)
	got = string(line(io, Side).Out)
	if !strings.HasPrefix(got, "GET /d HTTP/1.1\r\nHost: other.test\r\n") || strings.Contains(got, "Cookie") ||
		strings.Contains(got, "Bearer") || !strings.Contains(got, "X-Lock: 3") {
		t.Errorf("%q", got)
	}
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	z.Write([]byte("the gate is open"))
	z.Close()
	m.Take(io, fmt.Appendf(nil, "HTTP/1.1 200 OK\r\nContent-Encoding: gzip\r\nContent-Length: %d\r\n\r\n%s",
		packed.Len(), packed.Bytes()))
	if ev := m.Next(io); told(ev) != `reply 200 "the gate is open"` {
		t.Errorf("%s", told(ev))
	}
	m.Ask(io, here, "quay.test", Request{Method: "GET", Path: "/a/x"})
	m.Connected(io)
	if got := string(line(io, Side).Out); !strings.Contains(got, "Cookie: deep=1; berth=7\r\n") {
		t.Errorf("%q", got)
	}
	bomb := packed.Bytes()[:len(packed.Bytes())-4]
	m.Take(io, fmt.Appendf(nil, "HTTP/1.1 200 OK\r\nContent-Encoding: gzip\r\nContent-Length: %d\r\n\r\n%s",
		len(bomb), bomb))
	if ev := m.Next(io); ev.Kind != Failed {
		t.Errorf("%s", told(ev))
	}
}

// TestClosesAndGoesElsewhere: a connection that the server closes after its answer is not used again, and an address
// without a scheme is of the kind of the connection at hand.
func TestClosesAndGoesElsewhere(t *testing.T) {
	io := newIO()
	var looked []string
	io.Find = func(place string) (wire.Endpoint, bool) {
		looked = append(looked, place)
		return wire.Endpoint{Unix: "/other"}, true
	}
	m := &Requests{Line: Side}
	here := &wire.Endpoint{Unix: "/s"}
	for n := range 2 {
		m.Ask(io, here, "quay.test", Request{Method: "GET", Path: "/a"})
		if l := line(io, Side); l.Dial == nil {
			t.Fatalf("request %d is not on a connection of its own: %+v", n+1, l)
		}
		m.Connected(io)
		io.Clear()
		m.Take(io, []byte("HTTP/1.1 200 OK\r\nConnection: close\r\nContent-Length: 0\r\n\r\n"))
		if ev := m.Next(io); ev.Kind != Reply || !line(io, Side).Hangup {
			t.Fatalf("%s", told(ev))
		}
		io.Clear()
	}
	for _, secure := range []string{"", "quay.test"} {
		m = &Requests{Line: Side}
		m.Ask(io, &wire.Endpoint{Unix: "/s", TLS: secure}, "quay.test",
			Request{Method: "GET", Path: "/a", Redirects: 1})
		m.Connected(io)
		io.Clear()
		m.Take(io, []byte("HTTP/1.1 307 Temporary Redirect\r\nLocation: //other.test/d\r\nContent-Length: 0\r\n\r\n"))
		m.Next(io)
	}
	if got := strings.Join(looked, " "); got != "http://other.test https://other.test" {
		t.Errorf("it looks for %s", got)
	}
}

// FuzzHTTP: whatever a server answers, in whichever pieces, the same is told, nothing is
// held afterwards, and nothing hangs.
func FuzzHTTP(f *testing.F) {
	f.Add([]byte("HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\n\r\ndata: a\n\n"), uint8(0), 3)
	f.Add([]byte("HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n4\r\na\nb\n\r\n0\r\n\r\n"), uint8(1), 1)
	f.Add([]byte("HTTP/1.1 200 OK\r\nContent-Length: 3\r\n\r\nabcHTTP/1.1 204 No\r\n\r\n"), uint8(2), 5)
	f.Fuzz(func(t *testing.T, raw []byte, mode uint8, step int) {
		if step < 1 || len(raw) > 1<<16 {
			return
		}
		h := &Habits{Mode: Mode(mode % 4), Every: time.Millisecond}
		var want []string
		for i, step := range []int{len(raw) + 1, step} {
			io := newIO()
			m, _ := asking(t, io, h)
			got, _ := feed(io, m, raw, step)
			if i == 0 {
				want = got
			} else if h.Mode < LongPolling && !slices.Equal(got, want) { // a poll's next answer may come too soon
				t.Errorf("in pieces of %d %q, whole %q", step, got, want)
			}
			if m.Drop(io); io.Held != 0 {
				t.Errorf("%d bytes are held", io.Held)
			}
		}
	})
}

// TestRFC6202: the cases that RFC 6202 tells of, as a script of what comes in answer to each
// request, and what is told and asked then.
func TestRFC6202(t *testing.T) {
	json := func(status, body string) string {
		return fmt.Sprintf("HTTP/1.1 %s\r\nContent-Type: application/json\r\nContent-Length: %d\r\n\r\n%s", status,
			len(body), body)
	}
	type turn struct {
		comes string // "lost": the connection is gone
		tells string // all that is told, without that it is open
		then  string // "asks", "connects", "waits", "ends"
	}
	stream := "HTTP/1.1 200 OK\r\nContent-Type: text/plain\r\nTransfer-Encoding: chunked\r\n\r\n"
	for name, script := range map[string]struct {
		mode  Mode
		turns []turn
	}{
		"2.1: asked again as soon as there is an answer": {LongPolling, []turn{
			{json("200 OK", "one"), "one", "asks"}, {json("200 OK", "two"), "two", "asks"}}},
		"2.1: what came in between comes together": {LongPolling, []turn{
			{"HTTP/1.1 200 OK\r\nContent-Type: application/x-ndjson\r\nContent-Length: 8\r\n\r\none\ntwo\n", "one two",
				"asks"}}},
		"2.1: nothing came while it was held": {LongPolling, []turn{
			{json("200 OK", "one"), "one", "asks"}, {json("204 No Content", ""), "", "waits"}}},
		"5.5: the server's time for it is over": {LongPolling, []turn{
			{json("200 OK", "one"), "one", "asks"}, {json("408 Request Timeout", ""), "", "waits"}}},
		"5.5: a proxy's time for it is over": {LongPolling, []turn{
			{json("200 OK", "one"), "one", "asks"}, {json("504 Gateway Timeout", ""), "", "waits"}}},
		"5.5: a proxy that gets no answer at all": {LongPolling, []turn{
			{json("504 Gateway Timeout", ""), "answered 504 Gateway Timeout", "ends"}}},
		"2.1: a connection for each poll": {LongPolling, []turn{
			{"HTTP/1.1 200 OK\r\nConnection: close\r\nContent-Length: 3\r\n\r\none", "one", "connects"}}},
		"5.1: a connection that was used is cut while a poll is held": {LongPolling, []turn{
			{json("200 OK", "one"), "one", "asks"}, {"lost", "", "connects"}, {"lost", "cut", "ends"}}},
		"2.2: one answer that does not end": {LongAnswer, []turn{
			{stream + chunked("one\n"), "one", ""}, {chunked("two\n", "thr", "ee\nfour\n"), "two three four", ""}}},
		"2.2: messages are not chunks, nor reads": {LongAnswer, []turn{
			{stream, "", ""}, {"4\r\none", "", ""}, {"\n\r\n", "one", ""}}},
		"2.2: the server ends it": {LongAnswer, []turn{
			{stream + chunked("one\n") + "0\r\n\r\n", "one the server ended the stream", "ends"}}},
		"2.2: until the connection ends": {LongAnswer, []turn{
			{"HTTP/1.0 200 OK\r\n\r\none\n", "one", ""}, {"lost", "the server ended the stream", "ends"}}},
		"5.2: a stream that is kept back": {LongAnswer, []turn{{stream, "", ""}}},
	} {
		io := newIO()
		m, _ := asking(t, io, &Habits{Mode: script.mode})
		for n, turn := range script.turns {
			if turn.comes == "lost" {
				m.Lost(io, Main, errors.New("cut"))
			} else {
				m.Take(io, Main, []byte(turn.comes))
			}
			var told []string
			ended := false
			for ev := m.Next(io); ev.Kind != Nothing; ev = m.Next(io) {
				switch ev.Kind {
				case Message:
					told = append(told, string(ev.Payload))
				case Broken, Refused:
					why := ev.Err.Error()
					if refusal := (*ws.Refusal)(nil); errors.As(ev.Err, &refusal) {
						why = refusal.Why
					}
					told, ended = append(told, why), true
				}
			}
			l := line(io, Main)
			then := ""
			switch {
			case ended:
				then = "ends"
			case l.Dial != nil:
				then = "connects"
				m.Connected(io, Main)
				if !strings.HasPrefix(string(line(io, Main).Out), "GET /ask ") {
					t.Errorf("%s: it connects, and does not ask", name)
				}
			case strings.HasPrefix(string(l.Out), "GET /ask "):
				then = "asks"
			case m.Deadline() == io.Now.Add(patience):
				then = "waits"
				io.Now = m.Deadline()
				m.Expire(io)
				io.Clear()
			}
			if got := strings.Join(told, " "); got != turn.tells || then != turn.then {
				t.Errorf("%s, turn %d: it tells %q and then %q, want %q and %q", name, n+1, got, then, turn.tells,
					turn.then)
			}
		}
	}
}

// TestLostIsForgotten: of a request that was lost with its connection nothing is left to be ended.
func TestLostIsForgotten(t *testing.T) {
	io := newIO()
	m := &Requests{Line: Side}
	m.Ask(io, &wire.Endpoint{Unix: "/s"}, "quay.test", Request{Method: "PUT", Path: "/"})
	m.Connected(io)
	m.Lost(io, errors.New("reset"))
	if ev := m.Next(io); ev.Kind != Failed || ev.Err == nil {
		t.Fatalf("%+v", ev)
	}
	io.Clear()
	if m.Drop(io); line(io, Side).Hangup {
		t.Error("it ends a connection that is gone")
	}
}

// TestBothLinesCutAnywhere: the answers to what a client asks for and to what it says come in pieces, in
// turn on its two lines: neither takes anything away from the other.
func TestBothLinesCutAnywhere(t *testing.T) {
	const posted = "HTTP/1.1 200 OK\r\nContent-Type: text/plain\r\nContent-Length: 5\r\n\r\ntaken"
	for name, life := range map[string]struct {
		mode  Mode
		bytes string
		tells []string
	}{
		"events": {EventStream, "HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\n" +
			"Transfer-Encoding: chunked\r\n\r\n" +
			chunked("data: o", "ne\n\ndata: two\n", "\n"), []string{`message false "one"`, `message false "two"`}},
		"lines": {LongAnswer, "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n" + chunked("on", "e\ntw", "o\n"),
			[]string{`message false "one"`, `message false "two"`}},
		"a poll": {LongPolling, "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n" + chunked("o", "ne") +
			"0\r\n\r\n", []string{`message false "one"`}},
	} {
		for at := range len(life.bytes) {
			io := newIO()
			m := &HTTP{Habits: &Habits{Mode: life.mode}}
			m.Open(io, &Opening{Endpoint: wire.Endpoint{Unix: "/s"}, Host: "quay.test", Path: "/ask",
				Early: []byte("x")}, mono.Time(time.Minute))
			m.Connected(io, Main)
			m.Connected(io, Post)
			got := events(io, m)
			rest, half := life.bytes, posted
			for _, n := range []int{at, 1, len(life.bytes)} {
				m.Take(io, Main, []byte(rest[:min(n, len(rest))]))
				got, rest = append(got, events(io, m)...), rest[min(n, len(rest)):]
				n = min(len(half), 1+at%len(posted))
				m.Take(io, Post, []byte(half[:n]))
				got, half = append(got, events(io, m)...), half[n:]
			}
			if want := append([]string{fmt.Sprintf("%d <nil>", Opened)}, life.tells...); !slices.Equal(got, want) {
				t.Errorf("%s cut at %d: %q", name, at, got)
			}
		}
	}
}

// TestEmptyPolls: a server that answers polls at once, with nothing in the answer, is not asked without
// end; one that has something new each time is.
func TestEmptyPolls(t *testing.T) {
	for name, tc := range map[string]struct {
		answer func(n int) string
		most   int
	}{
		"nothing":       {func(int) string { return "" }, 11},
		"an empty list": {func(int) string { return "[]" }, 13},
		"something new": {func(n int) string { return fmt.Sprintf(`[{"seq":%d}]`, n) }, 1000},
	} {
		io := newIO()
		m, _ := asking(t, io, &Habits{Mode: LongPolling})
		asked := 1
		for n := range 1000 { // milliseconds
			io.Now = mono.Time(time.Duration(n) * time.Millisecond)
			if m.Deadline() <= io.Now {
				m.Expire(io)
				asked++
			}
			if !m.get.Busy() {
				continue
			}
			io.Clear()
			content := tc.answer(n)
			m.Take(io, Main, fmt.Appendf(nil, "HTTP/1.1 200 OK\r\nContent-Length: %d\r\n\r\n%s", len(content), content))
			events(io, m)
			if m.get.Busy() { // it asked again at once
				asked++
			}
		}
		if asked > tc.most+2 || asked < tc.most-2 {
			t.Errorf("%s: asked %d times in a second, want %d", name, asked, tc.most)
		}
	}
}

// TestStreamElsewhere: a stream that the server says is elsewhere is followed there, and opens.
func TestStreamElsewhere(t *testing.T) {
	for _, mode := range []Mode{EventStream, LongAnswer} {
		io := newIO()
		m, _ := asking(t, io, &Habits{Mode: mode, First: time.Second})
		m.Take(io, Main, []byte("HTTP/1.1 307 Temporary Redirect\r\nLocation: /there\r\nContent-Length: 2\r\n\r\ngo"))
		if got := events(io, m); len(got) != 0 {
			t.Fatalf("%q", got)
		}
		if got := string(line(io, Main).Out); !strings.HasPrefix(got, "GET /there ") {
			t.Errorf("it asks %q", got)
		}
		m.Take(io, Main, []byte("HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\n\r\n"))
		if got := events(io, m); len(got) != 1 || !m.IsOpen() {
			t.Errorf("it tells %q", got)
		}
	}
}

// TestAsksByPost: a server that is asked for messages by POST is told that nothing comes with it, and is asked again if
// it has closed the connection in between: what is said goes by POST as well, and is not said twice.
func TestAsksByPost(t *testing.T) {
	io := newIO()
	m, request := asking(t, io, &Habits{Mode: LongPolling, Method: "POST"})
	if !strings.HasPrefix(request, "POST /") || !strings.Contains(request, "\r\nContent-Length: 0\r\n") {
		t.Errorf("asks with %q", request)
	}
	m.Take(io, Main, []byte("HTTP/1.1 200 OK\r\nContent-Length: 3\r\n\r\none"))
	got := events(io, m)
	if len(got) != 2 || got[1] != `message false "one"` {
		t.Errorf("got %q", got)
	}
	io.Clear()
	m.Lost(io, Main, nil)
	if got := events(io, m); len(got) > 0 || io.Lines[Main].Dial == nil {
		t.Errorf("a poll that the server closed unanswered is not asked again: %q", got)
	}
}
