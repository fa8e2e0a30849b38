package client_test

import (
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/mark"
	"tidepull/internal/testkit/cost"
	"tidepull/internal/wire/http1"
	"tidepull/internal/wire/transport"
	"tidepull/internal/wire/ws"
)

// scriptOf is a trial of one client that has the steps as its session.
func scriptOf(steps string) string {
	return `
trial "t" {}
target "board" { websocket = "ws://127.0.0.1:7411/live" }
session "s" {
` + steps + `
}
crew "c" {
  clients = 1
  session = session.s
}
tide {
  flood "100%" { over = "1s" }
}
`
}

// web takes what the client asked for over HTTP since it was last called: the
// requests as bytes, and what it wants of the connection.
type web struct{ *bench }

func (w web) out() string {
	text := string(w.env.IO.Lines[transport.Side].Out)
	if w.env.IO.Lines[transport.Side].Dial != nil {
		text += "[dial]"
	}
	if w.env.IO.Lines[transport.Side].Hangup {
		text += "[hang up]"
	}
	w.took()
	return text
}

// answer gives the client bytes of an answer, cut as the bench has it.
func (w web) answer(s string) {
	data := []byte(s)
	for len(data) > 0 {
		n := min(w.cuts(len(data)), len(data))
		w.c.Data(w.env, transport.Side, data[:n], mono.At(w.now), w.now)
		data = data[n:]
		if w.env.IO.Lines[transport.Side].Out == nil || len(data) > 0 {
			continue
		}
	}
}

// TestRequests plays a log-in with a redirect, a cookie, a captured token, a
// connection that the server closes in between, and one that fails. Where the
// answers are cut must not matter.
func TestRequests(t *testing.T) {
	source := scriptOf(`
  request "log in" {
    path    = "/login"
    query   = { next = "/quay 1" }
    form    = { user = name, password = "high & dry" }
    headers = { "X-Berth" = "${n + 12}" }
    capture = { token = msg.token, first = match(text, "\"token\":\"(...)", 1), kind = header("content-type") }
    when    = msg.ok && status == 200
  }
  request "again" {
    path   = "/who?t=${my.token}"
    bearer = my.token
    status = 204
  }
  request "fails" {
    method = "PUT"
    path   = "/${name == "" ? "" : "no"} slash"
    json   = { a = [1, my.first, { b = my.kind }] }
  }
  request "slow" {
    path   = "/slow"
    within = "2s"
  }
  connect {}
`)
	for name, cuts := range cutters {
		t.Run(name, func(t *testing.T) {
			w := web{newBench(t, source, cuts)}
			w.env.Web = "127.0.0.1:7411"
			w.c.Start(w.env, w.now)
			if got := w.out(); got != "[dial]" {
				t.Fatalf("first it asks for %q", got)
			}
			w.c.Connected(w.env, transport.Side, w.now)
			got := w.out()
			h, n, err := http1.ConsumeRequest([]byte(got))
			if err != nil || h.Method != "POST" || h.Path != "/login?next=%2Fquay+1" ||
				h.Get("Host") != "127.0.0.1:7411" || h.Get("X-Berth") != "12" ||
				h.Get("Content-Type") != "application/x-www-form-urlencoded" {
				t.Fatalf("%q, %v", got, err)
			}
			if body := got[n:]; body != "user=c-0&password=high+%26+dry" ||
				h.Get("Content-Length") != fmt.Sprint(len(body)) {
				t.Fatalf("the form is %q", body)
			}
			w.answer("HTTP/1.1 308 Permanent Redirect\r\nLocation: http://127.0.0.1:7411/in\r\nContent-Length: " +
				"0\r\n\r\n")
			got = w.out()
			if h, n, err = http1.ConsumeRequest([]byte(got)); err != nil || h.Method != "POST" || h.Path != "/in" ||
				h.Get("X-Berth") != "12" || got[n:] != "user=c-0&password=high+%26+dry" {
				t.Fatalf("the first redirect leads to %q, %v", got, err)
			}
			w.answer("HTTP/1.1 303 See Other\r\nLocation: home?x=1\r\nSet-Cookie: berth=12; " +
				"HttpOnly\r\nSet-Cookie: old=1\r\nContent-Length: 4\r\n\r\ngone")
			got = w.out()
			h, _, err = http1.ConsumeRequest([]byte(got))
			if err != nil || h.Method != "GET" || h.Path != "/home?x=1" || h.Get("Cookie") != "berth=12; old=1" ||
				h.Get("X-Berth") != "12" || h.Get("Content-Length") != "" {
				t.Fatalf("the redirect leads to %q, %v", got, err)
			}
			w.answer("HTTP/1.1 100 Continue\r\n\r\nHTTP/1.1 200 OK\r\nContent-Type: " +
				"application/json\r\nSet-Cookie: old=; Max-Age=0\r\nTransfer-Encoding: " +
				"chunked\r\n\r\n13\r\n{\"ok\":true,\"token\":\r\n8\r\n\"abcdef\"\r\n1\r\n}\r\n0\r\n\r\n")
			got = w.out()
			if h, _, err = http1.ConsumeRequest([]byte(got)); err != nil || h.Path != "/who?t=abcdef" ||
				h.Get("Authorization") != "Bearer abcdef" || h.Get("Cookie") != "berth=12" {
				t.Fatalf("then it asks %q, %v", got, err)
			}
			// The server closed the connection before the request came: it is made again.
			w.c.Broke(w.env, transport.Side, w.now, errors.New("closed"))
			if got := w.out(); got != "[dial]" {
				t.Fatalf("after the connection was closed: %q", got)
			}
			w.c.Connected(w.env, transport.Side, w.now)
			w.out()
			w.answer("HTTP/1.1 204 No Content\r\nConnection: close\r\n\r\n")
			if got := w.out(); got != "[hang up][dial]" && got != "[dial][hang up]" {
				t.Fatalf("after Connection: close it asks for %q", got)
			}
			w.c.Connected(w.env, transport.Side, w.now)
			got = w.out()
			if h, n, err = http1.ConsumeRequest([]byte(got)); err != nil || h.Method != "PUT" || h.Path != "/noslash" ||
				got[n:] != `{"a":[1,"abc",{"b":"application/json"}]}` {
				t.Fatalf("then it asks %q, %v", got, err)
			}
			w.answer("HTTP/1.1 200 OK\r\nContent-Length: 3\r\nContent-Length: 4\r\n\r\n")
			if got := w.out(); !strings.Contains(got, "[hang up]") {
				t.Fatalf("after a malformed answer: %q", got)
			}
			w.c.Connected(w.env, transport.Side, w.now)
			w.out()
			w.wait(3 * time.Second) // nothing comes
			if len(w.said) == 0 || w.said[0] != "dial" {
				t.Fatalf("after its requests it does %v", w.said)
			}
			sum := w.window()
			if sum.Counts.Requests != 2 || sum.Counts.Unheard != 2 || sum.Times[logbook.ToAnswer].Count() != 2 ||
				fmt.Sprint(sum.Checks) != "[{0 0} {1 0} {1 0} {0 1} {0 1}]" {
				t.Errorf("%+v, checks %v", sum.Counts, sum.Checks)
			}
		})
	}
}

