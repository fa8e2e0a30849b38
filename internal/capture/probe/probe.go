// Package probe is one client driven by hand: it connects, tells each phase of
// that with its time, and each frame in and out. It speaks WebSocket (ws:// and
// wss://), raw TCP lines (tcp:// and tls://), messages over HTTP (events+http:// and the
// like) and in datagrams (udp://).
package probe

import (
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/secret"
	"tidepull/internal/wire"
	"tidepull/internal/wire/http1"
	"tidepull/internal/wire/ws"
)

// A Target is whom a Line connects to, and what it says of itself.
type Target struct {
	URL       string
	Origin    string
	Fields    []http1.Field // more header fields
	Protocols []string      // subprotocols that are offered
	TLS       wire.TLS
	At        wire.Endpoint // where to connect to; zero: where the name leads
	Addrs     []netip.Addr  // where the name leads; none: it is looked up
	Secrets   []string      // what must not be shown, in no event
	Ending    string        // of lines that are sent over TCP; CR LF if it is not given
	Raw       bool          // over TCP: no lines, but bytes as they come and as they are given
	Post      string        // over HTTP: the path that what is sent is posted to; "": that of URL
	Every     time.Duration // polling: ask at this pace; 0: again after each answer
	Prefix    wire.Prefix   // over TCP: instead of lines, messages behind their length
}

// What says what an Event is about.
type What string

// The kinds of Event.
const (
	Phase   What = "phase"   // one of the steps of connecting is over
	Request What = "request" // the handshake as it was sent
	Answer  What = "answer"  // the head of its answer
	Refused What = "refused" // there will be no connection: Why, and what to Try
	Opened  What = "open"    // messages can be sent
	In      What = "in"      // a frame, or a line, from the server
	Out     What = "out"     // one to the server
	Unsent  What = "unsent"  // something that could not be sent
	Ended   What = "end"     // the connection is gone
)

// An Event is one thing that happened on a Line.
type Event struct {
	Line   int           `json:"line"`
	At     time.Time     `json:"at"`
	Since  time.Duration `json:"since_last_ns"` // since the last event of the line
	What   What          `json:"what"`
	Phase  string        `json:"phase,omitempty"` // "name lookup", "connect", "TLS", "request", "answer"
	Took   time.Duration `json:"took_ns,omitempty"`
	Detail string        `json:"detail,omitempty"`
	Head   *http1.Head   `json:"head,omitempty"`
	// of a frame: "text", "binary", "continuation", "ping", "pong", "close"; "line" over
	// TCP
	Op      string        `json:"op,omitempty"`
	Last    bool          `json:"final,omitempty"`
	Payload []byte        `json:"-"`
	Text    string        `json:"text,omitempty"` // the payload, safe to show
	Size    int           `json:"size,omitempty"`
	Trip    time.Duration `json:"round_trip_ns,omitempty"` // of a pong that answers our ping
	Code    int           `json:"code,omitempty"`          // of a close frame
	Why     string        `json:"why,omitempty"`
	Try     []string      `json:"try,omitempty"`
	By      string        `json:"by,omitempty"` // who ended the connection: "server", "you", "network"

	Message []byte `json:"-"` // the whole message, with its last frame
	Binary  bool   `json:"-"`
}

// A Line is one connection. Its methods may be called from any goroutine.
type Line struct {
	number int
	target Target
	tell   func(Event)
	hider  *secret.Hider
	cancel context.CancelFunc
	done   chan struct{}
	room   chan struct{} // some were; it holds one

	mu       sync.Mutex // guards all below, and the order of events
	waiting  []Event    // not handed out yet
	handing  bool       // a goroutine hands them out
	final    bool       // no more are coming, but for what cannot be sent
	settled  bool       // done is closed
	conn     net.Conn
	state    string // what it is doing, in words
	open     bool
	tcp      bool
	carrier  *carrier // that messages come by; nil: WebSocket or plain TCP
	last     time.Time
	pings    map[string]time.Time
	pinged   uint64
	closedBy string // who closed first
	broken   bool   // something could not be sent, or half of it was
	ended    bool
	happens  chan func()  // for the carrier
	addrs    []netip.Addr // of the target's name; of the Line's own goroutine until it dials
	looked   int          // bytes of an unfinished line that hold no end; of the reading goroutine
}

