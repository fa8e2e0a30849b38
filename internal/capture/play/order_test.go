package play

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"regexp"
	"strings"
	"testing"
	"time"

	"tidepull/internal/capture/probe"
	"tidepull/internal/capture/recording"
	"tidepull/internal/capture/relay"
	"tidepull/internal/capture/replay"
	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
	"tidepull/internal/wire/http1"
	"tidepull/internal/wire/ws"
)

// recorded gives the plan of what clients do with a server, through the relay.
func recorded(t *testing.T, to string, clients func(addr string)) *replay.Plan {
	t.Helper()
	rec := &recording.Recording{Version: 1, Made: time.Now().Format(time.RFC3339), Target: to}
	r, err := relay.Start(relay.Options{Listen: "127.0.0.1:0", To: to}, func(e recording.Entry) error {
		rec.Entries = append(rec.Entries, e)
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	clients(r.Addr.String())
	if err := r.Stop(); err != nil {
		t.Fatal(err)
	}
	plan, err := replay.Make(rec, replay.Options{})
	if err != nil {
		t.Fatal(err)
	}
	return plan
}

// A pilot is a client of the board's for a recording.
type pilot struct {
	t    *testing.T
	line *probe.Line
	came chan string
}

func newPilot(t *testing.T, addr, name string) *pilot {
	p := &pilot{t: t, came: make(chan string, 4096)}
	p.line = probe.Dial(1, probe.Target{URL: "ws://" + addr + "/live"}, func(e probe.Event) {
		if e.What == probe.Opened || e.Message != nil && e.What == probe.In {
			p.came <- string(e.Message)
		}
	})
	p.until("")
	p.say(`{"kind":"name","name":"` + name + `"}`)
	p.until(`"named"`)
	p.say(`{"kind":"enter","room":"lock-3"}`)
	p.until(`"entered"`)
	return p
}

func (p *pilot) say(text string) { p.line.Send([]byte(text), false) }

func (p *pilot) until(part string) {
	p.t.Helper()
	for end := time.After(10 * time.Second); ; {
		select {
		case text := <-p.came:
			if strings.Contains(text, part) {
				return
			}
		case <-end:
			p.t.Fatalf("%s did not come", part)
		}
	}
}

// TestOrderAmongClients: ten clients speak in turn, each after it has heard the one before.
// Played without the pauses they do so again, and what a server loses is all that differs,
// though each loss holds up the others.
func TestOrderAmongClients(t *testing.T) {
	t.Parallel()
	const pilots, rounds = 10, 3
	plan := recorded(t, serve(t, standin.Config{History: -1}).URL(), func(addr string) {
		var all []*pilot
		for i := range pilots {
			all = append(all, newPilot(t, addr, fmt.Sprintf("pilot-%c", 'a'+i)))
		}
		for n := range pilots * rounds {
			text := fmt.Sprintf("turn %c%c of the tide", 'a'+n/10, 'a'+n%10)
			all[n%pilots].say(`{"kind":"notice","room":"lock-3","text":"` + text + `"}`)
			for _, p := range all {
				p.until(text)
			}
		}
		for _, p := range all {
			p.line.Close(1000, "")
			<-p.line.Done()
		}
	})
	for _, lose := range []float64{0, 0.03} {
		s := serve(t, standin.Config{History: -1, Switches: board.Switches{Seed: 2, Lose: lose}})
		r, err := Run(context.Background(), plan, Options{To: s.URL(), Within: 300 * time.Millisecond,
			Ignore: []*regexp.Regexp{regexp.MustCompile("presence")}}) // which the board sends by the clock
		if err != nil {
			t.Fatal(err)
		}
		var lost struct{ Totals struct{ Lost, Notices int } }
		var texts []string
		get(t, "http://"+s.Addr.String()+"/truth", func(b io.Reader) error { return json.NewDecoder(b).Decode(&lost) })
		get(t, "http://"+s.Addr.String()+"/truth/messages", func(b io.Reader) error {
			for d := json.NewDecoder(b); d.More(); {
				var m struct{ Text string }
				if err := d.Decode(&m); err != nil {
					return err
				}
				texts = append(texts, m.Text)
			}
			return nil
		})
		missing := 0
		for _, g := range r.Groups {
			if g.Counts && g.Kind == replay.Missing {
				missing += g.Times
			} else if g.Counts {
				t.Errorf("%v are lost, and %d x %s %s", lose, g.Times, g.Kind, g.What)
			}
		}
		if missing != lost.Totals.Lost || (missing > 0) != (lose > 0) || lost.Totals.Notices != pilots*rounds {
			t.Errorf("%d are missing, %+v", missing, lost)
		}
		for n, text := range texts {
			if want := fmt.Sprintf("turn %c%c of the tide", 'a'+n/10, 'a'+n%10); text != "" && text != want {
				t.Errorf("notice %d is %q", n, text)
			}
		}
	}
}

// TestSameInstant: clients that did and heard things at one instant of the recording do not
// wait for each other for ever.
func TestSameInstant(t *testing.T) {
	t.Parallel()
	s := serve(t, standin.Config{History: -1})
	rec := &recording.Recording{Version: 1, Made: time.Now().Format(time.RFC3339), Target: s.URL()}
	up := []http1.Field{{Name: "Upgrade", Value: "websocket"}, {Name: "Connection", Value: "Upgrade"}}
	for conn := 1; conn <= 3; conn++ {
		name := fmt.Sprintf("pilot-%c", 'a'+conn)
		for _, e := range []recording.Entry{
			{What: recording.Head, From: recording.Client, Start: "GET /live", Fields: up},
			{What: recording.Head, From: recording.Server, Start: "101 Switching Protocols", Fields: up},
			{What: recording.Message, From: recording.Server, Kind: "text", Text: `{"kind":"welcome","board":"x"}`},
			{What: recording.Message, From: recording.Client, Kind: "text", Text: `{"kind":"name","name":"` + name +
				`"}`},
			{What: recording.Message, From: recording.Server, Kind: "text", Text: `{"kind":"named","name":"` + name +
				`"}`},
			{What: recording.Close, From: recording.Client, Code: 1000},
		} {
			e.At, e.Conn = 1000, conn
			rec.Entries = append(rec.Entries, e)
		}
	}
	plan, err := replay.Make(rec, replay.Options{})
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	if r, err := Run(ctx, plan, Options{To: s.URL(), Copies: 4, Speed: 1}); err != nil || !r.Same || r.Came < 4*6 {
		t.Errorf("%+v, %v", r, err)
	}
}

func get(t *testing.T, url string, read func(io.Reader) error) {
	t.Helper()
	resp, err := http.Get(url)
	if err == nil {
		defer resp.Body.Close()
		err = read(resp.Body)
	}
	if err != nil {
		t.Fatal(err)
	}
}

// TestOnce: what a client makes up stays the same wherever it says it.
func TestOnce(t *testing.T) {
	t.Parallel()
	const ref = "0b0d8a3e-5a07-4c5c-9e61-3f2f5bd0a111"
	var said []string
	s := echo(t, func(text string) {
		if _, after, ok := strings.Cut(text, `"ref":"`); ok {
			said = append(said, after[:len(ref)])
		}
	})
	plan := recorded(t, "ws://"+s, func(addr string) {
		p := &pilot{t: t, came: make(chan string, 4096)}
		p.line = probe.Dial(1, probe.Target{URL: "ws://" + addr + "/"}, func(e probe.Event) {
			if e.What == probe.Opened || e.Message != nil && e.What == probe.In {
				p.came <- string(e.Message)
			}
		})
		p.until("")
		for range 3 {
			p.say(`{"kind":"hold","ref":"` + ref + `"}`)
			p.until(ref)
		}
		p.line.Close(1000, "")
		<-p.line.Done()
	})
	said = nil
	if _, err := Run(context.Background(), plan, Options{To: "ws://" + s, Speed: 10}); err != nil {
		t.Fatal(err)
	}
	if len(said) != 3 || said[0] == ref || said[0] != said[1] || said[1] != said[2] {
		t.Errorf("it says %q", said)
	}
}

// echo is a WebSocket server that says back what it hears.
func echo(t *testing.T, heard func(string)) (addr string) {
	t.Helper()
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		conn, key := hijack(w, r)
		defer conn.Close()
		fmt.Fprintf(conn, "HTTP/1.1 101 Switching Protocols\r\nUpgrade: websocket\r\nConnection: Upgrade\r\n"+
			"Sec-WebSocket-Accept: %s\r\n\r\n", key)
		for {
			op, text, err := readFrame(conn)
			if err != nil || op == 8 {
				conn.Write([]byte{0x88, 2, 3, 0xe8})
				return
			}
			heard(string(text))
			conn.Write(append([]byte{0x81, byte(len(text))}, text...))
		}
	}))
	t.Cleanup(s.Close)
	return s.Listener.Addr().String()
}