// TestLargeAnswer: what never ends is given up, not kept.
func TestLargeAnswer(t *testing.T) {
	w := web{newBench(t, scriptOf("  request \"r\" { path = \"/\" }\n  connect {}"), cutters["whole"])}
	w.c.Start(w.env, w.now)
	w.c.Connected(w.env, transport.Side, w.now)
	w.out()
	w.c.Data(w.env, transport.Side, []byte("HTTP/1.1 200 OK\r\n\r\n"), mono.At(w.now), w.now)
	piece := make([]byte, 1<<20)
	for range 9 {
		w.c.Data(w.env, transport.Side, piece, mono.At(w.now), w.now)
	}
	if w.window().Counts.Unheard != 1 || len(w.env.Reasons.All()) != 1 {
		t.Errorf("%v", w.env.Reasons.All())
	}
}

// TestRude: each way of breaking the protocol is one that a Reader refuses; a
// silent client answers nothing; a slow one asks not to be read for; one that
// vanishes sends no close frame, and comes back.
func TestRude(t *testing.T) {
	for _, what := range []string{"unmasked", "reserved bits", "reserved opcode", "bad text", "stray fragment",
		"long control", "wrong length"} {
		b := newBench(t, scriptOf(`
  connect {}
  malformed {
    what   = "`+what+`"
    within = "1s"
  }
  connect {}
`), cutters["whole"])
		b.open()
		b.frames0()
		r := ws.Reader{FromPeer: ws.Client}
		if _, _, err := r.Next(b.sent); err == nil {
			t.Errorf("%s: a Reader takes % x", what, b.sent)
		}
		b.sent = nil
		b.c.Broke(b.env, transport.Main, b.now, errors.New("closed"))
		b.took()
		if b.said[len(b.said)-1] != "dial" {
			t.Errorf("%s: after being closed it does %v", what, b.said)
		}
		if w := b.window(); fmt.Sprint(w.Checks) != "[{0 0} {1 0}]" || w.Counts.Broken != 0 {
			t.Errorf("%s: checks %v, %+v", what, w.Checks, w.Counts)
		}
	}

	b := newBench(t, scriptOf(`
  connect {}
  fall_silent { evicted_within = "10s" }
`), cutters["whole"])
	b.open()
	b.frames0()
	b.server(ws.AppendFrame(nil, ws.OpPing, []byte("there?")))
	b.want("a ping while it is silent")
	b.wait(11 * time.Second)
	if w := b.window(); w.ChecksFailed() != 1 || w.Counts.Pings != 0 {
		t.Errorf("not evicted: %v, %+v", w.Checks, w.Counts)
	}

	b = newBench(t, scriptOf(`
  connect {}
  read_slowly { bytes_per_second = 100 }
  pause { lasts = "1m" }
`), cutters["whole"])
	b.open()
	b.now += 1e9
	b.c.Data(b.env, transport.Main, ws.AppendFrame(nil, ws.OpText, make([]byte, 98)), mono.At(b.now), b.now)
	if !b.env.IO.Lines[transport.Main].Hold || b.c.Next() != b.now.Add(time.Second) {
		t.Errorf("after 100 bytes it reads on at %v, hold %v", b.c.Next(), b.env.IO.Lines[transport.Main].Hold)
	}
	b.env.IO.Clear()
	b.now = b.c.Next()
	b.c.Tick(b.env, b.now)
	if !b.env.IO.Lines[transport.Main].Resume || b.c.Next() <= b.now {
		t.Errorf("a second later: read %v, next %v at %v", b.env.IO.Lines[transport.Main].Resume, b.c.Next(), b.now)
	}

	b = newBench(t, scriptOf(`
  connect {}
  vanish {}
  connect {}
  close {
    code   = 4002
    reason = "relieved"
  }
  connect {}
`), cutters["whole"])
	b.open()
	b.frames0()
	if got := strings.Join(b.said, ", "); got != "dial, dial, hang up" && got != "dial, hang up, dial" {
		t.Errorf("it does %s", got)
	}
}