// Dial begins to connect. tell is called with each event, one at a time and in their
// order, from a goroutine of the Line that holds no lock: it may take its time,
// and may call the Line's methods. If it does not keep up, less is read from
// the server. After Ended nothing more comes, and the Line is over.
func Dial(number int, t Target, tell func(Event)) *Line {
	ctx, cancel := context.WithCancel(context.Background())
	l := &Line{number: number, target: t, tell: tell, hider: secret.New(t.Secrets), cancel: cancel,
		done: make(chan struct{}), room: make(chan struct{}, 1), happens: make(chan func(), maxOrders),
		last: time.Now(), state: "it is not connected yet", pings: map[string]time.Time{}}
	go l.run(ctx)
	return l
}

// Done is closed when the Line is over.
func (l *Line) Done() <-chan struct{} { return l.done }

// Hangup cuts the connection without a close frame and waits until the Line is over.
func (l *Line) Hangup() {
	l.mu.Lock()
	if l.closedBy == "" {
		l.closedBy = "you"
	}
	l.mu.Unlock()
	l.cancel()
	<-l.done
}

// Open reports whether messages can be sent.
func (l *Line) Open() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.open
}

// event tells of something; l.mu is held.
func (l *Line) event(e Event) {
	e.Line = l.number
	if e.At.IsZero() {
		e.At = time.Now()
	}
	e.Since = e.At.Sub(l.last)
	l.last = e.At
	if e.Payload != nil {
		e.Size = len(e.Payload)
		e.Text = Show(e.Payload)
	}
	l.hide(&e)
	l.waiting = append(l.waiting, e)
	if !l.handing {
		l.handing = true
		go l.handOut()
	}
}

// maxWaiting is how many events may wait to be handed out before the server is
// no longer read.
const maxWaiting = 4096

// handOut tells of events until there are no more.
func (l *Line) handOut() {
	for {
		l.mu.Lock()
		batch := l.waiting
		l.waiting = nil
		if len(batch) == 0 {
			l.handing = false
			l.settle()
			l.mu.Unlock()
			return
		}
		l.mu.Unlock()
		for _, e := range batch {
			l.tell(e)
		}
		select {
		case l.room <- struct{}{}:
		default:
		}
	}
}

// Reported reports whether everything that has happened so far was given to tell.
func (l *Line) Reported() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return !l.handing
}

// settle closes done once all is read and reported; l.mu is held.
func (l *Line) settle() {
	if l.final && !l.handing && !l.settled {
		l.settled = true
		close(l.done)
	}
}

// waitForRoom holds reading up while too many events wait to be handed out.
func (l *Line) waitForRoom(ctx context.Context) {
	for {
		l.mu.Lock()
		n := len(l.waiting)
		l.mu.Unlock()
		if n < maxWaiting {
			return
		}
		select {
		case <-l.room:
		case <-ctx.Done():
			return
		}
	}
}

func (l *Line) say(e Event) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.event(e)
}

// hide takes the target's secrets out of what an event shows.
func (l *Line) hide(e *Event) {
	if l.hider == nil {
		return
	}
	e.Text, e.Why, e.Detail = l.hider.Text(e.Text), l.hider.Text(e.Why), l.hider.Text(e.Detail)
	e.Payload, e.Message = l.hider.Bytes(e.Payload), l.hider.Bytes(e.Message)
	if e.Head != nil {
		head := *e.Head
		head.Path, head.Fields = l.hider.Text(head.Path), slices.Clone(head.Fields)
		for i := range head.Fields {
			head.Fields[i].Value = l.hider.Text(head.Fields[i].Value)
		}
		e.Head = &head
	}
}

// Show makes a payload safe to show in one line: text as it is, the rest as
// hexadecimal digits.
func Show(b []byte) string {
	const most = 16 << 10
	if len(b) > most {
		b = b[:most]
	}
	if !utf8.Valid(b) {
		return fmt.Sprintf("% x", b)
	}
	return plain.Text(string(b), 0)
}

// A NotOpen is why something could not be sent.
type NotOpen struct{ Why string }

func (e *NotOpen) Error() string { return "not sent: " + e.Why }

// writeWithin is how long the kernel may take to take what is sent.
const writeWithin = time.Second

// patience is how often it is tried: on a busy machine the time may be over before the system was
// even asked.
const patience = 3