// TestBytes records a client that speaks over TCP with a length in front of each message, and plays it: against the
// same server, one with another answer, and one that says nothing. With three bytes in front, where messages end
// cannot be seen, and they are compared as the pieces in which they came.
func TestBytes(t *testing.T) {
	t.Parallel()
	for head, speech := range map[int]replay.Speech{2: replay.Messages, 3: replay.Bytes} {
		t.Run(string(speech), func(t *testing.T) { testBytes(t, head, speech) })
	}
}

func testBytes(t *testing.T, headSize int, speech replay.Speech) {
	withHead := func(text string) []byte {
		head := append([]byte{0xa7}, binary.BigEndian.AppendUint16(nil, uint16(len(text)))...)
		return append(head[3-headSize:], text...)
	}
	speak := func(answer string) string {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { l.Close() })
		go func() {
			for {
				conn, err := l.Accept()
				if err != nil {
					return
				}
				go func() {
					defer conn.Close()
					head := make([]byte, headSize)
					for {
						if _, err := io.ReadFull(conn, head); err != nil {
							return
						}
						text := make([]byte, binary.BigEndian.Uint16(head[headSize-2:]))
						if _, err := io.ReadFull(conn, text); err != nil {
							return
						}
						// Where it is cut says nothing.
						for _, b := range withHead(strings.ReplaceAll(answer, "IT", string(text))) {
							if answer != "" {
								conn.Write([]byte{b})
							}
						}
					}
				}()
			}
		}()
		return "tcp://" + l.Addr().String()
	}
	const answer = "the gate says IT"
	plan := recorded(t, speak(answer), func(addr string) {
		conn, err := net.Dial("tcp", addr)
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		for _, text := range []string{"open", "a bit wider", "close"} {
			conn.Write(withHead(text))
			said := make([]byte, headSize+len(answer)-2+len(text))
			if _, err := io.ReadFull(conn, said); err != nil {
				t.Fatal(err)
			}
		}
	})
	if len(plan.Actors) != 1 || plan.Actors[0].Speech != speech {
		t.Fatalf("%+v", plan.Actors[0])
	}
	for _, tc := range []struct {
		answer string
		copies int
		kind   string
	}{{answer, 1, ""}, {answer, 5, ""}, {"the gate said IT", 1, replay.Otherwise}, {"", 1, replay.Missing}} {
		r, err := Run(context.Background(), plan, Options{To: speak(tc.answer), Copies: tc.copies, Speed: 10,
			Within: 300 * time.Millisecond})
		if err != nil || !r.Compared || r.Same != (tc.kind == "") || !r.Same && r.Groups[0].Kind != tc.kind {
			t.Errorf("%q: %+v, %v", tc.answer, r, err)
		}
	}
}

