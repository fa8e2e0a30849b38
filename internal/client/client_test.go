package client_test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/client"
	"tidepull/internal/engine/account"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/mark"
	"tidepull/internal/trial/language"
	"tidepull/internal/wire"
	"tidepull/internal/wire/http1"
	"tidepull/internal/wire/transport"
	"tidepull/internal/wire/ws"
)

const script = `
trial "t" {}
target "board" { websocket = "ws://127.0.0.1:7411/live" }
session "s" {
  connect { within = "2s" }
  expect "greeting" {
    when   = msg.kind == "welcome"
    within = "1s"
  }
  enter { room = "lock-${n}" }
  repeat {
    every = "1s"
    times = 2
    say { body = { kind = "notice", room = room, text = "turn ${round} ${mark}" } }
  }
  leave {}
}
crew "c" {
  clients = 1
  session = session.s
  name    = "pilot \"${n}\""
}
tide {
  flood "100%" { over = "1s" }
}
`

// A bench is one client with its surroundings and a scripted server. Time
// moves only when the script says so.
type bench struct {
	t    *testing.T
	env  *client.Env
	c    client.Client
	book *logbook.Book
	acc  *account.Account
	told fact.Batch
	tick int
	why  map[string]int // reasons, as of the last report
	now  mono.Time
	sent []byte // by the client, not looked at yet
	cuts func(left int) int
	said []string // what the client did, in words
}

func newBench(t *testing.T, source string, cuts func(int) int) *bench {
	t.Helper()
	tr, err := language.Parse([]byte(source), "t.trial.hcl", language.Options{})
	if err != nil {
		t.Fatal(err)
	}
	b := &bench{t: t, cuts: cuts, book: logbook.NewBook(0, 1)}
	names := client.NewNames()
	b.env = client.NewEnv(tr, names, b.book)
	b.env.Run, b.env.Shares, b.env.Places = 9, 1, client.At(wire.Endpoint{}, "127.0.0.1:7411", "/live")
	b.c = b.env.New(0, 0, 0)
	for n := 1; n < tr.Crews[0].Clients; n++ {
		b.env.New(int32(n), 0, int32(n))
	}
	b.acc = account.New(account.Config{Trial: tr, Run: 9, Shares: 1, Sharers: names.Sharers})
	return b
}

// tell takes what was told to the account.
func (b *bench) tell() {
	b.env.CaughtUp(b.now, b.now)
	b.told.Log, b.env.Facts = b.env.Facts, b.told.Log
	b.told.UpTo = b.now + 1
	b.acc.Take(0, &b.told)
	if err := b.acc.Work(); err != nil {
		b.t.Fatal(err)
	}
}

// report gives the seconds that are over, and those that are not.
func (b *bench) report(ended bool) (closed, open []*logbook.Entry) {
	b.t.Helper()
	p := &fact.Part{Tick: b.tick, Reasons: b.env.Reasons.All()}
	p.Closed, p.Open = b.book.Take(ended)
	b.tick++
	b.told.Part, b.told.Ended = p, ended
	if ended {
		p.Tick = fact.LastTick
	}
	b.tell()
	b.told.Part = nil
	r, err := b.acc.Report()
	if err != nil {
		b.t.Fatal(err)
	}
	b.why = r.Reasons
	return r.Closed, r.Open
}

// took keeps what the last call asked for.
func (b *bench) took() {
	b.sent = append(b.sent, b.env.IO.Lines[transport.Main].Out...)
	if b.env.IO.Lines[transport.Main].Dial != nil {
		b.said = append(b.said, "dial")
	}
	if b.env.IO.Lines[transport.Main].Hangup {
		b.said = append(b.said, "hang up")
	}
	b.env.IO.Clear()
}