// patiently writes all of b. Only a system that takes nothing for writeWithin, again and again, has
// it fail for want of time.
func patiently(conn net.Conn, b []byte) (err error) {
	for range patience {
		conn.SetWriteDeadline(time.Now().Add(writeWithin))
		var n int
		if n, err = conn.Write(b); !errors.Is(err, os.ErrDeadlineExceeded) {
			return err
		}
		b = b[n:]
	}
	return err
}

// write sends bytes; l.mu is held. After half a frame nothing else can be sent:
// if a write fails, the connection is over.
func (l *Line) write(b []byte) error {
	if !l.open {
		err := &NotOpen{l.state}
		l.event(Event{What: Unsent, Why: l.state})
		return err
	}
	err := patiently(l.conn, b)
	if err != nil {
		why := err.Error()
		if errors.Is(err, os.ErrDeadlineExceeded) {
			why = fmt.Sprintf("the server has not taken it within %v: it does not read", patience*writeWithin)
		}
		l.event(Event{What: Unsent, Why: why})
		l.open, l.state, l.broken = false, "the connection is broken", true
		l.conn.Close()
	}
	return err
}

func key() (k [4]byte) {
	rand.Read(k[:]) // never fails (crypto/rand)
	return k
}

// Send sends a message: a text or binary frame, or a line over TCP.
func (l *Line) Send(payload []byte, binary bool) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.carrier != nil {
		return l.sayCarried(payload, binary)
	}
	op, b := byte(ws.OpText), []byte(nil)
	if binary {
		op = ws.OpBinary
	}
	name := ws.OpName(op)
	switch {
	case l.tcp && l.target.Raw:
		name, b = "bytes", payload
	case l.tcp:
		f := l.target.framing()
		switch {
		case len(payload) > f.Most():
			why := fmt.Sprintf("a message of %d bytes; its length in front can say %d", len(payload), f.Most())
			l.event(Event{What: Unsent, Why: why})
			return errors.New(why)
		case f.Prefix != wire.NoPrefix:
			name, b = "message", f.Append(b, payload)
		default: // ends of lines inside are meant
			name, b = "line", append(append(b, payload...), cmp.Or(f.Ends, "\r\n")...)
		}
	default:
		b = ws.AppendMasked(nil, op, payload, key())
	}
	at := time.Now() // before others can have heard it
	if err := l.write(b); err != nil {
		return err
	}
	l.event(Event{What: Out, At: at, Op: name, Last: true, Payload: nonNil(payload), Message: payload, Binary: binary})
	return nil
}

func nonNil(b []byte) []byte {
	if b == nil {
		return []byte{}
	}
	return b
}

// Ping sends a ping; its round trip comes with the pong.
func (l *Line) Ping() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.tcp || l.carrier != nil {
		l.event(Event{What: Unsent, Why: "there are no pings but over WebSocket"})
		return errors.New("no pings but over WebSocket")
	}
	l.pinged++
	payload := fmt.Sprintf("probe %d", l.pinged)
	if err := l.write(ws.AppendMasked(nil, ws.OpPing, []byte(payload), key())); err != nil {
		return err
	}
	if len(l.pings) < 1000 {
		l.pings[payload] = time.Now()
	}
	l.event(Event{What: Out, Op: "ping", Last: true, Payload: []byte(payload)})
	return nil
}

// Close closes the connection with a code and a reason; over TCP it ends the stream.
func (l *Line) Close(code uint16, reason string) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.open && l.closedBy == "" {
		l.closedBy = "you"
	}
	if l.carrier != nil {
		return l.closeCarried()
	}
	if l.tcp {
		if c, ok := l.conn.(*net.TCPConn); ok && l.open {
			l.event(Event{What: Out, Op: "close", Last: true, Detail: "the end of the stream"})
			return c.CloseWrite()
		}
	}
	at := time.Now()
	if err := l.write(ws.AppendMasked(nil, ws.OpClose, ws.AppendClosePayload(nil, code, reason), key())); err != nil {
		return err
	}
	l.event(Event{What: Out, At: at, Op: "close", Last: true, Code: int(code), Detail: ws.CloseWords(code),
		Payload: []byte(reason)})
	return nil
}

// run connects and reads until the connection is gone.
func (l *Line) run(ctx context.Context) {
	defer func() {
		l.mu.Lock()
		l.final = true
		l.settle()
		l.mu.Unlock()
	}()
	defer l.cancel()
	rest, err := l.connect(ctx)
	if err != nil {
		return
	}
	stop := context.AfterFunc(ctx, func() { l.conn.Close() })
	defer stop()
	l.read(ctx, rest)
}

