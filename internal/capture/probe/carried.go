package probe

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"net/url"
	"slices"
	"strings"
	"syscall"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/wire"
	"tidepull/internal/wire/http1"
	"tidepull/internal/wire/transport"
	"tidepull/internal/wire/ws"
)

// A carrier is a Line with messages that come over HTTP, or in datagrams: by the machines that
// the clients of a trial have, too. All fields belong to the Line's own goroutine.
type carrier struct {
	l       *Line
	u       *url.URL
	over    string // how messages come over HTTP; "": they come in datagrams
	to      wire.Endpoint
	machine transport.Machine
	io      transport.IO
	conns   [transport.NumLines]net.Conn
	life    [transport.NumLines]int // of connections on a line, so far
	asked   [transport.NumLines]asked
	shown   bool // the first request and its answer were
	ended   bool
}

// machine gives what a target's messages come by; nil if it is a WebSocket or plain TCP.
func (t *Target) machine(over, scheme string) transport.Machine {
	f := t.framing()
	framed := t.Ending != "" || t.Prefix != wire.NoPrefix
	switch {
	case scheme == "udp":
		f.Whole = !framed
		return &transport.Stream{Framing: f, Datagrams: true}
	case over != "":
		h := &transport.Habits{Mode: overs[over], Framing: *f, Framed: framed, Every: t.Every, Type: "application/json"}
		if h.Mode == transport.LongPolling && t.Every > 0 {
			h.Mode = transport.Polling
		}
		return &transport.HTTP{Habits: h}
	}
	return nil
}

// errCarried is what connect gives if a carrier has done it all.
var errCarried = errors.New("it is over")

// carry connects by a machine, and goes on until the connection is gone.
func (l *Line) carry(ctx context.Context, m transport.Machine, u *url.URL, over string) {
	c := &carrier{l: l, u: u, over: over, machine: m}
	a, err := wire.ParseAddress(u.String())
	if err == nil {
		c.to, err = l.whereIs(ctx, a)
	}
	if err != nil { // it was told
		return
	}
	defer func() {
		for line := range c.conns {
			c.hangUp(line)
		}
	}()
	c.io.Random = rand.NewPCG(rand.Uint64(), rand.Uint64())
	c.io.WallOffset = mono.WallOffset()
	c.io.Find = func(place string) (wire.Endpoint, bool) { return c.to, strings.HasSuffix(place, "://"+u.Host) }
	o := transport.Opening{Endpoint: c.to, Host: u.Host, Path: transport.Target(u.RequestURI()),
		Post: l.target.Post, Fields: slices.Clone(l.target.Fields)}
	if l.target.Origin != "" {
		o.Fields = append(o.Fields, http1.Field{Name: "Origin", Value: l.target.Origin})
	}
	l.mu.Lock()
	l.carrier, l.state = c, "the server has not agreed yet"
	l.mu.Unlock()
	c.io.Now = mono.Now()
	m.Open(&c.io, &o, c.io.Now.Add(connectWithin))
	for c.drain() {
		c.do(ctx)
		c.wait(ctx)
		l.waitForRoom(ctx)
	}
	c.do(ctx) // what a machine says last
}

// wait waits for something to happen, and does it.
func (c *carrier) wait(ctx context.Context) {
	timer := time.NewTimer(max(0, min(time.Hour, c.machine.Deadline().Sub(mono.Now()))))
	defer timer.Stop()
	var happened func()
	select {
	case happened = <-c.l.happens:
	case <-timer.C:
		happened = func() { c.machine.Expire(&c.io) }
	case <-ctx.Done():
		happened = func() { c.ends("the connection was closed", "you") }
	}
	c.io.Now = mono.Now()
	happened()
}

// drain tells what the machine has to tell; false once it is all over.
func (c *carrier) drain() bool {
	for !c.ended {
		switch ev := c.machine.Next(&c.io); ev.Kind {
		case transport.Nothing:
			return true
		case transport.Opened:
			c.l.opened(c.manner())
		case transport.Message:
			b := nonNil(bytes.Clone(ev.Payload))
			c.l.say(Event{What: In, Op: "text", Last: true, Payload: b, Message: b})
		case transport.Refused:
			c.ended = true
			why, try := whyNotCarried(ev.Err)
			c.l.refuse(why, try)
		case transport.Broken, transport.Violated:
			why := ev.Err.Error()
			if errors.Is(ev.Err, syscall.ECONNREFUSED) {
				why, _ = whyNoConnection(ev.Err, c.to.String())
			}
			c.ends(why, "server")
		case transport.Ended:
			why := "the connection was closed"
			if ev.Err != nil {
				why += ", but " + ev.Err.Error()
			}
			c.ends(why, "you")
		}
	}
	return false
}