// server gives the client bytes, cut as the bench has it.
func (b *bench) server(data []byte) {
	data = bytes.Clone(data)
	for len(data) > 0 {
		n := min(b.cuts(len(data)), len(data))
		b.c.Data(b.env, transport.Main, data[:n], mono.At(b.now), b.now)
		data = data[n:]
		b.took()
	}
}

func (b *bench) text(s string) { b.server(ws.AppendFrame(nil, ws.OpText, []byte(s))) }

// wait moves the clock and lets timers fire.
func (b *bench) wait(d time.Duration) {
	end := b.now.Add(d)
	for b.c.Next() <= end {
		b.now = max(b.now, b.c.Next())
		b.book.Advance(b.now)
		b.c.Tick(b.env, b.now)
		b.took()
	}
	b.now = end
	b.book.Advance(end)
}

// open dials and agrees on the upgrade.
func (b *bench) open() {
	b.t.Helper()
	b.c.Start(b.env, b.now)
	b.took()
	b.c.Connected(b.env, transport.Main, b.now)
	b.took()
	h, n, err := http1.ConsumeRequest(b.sent)
	if err != nil || n == 0 || ws.CheckRequest(&h) != "" || h.Path != "/live" || h.Get("Host") != "127.0.0.1:7411" {
		b.t.Fatalf("the handshake is %q, %v", b.sent, err)
	}
	b.sent = b.sent[n:]
	b.server(ws.AppendAgreement(nil, h.Get("Sec-WebSocket-Key")))
}

// frames takes what the client sent as frames.
func (b *bench) frames() (texts []string) {
	b.t.Helper()
	r := ws.Reader{FromPeer: ws.Client}
	for {
		ev, n, err := r.Next(b.sent)
		if err != nil {
			b.t.Fatalf("the client's frames: %v", err)
		}
		if n == 0 {
			return texts
		}
		b.sent = b.sent[n:]
		switch ev.Op {
		case ws.OpText:
			texts = append(texts, string(ev.Payload))
		case ws.OpPong:
			texts = append(texts, "pong "+string(ev.Payload))
		case ws.OpClose:
			texts = append(texts, fmt.Sprintf("close %d", ev.Code))
		}
	}
}