// read takes frames, or lines, until the end.
func (l *Line) read(ctx context.Context, held []byte) {
	buf := make([]byte, 64<<10)
	var w ws.Watcher
	shown := 0 // bytes of what is held that were shown, unfinished as they are
	for {
		n, err := l.take(held, &w)
		held, shown = held[n:], max(0, shown-n)
		if err != nil {
			l.end(whyMalformed(err, held), "you")
			return
		}
		if n > 0 {
			continue
		}
		l.waitForRoom(ctx)
		waits := l.tcp && len(held) > shown
		if waits {
			l.conn.SetReadDeadline(time.Now().Add(unfinishedAfter))
		}
		got, err := l.conn.Read(buf)
		held = append(held, buf[:got]...)
		if waits {
			l.conn.SetReadDeadline(time.Time{})
		}
		if waits && got == 0 && errors.Is(err, os.ErrDeadlineExceeded) {
			l.unfinished(held[shown:], "more has not come yet")
			shown = len(held)
			continue
		}
		if err != nil && got == 0 {
			if l.tcp && len(held) > shown {
				l.unfinished(held[shown:], "nothing more comes")
			}
			l.over(err)
			return
		}
	}
}

// over tells that the connection is gone.
func (l *Line) over(err error) {
	l.mu.Lock()
	by, broken := l.closedBy, l.broken
	l.mu.Unlock()
	why := "the connection was closed"
	switch {
	case broken:
		by, why = "network", "something could not be sent"
	case by == "" && strings.Contains(err.Error(), "EOF"):
		by, why = "server", "the server closed the connection without a close frame (code 1006)"
	case by == "":
		by, why = "network", err.Error()
	}
	l.end(why, by)
}

func (l *Line) end(why, by string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.open, l.state = false, "the connection is closed"
	if l.conn != nil {
		l.conn.Close()
	}
	if !l.ended {
		l.ended = true
		l.event(Event{What: Ended, Why: why, By: by})
	}
}

// take takes one frame, or line, from the front of what is held.
func (l *Line) take(held []byte, w *ws.Watcher) (int, error) {
	if l.tcp {
		return l.takeTCP(held)
	}
	if bytes.HasPrefix(held, []byte("HTTP/1.")) { // no frame begins so: a reserved bit is set
		return 0, errAnsweredTwice
	}
	f, n, err := w.Next(held)
	if err != nil || n == 0 {
		return 0, err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	e := Event{What: In, Op: ws.OpName(f.Op), Last: f.Fin, Payload: nonNil(f.Payload)}
	if f.Wrong != nil {
		e.Why = fmt.Sprintf("%s (%s)", f.Wrong.Rule, f.Wrong.Section)
	}
	switch f.Op {
	case ws.OpPing:
		l.event(e)
		pong := ws.AppendMasked(nil, ws.OpPong, f.Payload, key())
		if l.write(pong) == nil {
			l.event(Event{What: Out, Op: "pong", Last: true, Payload: f.Payload})
		}
		return n, nil
	case ws.OpPong:
		if at, ok := l.pings[string(f.Payload)]; ok {
			e.Trip = time.Since(at)
			delete(l.pings, string(f.Payload))
		}
	case ws.OpClose:
		l.closed(&e, f.Frame)
		return n, nil
	}
	if f.Whole {
		e.Message, e.Binary = nonNil(f.Message), f.Kind == ws.OpBinary
	}
	l.event(e)
	return n, nil
}

// closed handles a close frame: it is answered, if it is not an answer.
func (l *Line) closed(e *Event, f ws.Frame) {
	e.Code = ws.CloseNoStatus
	if len(f.Payload) >= 2 {
		e.Code = int(binary.BigEndian.Uint16(f.Payload))
		e.Payload = f.Payload[2:]
	}
	e.Detail = ws.CloseWords(uint16(e.Code))
	l.event(*e)
	if l.closedBy == "" {
		l.closedBy = "server"
		answer := f.Payload
		if l.write(ws.AppendMasked(nil, ws.OpClose, answer, key())) == nil {
			l.event(Event{What: Out, Op: "close", Last: true, Code: e.Code, Detail: "the answer to the server's close"})
		}
	}
	l.open, l.state = false, "the closing handshake has begun"
	l.conn.SetReadDeadline(time.Now().Add(2 * time.Second)) // the server closes first (RFC 6455 7.1.1)
}