// TestLongPoll: a request that is answered only when the client has said something else is
// under way while that is said.
func TestLongPoll(t *testing.T) {
	t.Parallel()
	serve := func(answer string) string {
		said := make(chan string, 10)
		s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.Method == http.MethodPost {
				b, _ := io.ReadAll(r.Body)
				said <- string(b)
				return
			}
			select {
			case text := <-said:
				fmt.Fprintf(w, `{%q:%q}`, answer, text)
			case <-time.After(3 * time.Second):
				w.WriteHeader(http.StatusNoContent)
			}
		}))
		t.Cleanup(s.Close)
		return "http://" + s.Listener.Addr().String()
	}
	plan := recorded(t, serve("text"), func(addr string) {
		polled := make(chan error, 1)
		go func() {
			resp, err := http.Get("http://" + addr + "/poll")
			if err == nil {
				io.Copy(io.Discard, resp.Body)
				resp.Body.Close()
			}
			polled <- err
		}()
		time.Sleep(100 * time.Millisecond)
		resp, err := http.Post("http://"+addr+"/say", "text/plain", strings.NewReader("low water"))
		if err == nil {
			resp.Body.Close()
			err = <-polled
		}
		if err != nil {
			t.Fatal(err)
		}
	})
	for answer, same := range map[string]bool{"text": true, "words": false} {
		r, err := Run(context.Background(), plan, Options{To: serve(answer), Within: time.Second})
		if err != nil || r.Same != same || r.Came != 2 || r.Took > 2*time.Second {
			t.Errorf("%s: %+v, %v", answer, r, err)
		}
	}
}

// hijack takes over the connection of a handshake, and gives what agrees to it.
func hijack(w http.ResponseWriter, r *http.Request) (conn net.Conn, accept string) {
	conn, _, err := w.(http.Hijacker).Hijack()
	if err != nil {
		panic(err) // httptest's connections can be
	}
	return conn, ws.AcceptFor(r.Header.Get("Sec-WebSocket-Key"))
}

// readFrame reads a short masked frame.
func readFrame(r io.Reader) (op byte, text []byte, err error) {
	var head [6]byte
	if _, err = io.ReadFull(r, head[:]); err != nil {
		return 0, nil, err
	}
	text = make([]byte, head[1]&0x7f)
	_, err = io.ReadFull(r, text)
	for i := range text {
		text[i] ^= head[2+i%4]
	}
	return head[0] & 0xf, text, err
}