const markEpochMillis = mark.Epoch / 1000

// markOf is a mark of a message that the ledger knows nothing of.
func markOf(n int) string { return string(mark.Append(nil, mark.Mark{Run: 3, Number: uint64(n)})) }

// frames0 forgets what was said while the client introduced itself.
func (b *bench) frames0() {
	for len(b.sent) > 0 {
		r := ws.Reader{FromPeer: ws.Client}
		ev, n, err := r.Next(b.sent)
		if err != nil || n == 0 || !strings.Contains(string(ev.Payload), `"kind":"name"`) {
			return
		}
		b.sent = b.sent[n:]
	}
}

// TestBarrier: a client that waits at a barrier says so, goes on when it may go on at
// that one, and says so when it has waited for long enough.
func TestBarrier(t *testing.T) {
	b := newBench(t, scriptOf(`
  barrier "one" { within = "5s" }
  barrier "two" { within = "5s" }
  connect {}
`), cutters["whole"])
	notes := func(kinds ...fact.NoteKind) {
		t.Helper()
		var got []fact.NoteKind
		for _, n := range b.env.Notes {
			got = append(got, n.Kind)
		}
		if b.env.Notes = nil; !slices.Equal(got, kinds) {
			t.Fatalf("notes %v, want %v", got, kinds)
		}
	}
	b.c.Start(b.env, b.now)
	notes(fact.WaitsAt)
	if b.c.Go(b.env, b.now, 1); b.env.IO.Asks() {
		t.Error("it goes on because of another barrier")
	}
	b.c.Go(b.env, b.now, 0)
	notes(fact.WaitsAt)
	b.wait(5 * time.Second)
	notes(fact.WaitsNot)
	if b.c.Go(b.env, b.now, 1); len(b.said) != 1 || b.said[0] != "dial" {
		t.Errorf("it said %v", b.said)
	}
	if w := b.window(); w.ChecksHeld() != 1 || w.ChecksFailed() != 1 {
		t.Errorf("checks %v", w.Checks)
	}
}

