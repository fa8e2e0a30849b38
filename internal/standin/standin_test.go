package standin

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"runtime"
	"strings"
	"testing"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/engine/machine"
	"tidepull/internal/engine/poll"
	"tidepull/internal/standin/board"
	"tidepull/internal/wire"
	"tidepull/internal/wire/http1"
	"tidepull/internal/wire/ws"
)

// A visitor is one hand-driven client over a plain socket.
type visitor struct {
	t    *testing.T
	conn net.Conn
	r    ws.Reader
	held []byte
	deaf bool // does not answer pings
}

func start(t *testing.T, cfg Config) *Server {
	t.Helper()
	s, err := Start(cfg)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := s.Stop(); err != nil {
			t.Error(err)
		}
	})
	return s
}

func callOn(t *testing.T, s *Server, name string) *visitor {
	t.Helper()
	conn, err := net.Dial("tcp", s.Addr.String())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close() })
	v := &visitor{t: t, conn: conn}
	conn.Write(ws.AppendRequest(nil, s.Addr.String(), "/live", ws.KeyFor([16]byte{})))
	for {
		h, n, err := http1.ConsumeResponse(v.held)
		if err != nil {
			t.Fatal(err)
		}
		if n > 0 {
			if err := ws.CheckResponse(&h, ws.KeyFor([16]byte{}), ws.Offer{}); err != nil {
				t.Fatal(err)
			}
			v.held = v.held[n:]
			break
		}
		if err := v.read(time.Now().Add(5 * time.Second)); err != nil {
			t.Fatal(err)
		}
	}
	v.want(`"kind":"welcome"`)
	if name != "" {
		v.say(`{"kind":"name","name":"` + name + `"}`)
		v.want(`"kind":"named"`)
	}
	return v
}

func (v *visitor) read(deadline time.Time) error {
	var b [4096]byte
	v.conn.SetReadDeadline(deadline)
	n, err := v.conn.Read(b[:])
	v.held = append(v.held, b[:n]...)
	return err
}

func (v *visitor) say(text string) {
	v.conn.Write(ws.AppendMasked(nil, ws.OpText, []byte(text), [4]byte{1, 2, 3, 4}))
}

// next returns the next message, or "close CODE", or "" after the time.
func (v *visitor) next(within time.Duration) string {
	v.t.Helper()
	deadline := time.Now().Add(within)
	for {
		ev, n, err := v.r.Next(v.held)
		if err != nil {
			v.t.Fatal(err)
		}
		v.held = v.held[n:]
		switch {
		case ev.Op == ws.OpText:
			return string(ev.Payload)
		case ev.Op == ws.OpClose:
			return fmt.Sprintf("close %d", ev.Code)
		case ev.Op == ws.OpPing && !v.deaf:
			v.conn.Write(ws.AppendMasked(nil, ws.OpPong, ev.Payload, [4]byte{}))
		case n == 0:
			if err := v.read(deadline); err != nil {
				if err == io.EOF {
					return "gone"
				}
				return ""
			}
		}
	}
}

// want reads until a message that holds the text.
func (v *visitor) want(text string) string {
	v.t.Helper()
	for end := time.Now().Add(10 * time.Second); ; {
		got := v.next(time.Until(end))
		if got == "" || got == "gone" {
			v.t.Fatalf("%q did not come: %q", text, got)
		}
		if strings.Contains(got, text) {
			return got
		}
	}
}

func truth(t *testing.T, s *Server) (sum board.Summary) {
	t.Helper()
	r, err := http.Get("http://" + s.Addr.String() + "/truth")
	if err != nil {
		t.Fatal(err)
	}
	defer r.Body.Close()
	if err := json.NewDecoder(r.Body).Decode(&sum); err != nil {
		t.Fatal(err)
	}
	return sum
}