func (c *carrier) ends(why, by string) {
	c.ended = true
	c.l.end(why, by)
}

// manner says how messages come.
func (c *carrier) manner() string {
	const posted = "; what is sent is posted"
	switch c.over {
	case "events":
		return "an event stream" + posted
	case "stream":
		return "an answer without end" + posted
	case "polling":
		if c.l.target.Every > 0 {
			return fmt.Sprintf("it is asked every %v%s", c.l.target.Every, posted)
		}
		return "it is asked again after each answer" + posted
	}
	return "datagrams: whether anybody is there shows once something comes"
}

// whyNotCarried says in words why a machine did not come to be open, and what to try.
func whyNotCarried(err error) (string, []string) {
	var refusal *ws.Refusal
	var none *noConnection
	switch {
	case errors.As(err, &none):
		return none.why, none.try
	case errors.As(err, &refusal):
		return refusal.Why, []string{"the path", "what the server wants to know of a client: --header, or a query in " +
			"the address", "another way in: events+http://, stream+http://, polling+http:// or ws://"}
	}
	return err.Error(), nil
}

// do does what the machine asks for.
func (c *carrier) do(ctx context.Context) {
	for line := range c.io.Lines {
		w := &c.io.Lines[line]
		if len(w.Out) > 0 {
			c.watchOut(line, w.Out)
			w.Send(int32(line), c.write)
		}
		if w.Hangup {
			c.hangUp(line)
		}
		if w.Dial != nil && !c.ended {
			c.dial(ctx, line, *w.Dial)
		}
	}
	c.io.Clear()
}

func (c *carrier) write(line int32, b []byte) bool {
	conn := c.conns[line]
	if conn == nil {
		return false
	}
	if err := patiently(conn, b); err != nil {
		c.l.say(Event{What: Unsent, Why: err.Error()})
		conn.Close() // whoever reads it tells
	}
	return true
}

func (c *carrier) hangUp(line int) {
	c.life[line]++
	if c.conns[line] != nil {
		c.conns[line].Close()
	}
	c.conns[line], c.asked[line] = nil, asked{}
}

// dialled is what came of a dial.
type dialled struct {
	began           time.Time
	conn            net.Conn
	before, secured string
	err             error
}

// dial connects a line, beside everything else.
func (c *carrier) dial(ctx context.Context, line int, to wire.Endpoint) {
	c.hangUp(line)
	life := c.life[line]
	go func() {
		r := dialled{began: time.Now()}
		if r.conn, r.before, r.err = c.l.connectTo(ctx, to); r.err == nil && c.u.Scheme == "https" {
			plain := r.conn
			var none *noConnection
			if r.conn, r.secured, none = c.l.secured(ctx, plain, c.u); none != nil {
				plain.Close()
				r.err = none
			}
		}
		if !c.post(ctx, func() { c.connected(ctx, line, life, r) }) && r.err == nil {
			r.conn.Close()
		}
	}()
}

// connected handles that a dial is over.
func (c *carrier) connected(ctx context.Context, line, life int, r dialled) {
	switch {
	case life != c.life[line]: // it is not wanted any more
		if r.err == nil {
			r.conn.Close()
		}
		return
	case r.err != nil:
		c.machine.Lost(&c.io, line, r.err)
		return
	}
	c.l.say(connected(r.began, r.conn, r.before))
	if r.secured != "" {
		c.l.say(Event{What: Phase, Phase: "TLS", Detail: r.secured})
	}
	c.conns[line] = r.conn
	go c.read(ctx, line, life, r.conn)
	c.machine.Connected(&c.io, line)
}

// post has something done by the Line's own goroutine; false if that is over.
func (c *carrier) post(ctx context.Context, f func()) bool {
	select {
	case c.l.happens <- f:
		return true
	case <-ctx.Done():
		return false
	}
}