// TestHistoryWatch gives a late comer histories of many kinds.
func TestHistoryWatch(t *testing.T) {
	source := scriptOf(`
  connect {}
  enter {
    room    = "lock-1"
    history = 3
  }
  pause { lasts = "1m" }
`)
	past := func(seq int) string {
		return fmt.Sprintf(`{"kind":"past","room":"lock-1","seq":%d,"text":"%s"}`, seq, markOf(seq))
	}
	live := func(seq int) string {
		return fmt.Sprintf(`{"kind":"notice","room":"lock-1","seq":%d,"text":"%s"}`, seq, markOf(seq))
	}
	entered := `{"kind":"entered","room":"lock-1"}`
	for name, tc := range map[string]struct {
		heard []string
		wrong string // "": it holds
	}{
		"as promised":           {[]string{past(4), past(5), past(6), entered, live(7), live(8)}, ""},
		"none live yet":         {[]string{past(4), past(5), past(6), entered}, "-"},
		"live before confirmed": {[]string{past(4), past(5), past(6), live(7), entered, live(8)}, ""},
		"a gap in it":           {[]string{past(3), past(5), past(6), entered}, "there is a gap in it"},
		"a gap behind it": {[]string{past(4), past(5), past(6), entered, live(8)},
			"a gap between it and the live"},
		"an overlap":   {[]string{past(4), past(5), past(6), entered, live(6)}, "overlaps"},
		"out of order": {[]string{past(5), past(4), past(6), entered}, "out of order"},
		"one twice":    {[]string{past(5), past(5), past(6), entered}, "came twice"},
		"too many":     {[]string{past(3), past(4), past(5), past(6), entered}, "longer than promised"},
		"none":         {[]string{entered, live(1)}, ""},
	} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t, source, cutters["whole"])
			b.open()
			b.text(`{"kind":"named"}`)
			for _, s := range tc.heard {
				b.text(s)
			}
			w := b.window()
			reasons := fmt.Sprint(b.why)
			switch {
			case tc.wrong == "" && (w.ChecksHeld() != 1 || w.ChecksFailed() != 0), tc.wrong == "-" &&
				w.ChecksHeld()+w.ChecksFailed() != 0,
				len(tc.wrong) > 1 && (w.ChecksFailed() != 1 || !strings.Contains(reasons, tc.wrong)):
				t.Errorf("held %d, failed %d, %s", w.ChecksHeld(), w.ChecksFailed(), reasons)
			}
		})
	}
}

// TestFeed judges readings by key, number and time.
func TestFeed(t *testing.T) {
	b := newBench(t, scriptOf("  connect {}\n  pause { lasts = \"1m\" }")+`
feed "gauges" {
  when  = msg.kind == "reading"
  key   = msg.gauge
  seq   = msg.seq
  time  = msg.at
  fresh = "500ms"
}
`, cutters["whole"])
	b.open()
	b.now += 5e9
	at := func(ago time.Duration) int64 { return b.env.Epoch/1000 + markEpochMillis + int64(b.now.Add(-ago))/1e6 }
	say := func(gauge string, seq int, ago time.Duration) {
		b.text(fmt.Sprintf(`{"kind":"reading","gauge":%q,"seq":%d,"at":%d}`, gauge, seq, at(ago)))
	}
	for i := 1; i <= 5; i++ {
		say("north", i, 10*time.Millisecond)
		say("south", 100+i, 20*time.Millisecond)
	}
	say("north", 8, 0)                           // 6 and 7 are missing
	say("north", 8, 0)                           // twice
	say("south", 103, 0)                         // backward
	say("south", 106, time.Second)               // old
	b.text(`{"kind":"reading","gauge":"north"}`) // without a number, or a time
	w := b.window()
	if c := w.Counts; c.Readings != 15 || c.Gaps != 2 || c.Repeats != 1 || c.Backward != 1 || c.Stale != 1 ||
		w.ChecksFailed() != 5 || w.Times[logbook.FeedAge].Count() != 14 {
		t.Errorf("%+v, %d failed, %d ages; %v", c, w.ChecksFailed(), w.Times[logbook.FeedAge].Count(), b.why)
	}
	if q := w.Times[logbook.FeedAge].Quantile(0.5); q > 20*time.Millisecond ||
		w.Times[logbook.FeedAge].Max() < 990*time.Millisecond {
		t.Errorf("ages: median %v, longest %v", q, w.Times[logbook.FeedAge].Max())
	}
}