func (b *bench) want(what string, want ...string) {
	b.t.Helper()
	got := b.frames()
	for i, text := range got {
		if _, end := mark.Find([]byte(text)); end > 0 {
			got[i] = text[:end-mark.Len] + "MARK" + text[end:]
		}
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		b.t.Fatalf("%s: the client sent\n%s\nwant\n%s", what, strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}

// window sums up everything so far. It takes the pages away.
func (b *bench) window() *logbook.Window {
	closed, _ := b.report(true)
	w, err := logbook.Sum(closed, nil)
	if err != nil {
		b.t.Fatal(err)
	}
	return w
}

var cutters = map[string]func(int) int{
	"whole":        func(left int) int { return left },
	"byte by byte": func(int) int { return 1 },
	"random":       func(int) int { return 1 + rand.IntN(9) },
}

// TestWholeSession plays a session from dialling to the close. Where the
// server's bytes are cut must not matter.
func TestWholeSession(t *testing.T) {
	for name, cuts := range cutters {
		t.Run(name, func(t *testing.T) {
			b := newBench(t, script, cuts)
			b.open()
			b.want("once open", `{"kind":"name","name":"pilot \"0\""}`)
			b.server(ws.AppendFrame(nil, ws.OpPing, []byte("42")))
			b.want("after a ping", "pong 42")
			b.text(`{"kind":"welcome","board":"harbour board"}`)
			b.want("not named yet") // enter waits for the name
			b.text(`{"kind":"named","name":"pilot \"0\""}`)
			b.want("named", `{"kind":"enter","room":"lock-0"}`)
			b.text(`{"kind":"entered","room":"lock-9"}`) // another room's
			b.wait(3 * time.Second)
			b.want("nothing is said before the confirmation")
			b.text(`{"kind":"entered","room":"lock-0","members":1}`)
			b.wait(time.Second)
			b.want("first turn", `{"kind":"notice","room":"lock-0","text":"turn 0 MARK"}`)
			b.wait(time.Second)
			b.want("second turn, the last", `{"kind":"notice","room":"lock-0","text":"turn 1 MARK"}`,
				`{"kind":"leave","room":"lock-0"}`)
			b.text(`{"kind":"left","room":"lock-0"}`)
			b.want("after the session", "close 1000")
			b.server(ws.AppendFrame(nil, ws.OpClose, ws.AppendClosePayload(nil, 1000, "")))
			b.c.Broke(b.env, transport.Main, b.now, nil)
			b.took()
			c := b.window().Counts
			if !b.c.Idle() || c.Finished != 1 || c.Broken != 0 || c.Sent != 2 || c.Met != 1 || c.Entries != 1 ||
				c.Pings != 1 {
				t.Errorf("idle %v, counts %+v", b.c.Idle(), c)
			}
			if strings.Join(b.said, ", ") != "dial" {
				t.Errorf("the client wanted: %v", b.said)
			}
		})
	}
}

// TestArrivals sends the client its own message back, late, twice, and as
// history, and looks into the ledger.
func TestArrivals(t *testing.T) {
	b := newBench(t, script, cutters["random"])
	b.open()
	b.text(`{"kind":"named"}`)
	b.text(`{"kind":"welcome"}`)
	b.text(`{"kind":"entered","room":"lock-0"}`)
	b.frames()
	b.wait(time.Second)
	said := b.frames()
	if len(said) != 1 {
		t.Fatalf("said %q", said)
	}
	m, _ := mark.Find([]byte(said[0]))
	if m.Run != 9 || m.Sender != 0 || m.Number != 0 {
		t.Errorf("mark %+v", m)
	}
	b.now = b.now.Add(20 * time.Millisecond)
	notice := strings.ToUpper(said[0][strings.Index(said[0], "tpmk"):])
	b.text(`{"kind":"notice","text":"` + notice)
	b.text(`{"kind":"past","text":"` + notice)
	b.text(`{"kind":"notice","text":"` + notice)
	b.text(`{"kind":"notice","text":"` + strings.ToLower(string(mark.Append(nil, mark.Mark{Run: 8}))) + `"}`)
	b.text(`{"kind":"no mark"}`)
	// Whoever looks while it goes on sees books that agree, also where something
	// is booked on a second that is long over.
	b.wait(3 * time.Second)
	for range 4 {
		closed, open := b.report(false)
		if w, err := logbook.Sum(append(closed, open...), nil); err != nil || len(closed) > 0 || w.Imbalance() != "" {
			t.Fatalf("under way: %d closed, %v, %s", len(closed), err, w.Imbalance())
		}
		b.text(`{"kind":"notice","text":"` + notice)
	}
	w := b.window()
	got := w.Total
	if got.Owed != 2 || got.Delivered != 1 || got.Duplicate != 6 || got.Past != 0 || w.Foreign != 1 ||
		w.Imbalance() != "" {
		t.Errorf("%+v, foreign %d, %s", got, w.Foreign, w.Imbalance())
	}
	if f := w.Fanout(); f.Count() != 1 || f.Max() < 20*time.Millisecond {
		t.Errorf("latency %v of %d", f.Max(), f.Count())
	}
}

// TestGoingWrong: each way in which a connection or a session fails is counted
// as what it is, and the client ends idle.
func TestGoingWrong(t *testing.T) {
	opened := func(b *bench) { b.open(); b.frames() }
	for name, tc := range map[string]struct {
		do     func(b *bench)
		count  func(logbook.Counts) int64
		reason string
		sent   string
	}{
		"no answer to the dial": {func(b *bench) { b.c.Start(b.env, 0); b.took(); b.wait(3 * time.Second) },
			func(c logbook.Counts) int64 { return c.Refused }, "refused: no agreement in time", ""},
		"refused upgrade": {func(b *bench) {
			b.c.Start(b.env, 0)
			b.c.Connected(b.env, transport.Main, b.now)
			b.took()
			b.sent = nil
			b.server([]byte("HTTP/1.1 403 Forbidden \x1b[31m\r\nContent-Length: 0\r\n\r\n"))
		}, func(c logbook.Counts) int64 { return c.Refused }, "refused: answered 403 Forbidden ␛[31m", ""},
		"not HTTP": {func(b *bench) {
			b.c.Start(b.env, 0)
			b.c.Connected(b.env, transport.Main, b.now)
			b.took()
			b.sent = nil
			b.server([]byte("220 mail.example ESMTP\r\n\r\n"))
		}, func(c logbook.Counts) int64 { return c.Refused }, "refused: the status line is not HTTP/1.x STATUS REASON",
			""},
		"server's close": {func(b *bench) {
			opened(b)
			b.server(ws.AppendFrame(nil, ws.OpClose, ws.AppendClosePayload(nil, 1001, "tide")))
		}, func(c logbook.Counts) int64 { return c.Broken }, "broken: the server closed with code 1001 and said 'tide'",
			"close 1001"},
		"broken protocol": {func(b *bench) { opened(b); b.server([]byte{0xff, 0xff, 0, 0, 0, 0, 0, 0, 0, 0}) },
			func(c logbook.Counts) int64 { return c.Malformed }, "broken: a reserved bit is set and no extension " +
				"was agreed on", "close 1002"},
		"connection lost": {func(b *bench) {
			opened(b)
			b.c.Broke(b.env, transport.Main, b.now, fmt.Errorf("read: connection reset"))
		},
			func(c logbook.Counts) int64 { return c.Broken }, "broken: read: connection reset", ""},
		"no greeting": {func(b *bench) { opened(b); b.text(`{"kind":"named"}`); b.wait(1500 * time.Millisecond) },
			func(c logbook.Counts) int64 { return c.Missed }, "missed: greeting", `{"kind":"enter","room":"lock-0"}`},
		"name refused": {func(b *bench) {
			opened(b)
			b.text(`{"kind":"refused","what":"name","why":"pilot \"0\" ` +
				`is taken"}`)
		},
			func(c logbook.Counts) int64 { return c.Denied }, "denied: its name was refused; the server said '(its " +
				"name) is taken'", "close 1000"},
		"room refused": {func(b *bench) {
			opened(b)
			b.text(`{"kind":"named"}`)
			b.text(`{"kind":"welcome"}`)
			b.frames()
			b.text(`{"kind":"refused","what":"enter"}`)
		}, func(c logbook.Counts) int64 { return c.Denied }, "", "close 1000"},
	} {
		b := newBench(t, script, cutters["byte by byte"])
		tc.do(b)
		if tc.reason != "" && b.env.Reasons.Of(tc.reason) != 1 {
			t.Errorf("%s: reasons %v, want %q", name, b.env.Reasons.All(), tc.reason)
		}
		if sent := strings.Join(b.frames(), " "); sent != tc.sent {
			t.Errorf("%s: sent %q, want %q", name, sent, tc.sent)
		}
		b.wait(20 * time.Second)
		if name != "no greeting" && !b.c.Idle() {
			t.Errorf("%s: the client is not idle", name)
		}
		if got := tc.count(b.window().Counts); got != 1 {
			t.Errorf("%s: counted %d times, want once", name, got)
		}
	}
}

// TestEbb: a client that the tide takes leaves its repeat, says what comes
// after it, and closes.
func TestEbb(t *testing.T) {
	b := newBench(t, strings.Replace(script, "times = 2", "", 1), cutters["whole"])
	b.open()
	b.text(`{"kind":"named"}`)
	b.text(`{"kind":"welcome"}`)
	b.text(`{"kind":"entered","room":"lock-0"}`)
	b.wait(2500 * time.Millisecond)
	b.frames()
	b.c.Ebb(b.env, b.now)
	b.took()
	b.want("ebb", `{"kind":"leave","room":"lock-0"}`)
	b.wait(time.Minute) // the server does not confirm, nor answer the close
	b.want("unanswered", "close 1000")
	if !b.c.Idle() || b.window().Counts.Finished != 1 {
		t.Error("the client has not ended")
	}
}

// TestClosing: between a client's close and the server's answer it is owed
// nothing, and may have what others say: the server hears them in any order.
func TestClosing(t *testing.T) {
	two := strings.NewReplacer("leave {}", "", "clients = 1", "clients = 2").Replace(script)
	b := newBench(t, two, cutters["whole"])
	const other, room, number = 1, 1, 2 // the share's numbers: two messages were said
	b.open()
	b.text(`{"kind":"named"}`)
	b.text(`{"kind":"welcome"}`)
	b.text(`{"kind":"entered","room":"lock-0"}`)
	b.wait(2500 * time.Millisecond)
	if said := b.frames(); len(said) != 5 || said[4] != "close 1000" {
		t.Fatalf("it says %q", said)
	}
	hear := func() {
		b.now = b.now.Add(time.Millisecond)
		b.env.Facts.Add(fact.Fact{Kind: fact.Says, Client: other, Room: room, Number: number, At: b.now, Time: b.now})
		b.now = b.now.Add(time.Millisecond)
		b.text(`{"kind":"notice","text":"` + string(mark.Append(nil,
			mark.Mark{Run: 9, Room: room, Sender: other, Number: number})) + `"}`)
	}
	hear()
	b.server(ws.AppendFrame(nil, ws.OpClose, ws.AppendClosePayload(nil, 1000, "")))
	b.c.Broke(b.env, transport.Main, b.now, nil)
	if l := b.window().Total; l.Allowed != 1 || l.Stray != 0 || l.Owed != 2 || !b.c.Idle() {
		t.Errorf("%+v", l)
	}
}

// TestNoAllocation: receiving a notice, and saying one, allocates nothing.
func TestNoAllocation(t *testing.T) {
	b := newBench(t, strings.NewReplacer("times = 2", "", `every = "1s"`, `every = "10ms"`, `trial "t" {}`,
		"trial \"t\" {\n  prompt = \"100ms\"\n  grace = \"200ms\"\n}").Replace(script),
		cutters["whole"])
	b.open()
	b.text(`{"kind":"named"}`)
	b.text(`{"kind":"welcome"}`)
	b.text(`{"kind":"entered","room":"lock-0"}`)
	var frame []byte
	turn := func() {
		b.now = b.now.Add(time.Millisecond)
		b.c.Data(b.env, transport.Main, frame, mono.At(b.now), b.now)
		b.env.IO.Clear()
		b.tell()
	}
	b.wait(time.Second)
	all := b.frames()
	at := slices.IndexFunc(all, func(said string) bool { return strings.Contains(said, "notice") })
	if at < 0 {
		t.Fatalf("it says no notice: %q", all)
	}
	frame = ws.AppendFrame(nil, ws.OpText, []byte(all[at]))
	for range 10 {
		turn()
	}
	if n := testing.AllocsPerRun(200, turn); n != 0 {
		t.Errorf("%v allocations for a message received", n)
	}
	say := func() {
		b.env.IO.Clear()
		b.now = b.c.Next()
		b.c.Tick(b.env, b.now)
		b.tell()
	}
	for range 5000 { // what is needed is made, and used again; as much is kept of what is lost as may be
		say()
	}
	if n := testing.AllocsPerRun(200, say); n != 0 {
		t.Errorf("%v allocations for a message said", n)
	}
}

func BenchmarkReceive(b *testing.B) {
	t := &testing.T{}
	bn := newBench(t, strings.Replace(script, "times = 2", "", 1), cutters["whole"])
	bn.open()
	bn.text(`{"kind":"named"}`)
	bn.text(`{"kind":"welcome"}`)
	bn.text(`{"kind":"entered","room":"lock-0"}`)
	bn.wait(time.Second)
	said := bn.frames()
	frame := ws.AppendFrame(nil, ws.OpText, []byte(said[len(said)-1]))
	for b.Loop() {
		bn.now += 10_000
		bn.c.Data(bn.env, transport.Main, frame, mono.At(bn.now), bn.now)
		bn.env.IO.Clear()
	}
}

// beating is the script of a server that promises to send heartbeats.
var beating = strings.Replace(script, `target "board" { websocket = "ws://127.0.0.1:7411/live" }`, `target "board" {
  websocket = "ws://127.0.0.1:7411/live"
  promise {
    from     = "server"
    every    = "1s"
    deadline = "30s"
  }
}`, 1)

// openWithBeats is a bench with a client that is connected to such a server, and has its name.
func openWithBeats(t *testing.T, source string) *bench {
	b := newBench(t, source, func(left int) int { return left })
	b.now = mono.Time(time.Second) // the beginning of time stands for never
	b.open()
	b.text(`{"kind":"named","name":"pilot \"0\""}`)
	return b
}

// beats has the server send so many heartbeats, each so long after what was before it.
func (b *bench) beats(n int, after time.Duration) {
	for range n {
		b.wait(after)
		b.server(ws.AppendFrame(nil, ws.OpPing, []byte("42")))
	}
}

// TestBeatsBehind: a heartbeat that comes late behind much else was sent in time, perhaps; behind little it was not,
// and if another one should have come meanwhile, neither.
func TestBeatsBehind(t *testing.T) {
	little := ws.AppendFrame(nil, ws.OpText, []byte(`{"kind":"little"}`))
	much := ws.AppendFrame(nil, ws.OpText, []byte(`{"kind":"notice","text":"`+strings.Repeat("x", 256<<10)+`"}`))
	for name, tc := range map[string]struct {
		before []byte
		late   time.Duration
		want   int64
	}{
		"behind much":            {much, 1400 * time.Millisecond, 0},
		"behind little":          {little, 1400 * time.Millisecond, 1},
		"behind much, and twice": {much, 2400 * time.Millisecond, 1},
	} {
		b := openWithBeats(t, beating)
		b.beats(3, time.Second)
		b.wait(tc.late - 100*time.Millisecond)
		b.server(tc.before)
		b.beats(1, 100*time.Millisecond)
		b.beats(1, time.Second-tc.late%time.Second) // in time again
		b.beats(1, time.Second)
		c := b.window().Counts.Pulse
		if c.Late != tc.want || c.Early > 0 || (c.Missing > 0) != (tc.late > 2*time.Second) {
			t.Errorf("%s: %+v", name, c)
		}
	}
}

// TestBeatsUnread: when a heartbeat came that stood behind what the client had not read is not known; those before and
// after are judged as ever.
func TestBeatsUnread(t *testing.T) {
	from, to := strings.Index(beating, "  expect"), strings.Index(beating, "crew")
	source := beating[:from] + `  pause { lasts = "3500ms" }
  read_slowly { bytes_per_second = 100 }
  pause { lasts = "6s" }
  read_slowly { bytes_per_second = 0 }
  stay {}
}
` + beating[to:]
	for _, lack := range []bool{false, true} {
		b := openWithBeats(t, source)
		b.beats(3, time.Second)
		b.wait(6800 * time.Millisecond) // it reads slowly from 3.5 s on, and reads on at 9.5 s
		b.beats(6, 0)
		b.beats(12, time.Second)
		if lack {
			b.beats(1, 3*time.Second)
		}
		if c := b.window().Counts.Pulse; (c.Missing > 0) != lack || c.Early > 0 {
			t.Errorf("some are missing: %v; %+v", lack, c)
		}
	}
}