// read hands on what comes over a connection, one piece after the other.
func (c *carrier) read(ctx context.Context, line, life int, conn net.Conn) {
	buf := make([]byte, 64<<10)
	taken := make(chan struct{}, 1)
	for {
		n, err := conn.Read(buf)
		posted := c.post(ctx, func() {
			defer func() { taken <- struct{}{} }()
			if life == c.life[line] {
				c.came(line, buf[:n], err)
			}
		})
		if err != nil || !posted {
			return
		}
		select {
		case <-taken: // buf may be used again
		case <-ctx.Done():
			return
		}
	}
}

// came takes what came over a line, and perhaps its end.
func (c *carrier) came(line int, b []byte, err error) {
	if len(b) > 0 || err == nil {
		c.watchIn(line, b)
		c.machine.Take(&c.io, line, b)
		if !c.drain() {
			return
		}
	}
	if err != nil && c.conns[line] != nil {
		c.conns[line].Close()
		c.conns[line] = nil
		c.machine.Lost(&c.io, line, err)
	}
}

// asked is a request on a line; its answer is looked at as it comes.
type asked struct {
	sent   *http1.Head // nil: there is none
	at     time.Time
	answer http1.Exchange
	held   []byte // of the answer's head
}

// watchOut shows a request that goes out.
func (c *carrier) watchOut(line int, b []byte) {
	if c.over == "" {
		return
	}
	h, n, err := http1.ConsumeRequest(bytes.Clone(b))
	if err != nil || n == 0 {
		return
	}
	c.asked[line] = asked{sent: &h, at: time.Now(), answer: http1.Exchange{Method: h.Method}}
	if !c.shown {
		c.l.say(Event{What: Request, Head: &h})
	}
}

// watchIn shows the head of an answer: of the first one whole, of others in a line.
func (c *carrier) watchIn(line int, b []byte) {
	a := &c.asked[line]
	if a.sent == nil {
		return
	}
	a.held = append(a.held, b...)
	if n, err := a.answer.TakeHead(a.held); err != nil || !a.answer.Headed() {
		a.held = a.held[n:]
		return
	}
	h, sent, took := a.answer.Head, a.sent, time.Since(a.at)
	*a = asked{} // the content is the machine's to read
	if !c.shown {
		c.shown = true
		c.l.say(Event{What: Phase, Phase: "answer", Took: took})
		c.l.say(Event{What: Answer, Head: &h})
		return
	}
	detail := fmt.Sprintf("to %s %s: %d %s", sent.Method, sent.Path, h.Status, h.Reason)
	if size := h.Get("Content-Length"); size != "" && h.Status != 204 {
		detail += ", " + size + " bytes"
	}
	c.l.say(Event{What: Phase, Phase: "answer", Took: took, Detail: detail})
}

// maxOrders bounds what waits to be done by a carrier.
const maxOrders = 256

// order has the carrier do something; l.mu is held.
func (l *Line) order(what Event, f func()) error {
	why := ""
	switch {
	case !l.open:
		why = l.state
	case len(l.happens) == maxOrders:
		why = "too much waits to be sent"
	}
	if why != "" {
		l.event(Event{What: Unsent, Why: why})
		return &NotOpen{why}
	}
	l.event(what)
	select {
	case l.happens <- f:
	default: // somebody else was quicker: what is read fills it, too
		l.event(Event{What: Unsent, Why: "too much waits to be sent"})
		return &NotOpen{"too much waits to be sent"}
	}
	return nil
}

// sayCarried sends a message by the carrier; l.mu is held.
func (l *Line) sayCarried(payload []byte, binary bool) error {
	c := l.carrier
	if c.over == "" && len(payload) > wire.MaxDatagram {
		why := fmt.Sprintf("a message of %d bytes; a datagram holds %d", len(payload), wire.MaxDatagram)
		l.event(Event{What: Unsent, Why: why})
		return errors.New(why)
	}
	b := bytes.Clone(payload)
	return l.order(Event{What: Out, Op: "text", Last: true, Payload: nonNil(payload), Message: payload, Binary: binary},
		func() { c.machine.Say(&c.io, b, binary) })
}

// closeCarried ends the carrier in order; l.mu is held.
func (l *Line) closeCarried() error {
	c := l.carrier
	return l.order(Event{What: Out, Op: "close", Last: true, Detail: "the end"},
		func() { c.machine.Close(&c.io, ws.CloseNormal, "") })
}