// TestManyFeedKeys: a feed of hundreds of keys is followed in each of them; what
// cannot be a number of it is none.
func TestManyFeedKeys(t *testing.T) {
	b := newBench(t, scriptOf(`
  connect {}
  expect "the end" {
    when   = msg.kind == "end"
    within = "1m"
  }`)+`
feed "gauges" {
  when = msg.kind == "gauge"
  key  = msg.key
  seq  = msg.seq
}`, cutters["whole"])
	b.open()
	for key := range 300 {
		b.text(fmt.Sprintf(`{"kind":"gauge","key":%d,"seq":7}`, key))
	}
	for _, key := range []int{0, 299} {
		b.text(fmt.Sprintf(`{"kind":"gauge","key":%d,"seq":9}`, key))
	}
	for _, seq := range []string{"1e300", "-1e300", "2.5", `"9"`, "null"} {
		b.text(`{"kind":"gauge","key":5,"seq":` + seq + `}`)
	}
	w := b.window()
	if c := w.Counts; c.Gaps != 2 || c.Readings != 307 || w.ChecksFailed() != 7 {
		t.Errorf("%d gaps in %d readings, %d failed", c.Gaps, c.Readings, w.ChecksFailed())
	}
}

// TestNotTwice: a POST whose kept connection was closed is not sent again; a GET
// is.
func TestNotTwice(t *testing.T) {
	for method, again := range map[string]bool{"POST": false, "GET": true} {
		w := web{newBench(t, scriptOf(`
  request "first" { path = "/a" }
  request "second" {
    path   = "/b"
    method = "`+method+`"
  }
  connect {}`), cutters["whole"])}
		w.c.Start(w.env, w.now)
		w.took()
		w.c.Connected(w.env, transport.Side, w.now)
		w.took()
		w.answer("HTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n")
		if out := w.out(); !strings.HasPrefix(out, method+" /b") {
			t.Fatalf("then it sends %q", out)
		}
		w.c.Broke(w.env, transport.Side, w.now, errors.New("closed"))
		if out := w.out(); strings.Contains(out, "[dial]") != again {
			t.Errorf("%s: the client wants %q", method, out)
		}
		if failed := w.window().Counts.Unheard == 1; failed == again {
			t.Errorf("%s: unanswered %v", method, failed)
		}
	}
}

// TestEvictedSlowReader: a slow reader that the server throws out has not been
// wronged.
func TestEvictedSlowReader(t *testing.T) {
	b := newBench(t, scriptOf("  connect {}\n  read_slowly {\n    bytes_per_second = 10\n    evicted_within = "+
		"\"5s\"\n  }"), cutters["whole"])
	b.open()
	b.c.Broke(b.env, transport.Main, b.now, errors.New("too slow"))
	b.took()
	w := b.window()
	if c := w.Counts; c.Evicted != 1 || c.Broken != 0 || c.Finished != 1 || w.ChecksHeld() != 1 ||
		w.ChecksFailed() != 0 {
		t.Errorf("%+v, checks %d and %d", c, w.ChecksHeld(), w.ChecksFailed())
	}
}

// TestPieces: what a large message costs grows with its size, not with its
// square, however small the pieces are in which it comes.
func TestPieces(t *testing.T) {
	takes := func(size int) time.Duration {
		best := time.Hour
		for range 3 {
			b := newBench(t, scriptOf("  connect {}\n  expect \"x\" { when = msg.kind == \"x\" }"), cutters["whole"])
			b.open()
			frame := append(binary.BigEndian.AppendUint64([]byte{0x82, 127}, uint64(size)), make([]byte, size)...)
			best = min(best, cost.Of(func() {
				for len(frame) > 0 {
					n := min(1448, len(frame))
					b.c.Data(b.env, transport.Main, frame[:n], mono.At(b.now), b.now)
					frame = frame[n:]
				}
			}))
			if b.window().Counts.Arrivals != 1 {
				t.Fatal("the message has not come")
			}
		}
		return best
	}
	if small, large := takes(1<<20), takes(15<<20); large > 90*small {
		t.Errorf("15 MiB cost %v, 1 MiB %v: %.0f times as much", large, small, float64(large)/float64(small))
	}
}

