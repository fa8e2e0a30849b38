package play

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"tidepull/internal/capture/probe"
	"tidepull/internal/capture/replay"
	"tidepull/internal/run"
	"tidepull/internal/trial/language"
)

// A harbour is a server that gives every client a token for its log-in, which it can use once, and a number. Its
// messages are records that end in a separator, often two in one message. It tells the others who goes away, and
// ends the connection of who says goodbye, with a code, or without a close frame if that is 0.
type harbour struct {
	code byte // less 4000

	mu     sync.Mutex
	tokens map[string]bool
	there  map[string]net.Conn
}

func (h *harbour) start(t *testing.T) string {
	h.tokens, h.there = map[string]bool{}, map[string]net.Conn{}
	s := httptest.NewServer(h)
	t.Cleanup(s.Close)
	return s.Listener.Addr().String()
}

func tell(c net.Conn, records ...string) {
	text := strings.Join(records, "\x1e") + "\x1e"
	c.Write(append([]byte{0x81, byte(len(text))}, text...))
}

func (h *harbour) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if r.Method == http.MethodPost {
		token := fmt.Sprintf("tk%08x7", rand.Uint32()) // with a digit always, as the id below
		h.tokens[token] = true
		fmt.Fprintf(w, `{"token":%q}`, token)
		return
	}
	if token := r.URL.Query().Get("token"); !h.tokens[token] {
		w.WriteHeader(http.StatusForbidden)
		return
	} else {
		delete(h.tokens, token)
	}
	conn, accept := hijack(w, r)
	fmt.Fprintf(conn, "HTTP/1.1 101 Switching Protocols\r\nUpgrade: websocket\r\nConnection: Upgrade\r\n"+
		"Sec-WebSocket-Accept: %s\r\n\r\n", accept)
	id := fmt.Sprintf("pilot-%08x7", rand.Uint32()) // with a digit always: letters alone may be a word
	h.there[id] = conn
	tell(conn, `{"type":"hello"}`, fmt.Sprintf(`{"type":"you","id":%q}`, id))
	go h.serve(conn, id)
}

func (h *harbour) serve(conn net.Conn, id string) {
	defer conn.Close()
	for {
		op, text, err := readFrame(conn)
		h.mu.Lock()
		var said struct{ Type, Whom string }
		json.Unmarshal([]byte(strings.TrimSuffix(string(text), "\x1e")), &said)
		whom := h.there[said.Whom]
		switch {
		case err != nil || op == 8:
			delete(h.there, id)
			for _, other := range h.there {
				tell(other, `{"type":"left"}`)
			}
		case said.Type == "greet" && whom != nil:
			tell(whom, `{"type":"greeted"}`)
		case said.Type == "greet":
			tell(conn, `{"type":"nobody"}`)
		case said.Type == "bye" && h.code != 0:
			conn.Write([]byte{0x88, 2, 4000 >> 8, 4000&0xff + h.code})
			op = 8
		case said.Type == "bye":
			op = 8
		}
		h.mu.Unlock()
		if err != nil || op == 8 {
			return
		}
	}
}

