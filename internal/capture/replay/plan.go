// Package replay makes a plan out of a recording: what each client did, what it
// waited for, and which values vary from client to client and from run to run.
// A plan can be written as a session of the trial language (session.go), and
// what came when it was played can be held against what was recorded (diff.go).
package replay

import (
	"errors"
	"fmt"
	"math"
	"net/url"
	"strings"
	"time"

	"tidepull/internal/capture/recording"
	"tidepull/internal/wire"
	"tidepull/internal/wire/http1"
	"tidepull/internal/wire/ws"
)

// A Plan is what a recording's clients did.
type Plan struct {
	Target  string
	over    string // how messages came, if not over a WebSocket: an attribute of a target
	post    string
	every   time.Duration
	Actors  []*Actor
	Guesses []Guess // values that vary
}

// Speech is how an actor's connection is spoken on.
type Speech string

// The speeches.
const (
	WebSocket Speech = "websocket"
	Lines     Speech = "lines"
	Bytes     Speech = "bytes"    // over TCP, without ends that are known
	Messages  Speech = "messages" // over TCP, with ends that are no line's, or a length in front
	Requests  Speech = "requests" // nothing but HTTP
	Datagrams Speech = "datagrams"
)

// An Actor is one client of the recording: one WebSocket or TCP connection, and
// the HTTP requests that belong to it.
type Actor struct {
	Number int // from 1
	Speech Speech
	Begins time.Duration // after the first of all
	Ending string        // of the lines that it says: CR LF, or LF
	Ends   wire.Framing  // of Messages: where each ends
	Steps  []Step
}

// stepKind says what a step does.
type stepKind string

// The steps.
const (
	Ask     stepKind = "request"
	Connect stepKind = "connect"
	Say     stepKind = "say"
	Hear    stepKind = "hear"   // something that the server says
	Follow  stepKind = "follow" // a request that an event stream answers
	Close   stepKind = "close"
	Vanish  stepKind = "vanish" // the client ends the connection without a close frame
	Closed  stepKind = "closed" // the server ends it, without one if there is no code
)

// A Step is one thing that an actor does, or hears.
type Step struct {
	Do      stepKind
	At      time.Duration // since the recording began
	Method  string        // Ask
	Path    string        // Ask, Connect
	Fields  []http1.Field // Ask, Connect: those that do not follow from the rest
	Payload []byte        // Say, Hear; Ask: the content
	Binary  bool          // Say, Hear
	Status  int           // Ask: of the answer
	Took    time.Duration // Ask: until the answer began
	Answer  []byte        // Ask: its content
	Head    []http1.Field // Ask: its fields
	Code    int           // Close, Closed
	Reason  string        // Close, Closed
	Uses    []int         // guesses whose values stand in it
	Gives   []int         // guesses whose values the server gives in it
	Fixed   []Value       // Hear: values that the server must say again

	Record bool // Hear: it came in a message with a separator, so that it is not all of it

	ends    time.Duration // of a piece of bytes: when its last came
	cookies string        // Ask, Connect: those that the client sent
}

// IsHeard reports whether a step is the server's, and not what the client does.
func (s *Step) IsHeard() bool { return s.Do == Hear || s.Do == Closed }

// Shape is that of what a step heard. vary are values that vary.
func (s *Step) Shape(vary []string) Shape {
	if s.Do == Closed {
		return ShapeOfEnd(s.Code)
	}
	return ShapeOf(s.Payload, s.Binary, vary)
}

// Sample is what a step heard, for people.
func (s *Step) Sample() []byte {
	if s.Do == Closed {
		return SampleOfEnd(s.Code, s.Reason)
	}
	return s.Payload
}

// Options change how a plan is made.
type Options struct {
	Keep []string          // values that do not vary, whatever is guessed
	Vary map[string]string // values that do, with the expression that gives them
}

// follows are header fields that follow from the rest of a request, or from the
// connection: they are not part of a plan.
var follows = []string{"Host", "Connection", "Upgrade", "Content-Length", "Transfer-Encoding", "Cookie",
	"Sec-WebSocket-Key", "Sec-WebSocket-Version", "Sec-WebSocket-Extensions", "Accept", "Accept-Encoding",
	"Accept-Language", "User-Agent", "Cache-Control", "Pragma", "Referer", "Keep-Alive", "DNT"}