// TestHarbourBoard walks through what the board does for its members.
func TestHarbourBoard(t *testing.T) {
	for _, portable := range []bool{false, true} {
		s := start(t, Config{Presence: 20 * time.Millisecond, History: 3, Portable: portable})
		early := callOn(t, s, "")
		early.say(`{"kind":"enter","room":"lock-1"}`)
		early.want(`{"kind":"refused","what":"enter","why":"say your name first"}`)
		early.say(`not JSON`)
		early.want(`"why":"no valid JSON at byte 0"`)

		a, b := callOn(t, s, "keeper"), callOn(t, s, "pilot")
		callOn(t, s, "").say(`{"kind":"name","name":"pilot"}`)
		a.say(`{"kind":"enter","room":"lock \"1\""}`)
		a.want(`{"kind":"entered","room":"lock \"1\"","members":1,"seq":0}`)
		for i := range 5 {
			a.say(fmt.Sprintf(`{"kind":"notice","room":"lock \"1\"","text":"gauge %d \u00fc\n"}`, i))
			// byte for byte
			a.want(fmt.Sprintf(`{"kind":"notice","room":"lock \"1\"","from":"keeper","seq":%d,"text":"gauge %d \`+
				`u00fc\n"}`, i+1, i))
		}
		b.say(`{"kind":"enter","room":"lock \"1\""}`)
		for i := 2; i < 5; i++ { // the last three, in order, before the confirmation
			if got := b.next(5 * time.Second); !strings.HasPrefix(got, `{"kind":"past"`) ||
				!strings.Contains(got, fmt.Sprintf(`"seq":%d,`, i+1)) {
				t.Fatalf("history: %s", got)
			}
		}
		b.want(`{"kind":"entered","room":"lock \"1\"","members":2,"seq":5}`)
		a.want(`{"kind":"presence","room":"lock \"1\"","members":2}`)
		b.say(`{"kind":"whisper","to":"keeper","text":"berth 4"}`)
		a.want(`{"kind":"whisper","from":"pilot","text":"berth 4"}`)
		b.say(`{"kind":"whisper","to":"nobody","text":"?"}`)
		b.want(`"why":"nobody has that name"`)
		b.say(`{"kind":"leave","room":"lock \"1\""}`)
		b.want(`{"kind":"left","room":"lock \"1\""}`)
		b.say(`{"kind":"notice","room":"lock \"1\"","text":"from outside"}`)
		b.want(`"why":"you are not in that room"`)
		a.want(`"members":1}`)
		a.conn.Close() // vanishes
		for end := time.Now().Add(5 * time.Second); truth(t, s).Rooms[`lock "1"`] != 0; {
			if time.Now().After(end) {
				t.Fatal("a member who vanished is still listed")
			}
		}
		got := truth(t, s).Totals
		if got.Notices != 5 || got.Whispers != 1 || got.Written != 6 || got.Past != 3 || got.Refused != 5 {
			t.Errorf("totals %+v", got)
		}
	}
}

func TestSwitchesOverHTTP(t *testing.T) {
	s := start(t, Config{})
	for query, want := range map[string]int{"lose=0.5&hold=20ms": 200, "lose=2": 400, "loose=0.1": 400,
		"hold=soon": 400} {
		r, err := http.Post("http://"+s.Addr.String()+"/switches?"+query, "", nil)
		if err != nil {
			t.Fatal(err)
		}
		r.Body.Close()
		if r.StatusCode != want {
			t.Errorf("%s: %d, want %d", query, r.StatusCode, want)
		}
	}
	r, err := http.Get("http://" + s.Addr.String() + "/switches")
	if err != nil {
		t.Fatal(err)
	}
	defer r.Body.Close()
	var got board.Switches
	if err := json.NewDecoder(r.Body).Decode(&got); err != nil ||
		got != (board.Switches{Lose: 0.5, Hold: 20 * time.Millisecond}) {
		t.Errorf("%+v, %v", got, err)
	}
	if r, err := http.Get("http://" + s.Addr.String() + "/nowhere"); err != nil || r.StatusCode != 404 {
		t.Errorf("%v, %v", r, err)
	}
}

// TestEviction: who answers pings stays, who does not is closed in time.
func TestEviction(t *testing.T) {
	s := start(t, Config{PingEvery: 200 * time.Millisecond, PongWithin: 500 * time.Millisecond})
	began := time.Now()
	alive, dead := callOn(t, s, "alive"), callOn(t, s, "dead")
	dead.deaf = true
	go func() {
		for alive.next(6*time.Second) != "" {
		}
	}()
	if got := dead.next(10 * time.Second); got != "close 1008" {
		t.Fatalf("the silent one got %q", got)
	}
	if took := time.Since(began); took < 600*time.Millisecond {
		t.Errorf("evicted after %v, before the deadline", took)
	}
	if got := truth(t, s).Totals; got.Evicted != 1 || got.Here != 1 {
		t.Errorf("%+v", got)
	}
}

// TestSlowClientHurtsNobody: one member does not read at all; the others get
// everything, and the slow one is dropped once its queue is full.
func TestSlowClientHurtsNobody(t *testing.T) {
	s := start(t, Config{MaxQueue: 200_000})
	slow, fast, speaker := callOn(t, s, "slow"), callOn(t, s, "fast"), callOn(t, s, "speaker")
	for _, v := range []*visitor{slow, fast, speaker} {
		v.say(`{"kind":"enter","room":"quay"}`)
		v.want(`"kind":"entered"`)
	}
	text := strings.Repeat("x", 100_000)
	const n = 100 // 10 MB, more than any socket buffer takes
	for i := range n {
		speaker.say(`{"kind":"notice","room":"quay","text":"` + text + `"}`)
		fast.want(fmt.Sprintf(`"seq":%d,`, i+1))
		speaker.want(`"kind":"notice"`)
	}
	if got := truth(t, s).Totals; got.Overrun != 1 || got.Here != 2 {
		t.Errorf("%+v", got)
	}
}

// A crowd is a poll.Handler that opens many connections and does nothing else.
type crowd struct {
	d                      poll.Driver
	opened, gone, answered int
}

func (c *crowd) Accepted(int32) {}
func (c *crowd) Opened(id int32) {
	c.opened++
	c.d.Write(id, ws.AppendRequest(nil, "x", "/live", ws.KeyFor([16]byte{})))
}
func (c *crowd) Data(int32, []byte, mono.Span) { c.answered++ }
func (c *crowd) Broke(int32, error)            { c.gone++ }

// TestManyClients: one stand-in holds as many clients as half the process's
// files allow, the other half being this side's.
func TestManyClients(t *testing.T) {
	limit := machine.RaiseFileLimit()
	want := min(9500, (limit-200)/2)
	s := start(t, Config{Records: -1})
	d, err := poll.New()
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	c := &crowd{d: d}
	at := netip.MustParseAddrPort(s.Addr.String())
	for id := range want {
		if err := d.Dial(int32(id), wire.Endpoint{Addr: at}); err != nil {
			t.Fatal(err)
		}
		for c.answered < id-500 { // more at once may have to wait for longer than the stand-in does
			if err := d.Wait(d.Now().Add(time.Second), c); err != nil {
				t.Fatal(err)
			}
		}
	}
	for end := time.Now().Add(30 * time.Second); truth(t, s).Totals.Here < int64(want); {
		if err := d.Wait(d.Now().Add(10*time.Millisecond), c); err != nil {
			t.Fatal(err)
		}
		if time.Now().After(end) {
			t.Fatalf("%d of %d are connected, %d gone", truth(t, s).Totals.Here, want, c.gone)
		}
	}
}

// TestPingsUnread: a client that pings on and on and never reads costs the server next to nothing.
func TestPingsUnread(t *testing.T) {
	s := start(t, Config{})
	v := callOn(t, s, "")
	pings := bytes.Repeat(ws.AppendMasked(nil, ws.OpPing, make([]byte, 125), [4]byte{1, 2, 3, 4}), 1000)
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	for range 600 { // 75 MB of pongs
		if _, err := v.conn.Write(pings); err != nil {
			t.Fatal(err)
		}
	}
	runtime.GC()
	if runtime.ReadMemStats(&after); after.HeapAlloc > before.HeapAlloc+16<<20 {
		t.Errorf("%d MB more are in use", (after.HeapAlloc-before.HeapAlloc)>>20)
	}
}