// TestTakenAlong: two clients log in one after the other, and connect later, each with its own token; one says the
// other's number. One is cut off, of which the other hears, and the server ends the connection of that. All of it
// works again, for any number of clients, and another end is a difference.
func TestTakenAlong(t *testing.T) {
	t.Parallel()
	plan := recorded(t, "ws://"+(&harbour{code: 8}).start(t)+"/live", func(addr string) {
		tokens := []string{logIn(t, addr), logIn(t, addr)}
		first, heardFirst := dial(t, "ws://"+addr+"/live?token="+tokens[0])
		you := next(t, heardFirst)
		second, heardSecond := dial(t, "ws://"+addr+"/live?token="+tokens[1])
		next(t, heardSecond)
		second.Send([]byte(`{"type":"greet","whom":"`+strings.Split(you, `"`)[11]+"\"}\x1e"), false)
		next(t, heardFirst)
		first.Hangup()
		next(t, heardSecond)
		second.Send([]byte("{\"type\":\"bye\"}\x1e"), false)
		<-second.Done()
	})
	for _, tc := range []struct {
		code   byte
		copies int
		same   bool
	}{{8, 1, true}, {8, 7, true}, {9, 1, false}, {0, 1, false}} {
		r, err := Run(context.Background(), plan, Options{To: "ws://" + (&harbour{code: tc.code}).start(t) + "/live",
			Copies: tc.copies, Within: time.Second})
		if err != nil || r.Same != tc.same || r.Expected != tc.copies*9 {
			t.Errorf("%+v: %+v, %v", tc, r, err)
		}
		if !tc.same && (len(r.Groups) != 1 || r.Groups[0].Kind != replay.Otherwise ||
			!strings.Contains(r.Groups[0].Example.Recorded, "4008")) {
			t.Errorf("%+v: %+v", tc, r.Groups)
		}
	}
}

// TestTakenAlongAsTrial: a trial of such a client works for any number of them.
func TestTakenAlongAsTrial(t *testing.T) {
	t.Parallel()
	plan := recorded(t, "ws://"+(&harbour{code: 8}).start(t)+"/live", func(addr string) {
		line, heard := dial(t, "ws://"+addr+"/live?token="+logIn(t, addr))
		id := strings.Split(next(t, heard), `"`)[11]
		line.Send([]byte(`{"type":"greet","whom":"`+id+"\"}\x1e"), false)
		next(t, heard)
		line.Send([]byte("{\"type\":\"bye\"}\x1e"), false)
		<-line.Done()
	})
	text := strings.Replace(plan.Trial("alone", 1), "clients = 1\n", "clients = 20\n", 1)
	for code, failed := range map[byte]int{8: 0, 9: 20} {
		t.Run(fmt.Sprint(code), func(t *testing.T) {
			t.Parallel()
			tr, err := language.Parse([]byte(text), "t", language.Options{Target: "ws://" +
				(&harbour{code: code}).start(t) + "/live"})
			if err != nil {
				t.Fatalf("%v\n%s", err, text)
			}
			r, err := run.Start(context.Background(), run.Options{Trial: tr})
			if err != nil {
				t.Fatal(err)
			}
			sum, checks, bad := run.Summarise(r.Wait()), 0, 0
			for _, c := range sum.Checks {
				checks += int(c.Held + c.Failed)
				bad += int(c.Failed)
			}
			if checks != 80 || bad != failed {
				t.Errorf("%d: %d of %d checks failed, %v: %+v\n%s", code, bad, checks, sum.Reasons, sum.Checks, text)
			}
		})
	}
}

// logIn asks for a token.
func logIn(t *testing.T, addr string) string {
	t.Helper()
	resp, err := http.Post("http://"+addr+"/login", "text/plain", nil)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	if err != nil {
		t.Fatal(err)
	}
	return strings.Split(string(b), `"`)[3]
}

// dial connects, and gives the messages that come.
func dial(t *testing.T, url string) (*probe.Line, <-chan string) {
	t.Helper()
	heard, opened := make(chan string, 10), make(chan bool, 2)
	l := probe.Dial(1, probe.Target{URL: url}, func(e probe.Event) {
		switch {
		case e.What == probe.Opened || e.What == probe.Refused:
			opened <- e.What == probe.Opened
		case e.What == probe.In && e.Message != nil:
			heard <- string(e.Message)
		}
	})
	if !<-opened {
		t.Fatal("refused")
	}
	return l, heard
}

// next is the message that comes next.
func next(t *testing.T, heard <-chan string) string {
	t.Helper()
	select {
	case m := <-heard:
		return m
	case <-time.After(10 * time.Second):
		t.Fatal("nothing comes")
		return ""
	}
}