func kept(fields []http1.Field) (out []http1.Field) {
	for _, f := range fields {
		low := strings.ToLower(f.Name)
		follow := strings.HasPrefix(low, "sec-fetch") || strings.HasPrefix(low, "sec-ch-") ||
			strings.HasPrefix(low, ":") || strings.HasPrefix(low, "priority")
		for _, name := range follows {
			follow = follow || strings.EqualFold(f.Name, name)
		}
		if !follow {
			out = append(out, f)
		}
	}
	return out
}

// Make makes a plan. Recordings without anything that a client did are refused.
func Make(rec *recording.Recording, o Options) (*Plan, error) {
	p := &Plan{Target: rec.Target, over: rec.Over, post: rec.Post, every: rec.Every}
	if p.Target == "" {
		p.Target = "ws://127.0.0.1:7411/live"
	}
	if p.over == "" && strings.HasPrefix(p.Target, "udp://") {
		p.over = "udp"
	}
	m := maker{plan: p, conns: map[int]*conn{}}
	for i := range rec.Entries {
		m.entry(&rec.Entries[i])
	}
	m.flush()
	if len(p.Actors) == 0 {
		return nil, errors.New("the recording holds nothing that a client did")
	}
	p.guess(rec, o)
	p.FixValues(nil)
	return p, nil
}

// A maker follows the connections of a recording.
type maker struct {
	plan    *Plan
	conns   map[int]*conn
	order   []int
	current *Actor // to whom HTTP requests belong
	loose   []Step // requests before the first connection that stays
}

type conn struct {
	actor   *Actor
	ask     *Step     // the request that is not answered yet
	lines   [2][]byte // of TCP, not whole yet
	pieces  []Step    // of TCP, as they came
	follows *Actor    // that has the event stream
	upgrade bool
	closed  bool // one side has closed: what the other does then is the answer to it
}

func (m *maker) conn(n int) *conn {
	c := m.conns[n]
	if c == nil {
		c = &conn{}
		m.conns[n] = c
		m.order = append(m.order, n)
	}
	return c
}

func (m *maker) newActor(s Speech) *Actor {
	a := &Actor{Number: len(m.plan.Actors) + 1, Speech: s, Steps: m.loose}
	m.loose = nil
	m.plan.Actors = append(m.plan.Actors, a)
	m.current = a
	return a
}

func (m *maker) entry(e *recording.Entry) {
	c, at := m.conn(e.Conn), time.Duration(e.At)*time.Microsecond
	switch e.What {
	case recording.Head:
		m.head(c, e, at)
	case recording.Content:
		switch {
		case c.ask == nil:
		case e.From == recording.Client:
			c.ask.Payload = append(c.ask.Payload, e.Payload()...)
		default:
			c.ask.Answer = append(c.ask.Answer, e.Payload()...)
		}
	case recording.Event:
		if c.follows != nil {
			c.follows.hears(e.Payload(), false, at)
		}
	case recording.Message:
		switch {
		case c.actor == nil:
		case e.From == recording.Client:
			c.actor.Steps = append(c.actor.Steps, Step{Do: Say, At: at, Payload: e.Payload(),
				Binary: e.Kind == "binary"})
		default:
			c.actor.hears(e.Payload(), e.Kind == "binary", at)
		}
	case recording.Close:
		c.ends(Step{Do: Close, At: at, Code: e.Code, Reason: e.Text}, e.From)
	case recording.End:
		c.ends(Step{Do: Vanish, At: at}, e.From)
	case recording.Data:
		m.data(c, e, at)
	}
}

// hears books what came in a message: each record of it.
func (a *Actor) hears(payload []byte, binary bool, at time.Duration) {
	records := Records(payload, binary)
	for _, r := range records {
		a.Steps = append(a.Steps, Step{Do: Hear, At: at, Payload: r, Binary: binary, Record: len(r) < len(payload)})
	}
}

// ends books that one side ends a connection, if the other has not yet. It is not known who did in recordings that
// were not made by watching both.
func (c *conn) ends(s Step, by string) {
	if c.actor == nil || c.closed || by == "" || c.actor.Speech == Datagrams { // which have no end
		return
	}
	if c.closed = true; by == recording.Server {
		s.Do = Closed
	}
	c.actor.Steps = append(c.actor.Steps, s)
}

