package recording

import (
	"encoding/binary"
	"fmt"
	"strings"
	"time"

	"tidepull/internal/base/plain"
	"tidepull/internal/wire/eventstream"
	"tidepull/internal/wire/http1"
	"tidepull/internal/wire/ws"
)

// A Tap listens to both directions of one connection and tells what went over
// it. It recognises HTTP, WebSocket with and without compression, and event
// streams; all else is data. It has no socket: bytes go in as they come.
type Tap struct {
	Conn int
	Emit func(Entry)

	sides    [2]side // the client's, the server's
	upgraded bool
	methods  []string // of requests that are not answered yet
	plain    bool     // it is no HTTP
	ended    bool     // one side has ended the connection
}

type side struct {
	from   string
	held   []byte
	inBody bool
	body   http1.Body
	stream bool // the content is an event stream
	begun  bool
	events eventstream.Reader
	parts  []byte // of the content under way
	frames ws.Watcher
	lost   bool // it cannot be followed any more
}

// maxHeld bounds what is held until it is whole.
const maxHeld = 32 << 20

// NewTap makes the tap of a connection.
func NewTap(conn int, emit func(Entry)) *Tap {
	return &Tap{Conn: conn, Emit: emit, sides: [2]side{{from: Client}, {from: Server}}}
}

func (t *Tap) side(ofServer bool) *side {
	if ofServer {
		return &t.sides[1]
	}
	return &t.sides[0]
}

func (t *Tap) tell(s *side, at time.Duration, e Entry) {
	e.At, e.Conn, e.From = at.Microseconds(), t.Conn, s.from
	t.Emit(e)
}

// Feed takes bytes that the client (or the server) sent at an instant since the
// recording began.
func (t *Tap) Feed(fromServer bool, b []byte, at time.Duration) {
	s := t.side(fromServer)
	if s.lost || t.plain {
		t.data(s, b, at)
		return
	}
	s.held = append(s.held, b...)
	for len(s.held) > 0 {
		n, err := t.step(s, at)
		if err != nil {
			t.lose(s, at, err)
			return
		}
		if s.held = s.held[n:]; n == 0 {
			break
		}
	}
	if len(s.held) > maxHeld {
		t.lose(s, at, fmt.Errorf("more than %d MiB without an end", maxHeld>>20))
	}
}

func (t *Tap) data(s *side, b []byte, at time.Duration) {
	e := Entry{What: Data}
	e.SetPayload(b)
	t.tell(s, at, e)
}

// lose gives up following one direction: what comes is data from here on.
func (t *Tap) lose(s *side, at time.Duration, err error) {
	if s.begun {
		t.tell(s, at, Entry{What: Trouble, Why: plain.Text(err.Error(), 200)})
	}
	held := s.held
	s.held, s.lost = nil, true
	if !s.begun {
		t.plain = true
	}
	if len(held) > 0 {
		t.data(s, held, at)
	}
}

// step takes one thing from what is held of a side.
func (t *Tap) step(s *side, at time.Duration) (int, error) {
	switch {
	case t.upgraded:
		return t.frame(s, at)
	case s.inBody:
		return t.content(s, at)
	case s.from == Client:
		return t.request(s, at)
	}
	return t.answer(s, at)
}

// methods of HTTP; a client that begins otherwise speaks something else.
var known = [...]string{"GET ", "POST ", "PUT ", "DELETE ", "HEAD ", "OPTIONS ", "PATCH ", "CONNECT ", "TRACE "}

func likeHTTP(b []byte, starts ...string) bool {
	for _, k := range starts {
		if n := min(len(k), len(b)); string(b[:n]) == k[:n] {
			return true
		}
	}
	return false
}

func (t *Tap) request(s *side, at time.Duration) (int, error) {
	if !s.begun && !likeHTTP(s.held, known[:]...) {
		return 0, fmt.Errorf("no HTTP")
	}
	h, n, err := http1.ConsumeRequest(s.held)
	if err != nil || n == 0 {
		return 0, err
	}
	s.begun = true
	t.methods = append(t.methods, h.Method)
	t.tell(s, at, Entry{What: Head, Start: h.Method + " " + h.Path, Fields: h.Fields})
	if s.body, err = http1.RequestBody(&h); err != nil {
		return n, err
	}
	s.inBody = !s.body.Done()
	return n, nil
}