// TestUnended: what a server sends that does not end, or whose length is none, ends the
// connection and says why; what was held of it is let go.
func TestUnended(t *testing.T) {
	source := func(ends string) string {
		return strings.Replace(scriptOf(`
  connect {}
  expect "x" {
    when   = contains(text, "x")
    within = "1m"
  }`), `{ websocket = "ws://127.0.0.1:7411/live" }`,
			"{\n  websocket = \"ws://127.0.0.1:7411/live\"\n  dialect = \"d\"\n}\ndialect \"d\" {\n  "+ends+"\n}", 1)
	}
	endless := slices.Repeat([]string{strings.Repeat("a", 64<<10)}, 17)
	for name, tc := range map[string]struct {
		ends   string
		frames []string
		why    string // of the end; "": the message comes
	}{
		"in one-byte frames": {"split = \"--\"\n  across = true", strings.Split("one--two-x--", ""), ""},
		"behind its length":  {"length = 2 + unuint16(text)", []string{"\x00", "\x01", "y\x00", "\x02wx"}, ""},
		"without end": {"split = \"--\"\n  across = true", endless,
			"1 MiB came without the end of a message"},
		"of a length of nought": {"length = unbyte(text)", []string{"\x00"}, "a message would have 0 bytes"},
		"of a negative length":  {"length = 0 - unbyte(text)", []string{"\x07"}, "a message would have -7 bytes"},
		"of too long a one": {"length = unuint32(text)", []string{"\xff\xff\xff\xff"},
			"would have 4294967295 bytes"},
		"of no whole one":        {"length = unbyte(text) / 2", []string{"\x07"}, "a message would have 3.5 bytes"},
		"half, and then no more": {"length = 5", []string{"x12"}, "not ended: 'x12'"},
	} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t, source(tc.ends), cutters["whole"])
			b.open()
			for _, f := range tc.frames {
				b.server(ws.AppendFrame(nil, ws.OpBinary, []byte(f)))
			}
			b.c.Broke(b.env, transport.Main, b.now, errors.New("over"))
			b.took()
			counts, said := b.window().Counts, fmt.Sprint(b.why)
			half := strings.HasPrefix(tc.why, "not ended")
			if tc.why == "" && counts.Met != 1 || tc.why != "" && counts.Met != 0 ||
				(counts.Malformed == 1) != (tc.why != "" && !half) || !strings.Contains(said, tc.why) {
				t.Errorf("%+v, %s", counts, said)
			}
			if held := b.env.Unfinished(); held != 0 {
				t.Errorf("%d bytes are still held", held)
			}
		})
	}
}

// TestMustNotCome: what must not come, and comes, fails the check and is told as an event.
func TestMustNotCome(t *testing.T) {
	b := newBench(t, scriptOf(`
  connect {}
  expect "alarm" {
    when   = msg.kind == "alarm"
    never  = true
    within = "2s"
  }
  pause { lasts = "1s" }`), cutters["whole"])
	b.open()
	b.text(`{"kind":"named"}`)
	b.text(`{"kind":"alarm"}`)
	w := b.window()
	if w.Counts.Missed != 1 || w.Counts.Met != 0 || w.ChecksFailed() != 1 ||
		b.why["missed: alarm: it must not come"] != 1 {
		t.Errorf("%+v, %d checks failed; %v", w.Counts, w.ChecksFailed(), b.why)
	}
}

// TestDecoded: the mark of a message that is encoded is found in what the dialect decodes of it, and
// counts like any other.
func TestDecoded(t *testing.T) {
	b := newBench(t, strings.Replace(scriptOf("  connect {}\n  pause { lasts = \"5s\" }"),
		`target "board" { websocket `+
			`= "ws://127.0.0.1:7411/live" }`, `target "board" {
  websocket = "ws://127.0.0.1:7411/live"
  dialect   = "coded"
}
dialect "coded" {
  heard {
    when    = msg.kind == "notice"
    decoded = unbase64(msg.text)
  }
}`, 1), cutters["whole"])
	b.open()
	coded := base64.StdEncoding.EncodeToString([]byte("gate " + markOf(4) + " and " + markOf(5)))
	b.text(`{"kind":"notice","text":"` + coded + `"}`)
	b.text(`{"kind":"other","text":"` + base64.StdEncoding.EncodeToString([]byte("nothing")) + `"}`)
	if w := b.window(); w.Foreign != 2 || w.Counts.Marked != 2 || w.Counts.Arrivals != 2 {
		t.Errorf("%d of other runs, %+v", w.Foreign, w.Counts)
	}
}