func (m *maker) head(c *conn, e *recording.Entry, at time.Duration) {
	if e.From == recording.Client {
		m.settle(c)
		method, path, _ := strings.Cut(e.Start, " ")
		if u, err := url.ParseRequestURI(path); err == nil && u.IsAbs() {
			path = u.RequestURI()
		}
		h := http1.Head{Fields: e.Fields}
		c.ask = &Step{Do: Ask, At: at, Method: method, Path: path, Fields: kept(e.Fields), cookies: h.Get("Cookie")}
		c.upgrade = h.HasToken("Upgrade", "websocket")
		return
	}
	if c.ask == nil {
		return
	}
	fmt.Sscanf(e.Start, "%d", &c.ask.Status)
	c.ask.Head, c.ask.Took = e.Fields, at-c.ask.At
	h := http1.Head{Fields: e.Fields}
	if c.ask.Status == 200 && strings.HasPrefix(h.Get("Content-Type"), "text/event-stream") {
		if m.current == nil {
			m.newActor(Requests)
		}
		c.ask.Do, c.follows = Follow, m.current
		m.current.Steps = append(m.current.Steps, *c.ask)
		c.ask = nil
		return
	}
	if c.ask.Status == 101 && c.upgrade {
		c.actor = m.newActor(WebSocket)
		c.ask.Do = Connect
		c.actor.Steps = append(c.actor.Steps, *c.ask)
		c.ask = nil
	}
}

// settle puts a request that is over among the steps.
func (m *maker) settle(c *conn) {
	if c.ask != nil && c.upgrade { // a WebSocket that was refused: there is nothing to play
		c.ask = nil
	}
	if c.ask == nil {
		return
	}
	if m.current != nil {
		m.current.Steps = append(m.current.Steps, *c.ask)
	} else {
		m.loose = append(m.loose, *c.ask)
	}
	c.ask = nil
}

// data takes bytes over TCP as lines, and as the pieces in which they came.
func (m *maker) data(c *conn, e *recording.Entry, at time.Duration) {
	if m.plan.over == "udp" {
		m.datagram(c, e, at)
		return
	}
	if c.actor == nil {
		c.actor = m.newActor(Lines)
		c.actor.Ending = "\n"
		c.actor.Steps = append(c.actor.Steps, Step{Do: Connect, At: at})
	}
	side, do := 0, Say
	if e.From == recording.Server {
		side, do = 1, Hear
	}
	c.pieces = append(c.pieces, Step{Do: do, At: at, Payload: e.Payload()})
	c.lines[side] = append(c.lines[side], e.Payload()...)
	for {
		line, rest, ok := strings.Cut(string(c.lines[side]), "\n")
		if !ok {
			return
		}
		c.lines[side] = []byte(rest)
		whole := strings.TrimSuffix(line, "\r")
		if side == 0 && whole != line {
			c.actor.Ending = "\r\n"
		}
		c.actor.Steps = append(c.actor.Steps, Step{Do: do, At: at, Payload: []byte(whole)})
	}
}

// datagram takes a datagram as a message.
func (m *maker) datagram(c *conn, e *recording.Entry, at time.Duration) {
	if c.actor == nil {
		c.actor = m.newActor(Datagrams)
		c.actor.Steps = append(c.actor.Steps, Step{Do: Connect, At: at})
	}
	do := Say
	if e.From == recording.Server {
		do = Hear
	}
	c.actor.Steps = append(c.actor.Steps, Step{Do: do, At: at, Payload: e.Payload()})
}

func (m *maker) flush() {
	for _, n := range m.order {
		m.settle(m.conns[n])
		m.conns[n].frame()
	}
	if len(m.loose) > 0 {
		m.newActor(Requests)
	}
	rehome(m.plan.Actors)
	first := time.Duration(math.MaxInt64)
	for _, a := range m.plan.Actors {
		sortSteps(a.Steps)
		first = min(first, a.Steps[0].At)
	}
	for _, a := range m.plan.Actors {
		a.Begins = a.Steps[0].At - first
	}
}

func sortSteps(steps []Step) {
	for i := 1; i < len(steps); i++ {
		for k := i; k > 0 && steps[k].At < steps[k-1].At; k-- {
			steps[k], steps[k-1] = steps[k-1], steps[k]
		}
	}
}

// closeCode is the code that an actor's close has.
func closeCode(s *Step) int {
	if s.Code == 0 || s.Code == ws.CloseNoStatus {
		return ws.CloseNormal
	}
	return s.Code
}