func (t *Tap) answer(s *side, at time.Duration) (int, error) {
	if !s.begun && !likeHTTP(s.held, "HTTP/1.") {
		return 0, fmt.Errorf("no HTTP")
	}
	h, n, err := http1.ConsumeResponse(s.held)
	if err != nil || n == 0 {
		return 0, err
	}
	s.begun = true
	t.tell(s, at, Entry{What: Head, Start: fmt.Sprintf("%d %s", h.Status, h.Reason), Fields: h.Fields})
	if h.Status == 101 && h.HasToken("Upgrade", "websocket") {
		t.upgraded = true
		deflate := strings.Contains(h.Get("Sec-WebSocket-Extensions"), "permessage-deflate")
		for i := range t.sides {
			t.sides[i].frames = ws.Watcher{From: [...]ws.Role{ws.Client, ws.Server}[i], Deflate: deflate,
				Limit: maxHeld}
		}
		if c := &t.sides[0]; len(c.held) > 0 { // the client did not wait for the answer
			rest := c.held
			c.held = nil
			t.Feed(false, rest, at)
		}
		return n, nil
	}
	if h.Status/100 == 1 {
		return n, nil
	}
	method := "GET"
	if len(t.methods) > 0 {
		method, t.methods = t.methods[0], t.methods[1:]
	}
	if s.body, err = http1.ResponseBody(&h, method); err != nil {
		return n, err
	}
	s.inBody = !s.body.Done()
	s.stream = strings.HasPrefix(h.Get("Content-Type"), "text/event-stream")
	s.parts, s.events = nil, eventstream.Reader{}
	return n, nil
}

func (t *Tap) content(s *side, at time.Duration) (int, error) {
	part, n, err := s.body.Next(s.held)
	if err != nil {
		return 0, err
	}
	if s.stream {
		if err := t.events(s, part, at); err != nil {
			return 0, err
		}
	} else {
		s.parts = append(s.parts, part...)
	}
	if s.body.Done() || len(s.parts) > maxHeld {
		t.endContent(s, at)
	}
	s.inBody = !s.body.Done()
	return n, nil
}

func (t *Tap) endContent(s *side, at time.Duration) {
	if len(s.parts) > 0 {
		e := Entry{What: Content}
		e.SetPayload(s.parts)
		t.tell(s, at, e)
	}
	s.parts = nil
}

// events reads an event stream.
func (t *Tap) events(s *side, part []byte, at time.Duration) error {
	return s.events.Feed(part, func(ev eventstream.Event) {
		e := Entry{What: Event, Kind: ev.Name, ID: ev.ID}
		e.SetPayload(ev.Data)
		t.tell(s, at, e)
	})
}

func (t *Tap) frame(s *side, at time.Duration) (int, error) {
	f, n, err := s.frames.Next(s.held)
	if err != nil || n == 0 {
		return n, err
	}
	e := Entry{}
	switch {
	case f.Op == ws.OpPing:
		e.What = Ping
		e.SetPayload(f.Payload)
	case f.Op == ws.OpPong:
		e.What = Pong
		e.SetPayload(f.Payload)
	case f.Op == ws.OpClose:
		e.What, e.Code = Close, ws.CloseNoStatus
		if len(f.Payload) >= 2 {
			e.Code = int(binary.BigEndian.Uint16(f.Payload))
			e.SetPayload(f.Payload[2:])
		}
	case f.Whole:
		e.What, e.Kind, e.Compressed = Message, ws.OpName(f.Kind), f.Compressed
		if f.Fragments > 1 {
			e.Fragments = f.Fragments
		}
		e.SetPayload(f.Message)
	default:
		return n, nil
	}
	t.tell(s, at, e)
	return n, nil
}

// Finish tells that one side ends the connection, at an instant; what the other one still says may come after it.
func (t *Tap) Finish(fromServer bool, at time.Duration, why string) {
	s := t.side(fromServer)
	t.flush(s, at)
	if !t.ended {
		t.ended = true
		t.tell(s, at, Entry{What: End, Why: why})
	}
}

// End tells that the connection is gone, if no side has ended it.
func (t *Tap) End(at time.Duration, why string) {
	for i := range t.sides {
		t.flush(&t.sides[i], at)
	}
	if !t.ended {
		t.Emit(Entry{At: at.Microseconds(), Conn: t.Conn, What: End, Why: why})
	}
}

// flush tells what is held of a side that says no more.
func (t *Tap) flush(s *side, at time.Duration) {
	if s.inBody && !s.stream {
		t.endContent(s, at)
	} else if len(s.held) > 0 && !s.lost {
		t.data(s, s.held, at)
	}
	s.held, s.inBody = nil, false
}
