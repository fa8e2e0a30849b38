// Package client is one simulated client as a state machine: bytes, timers and
// orders go in; bytes to send, a deadline and entries in the ledger come out.
// It has no socket, no clock and no goroutine.
//
// The loop calls a method when something happens to a client, then does what
// the Env asks for (send Out, Dial, Hangup) and looks at Next for when to call
// Tick.
package client

import (
	"errors"
	"time"

	"tidepull/internal/expr"
	"tidepull/internal/ledger"
	"tidepull/internal/logbook"
	"tidepull/internal/mono"
	"tidepull/internal/trial"
	"tidepull/internal/wire"
	"tidepull/internal/wire/http1"
	"tidepull/internal/wire/ws"
)

// A Client is one simulated client. It is kept small: there may be tens of
// thousands.
type Client struct {
	// What each arriving message touches comes first, close together: with
	// thousands of clients that decides how fast they are served.
	pending  []byte // received, and not a whole frame yet
	reader   ws.Reader
	deadline mono.Time // of what it waits for
	id       ledger.Client
	got      uint32 // marked messages
	crew     uint16
	phase    phase
	wait     wait
	title    titling
	depth    int8
	ebbing   bool

	name    []byte
	session *trial.Session
	random  uint64
	began   mono.Time // when that wait began
	ready   mono.Time // when the last wait for the server ended
	due     mono.Time // what the next message's latency counts from; 0: from when it is said
	turns   [trial.MaxNesting]turn
	n       int32 // in its crew
	sent    uint32
	room    ledger.Room
	asked   ledger.Room // the room that an answer is awaited for
	pc      int32
}

// A turn is the state of one repeat that is under way.
type turn struct {
	start mono.Time
	round int32
	at    int32 // the index of the repeat's step
}

type phase uint8

const (
	ashore  phase = iota // not connected
	dialing              // until the TCP connection is open
	shaking              // until the upgrade is agreed on
	open
	closing // the close frame is sent
)

type wait uint8

const (
	forNothing wait = iota
	forOpen
	forTitle
	forExpected
	forEntry
	forLeave
	forTime
	forClose
	forEnd
)

type titling uint8

const (
	untitled titling = iota
	titleAsked
	titled
	titleRefused
)

const (
	noRoom     ledger.Room = -1
	closeAfter             = 5 * time.Second // how long the other side may take for its goodbye
)

// New makes the n-th client of a crew, with its number in the run.
func (e *Env) New(id ledger.Client, crew uint16, n int32) Client {
	cr := &e.Trial.Crews[crew]
	c := Client{id: id, crew: crew, n: n, session: cr.Session, deadline: mono.Never, room: noRoom}
	c.random = mix(e.Trial.Seed ^ uint64(id)*0x9e3779b97f4a7c15)
	c.fill(e)
	c.name = cr.Title.Append(nil, &e.scope)
	e.byName[string(c.name)] = id
	return c
}

// Name is the client's name.
func (c *Client) Name() string { return string(c.name) }

// Next is when Tick is to be called.
func (c *Client) Next() mono.Time { return c.deadline }

// AwaitsServer tells whether Next is how long the server may take, and not when
// the client is to act.
func (c *Client) AwaitsServer() bool { return c.wait != forTime && c.wait != forNothing }

// Traffic is how many messages the client has said, and how many marked ones
// it has received.
func (c *Client) Traffic() (sent, got uint32) { return c.sent, c.got }

// Ashore tells whether the client is not connected and does not try to be.
func (c *Client) Ashore() bool { return c.phase == ashore }

// Open tells whether the client's connection is agreed on and not being closed.
func (c *Client) Open() bool { return c.phase == open }

// fill sets the variables that expressions see to this client's.
func (c *Client) fill(e *Env) {
	v := &e.scope.Vars
	v[expr.VarN] = expr.Num(float64(c.n))
	v[expr.VarName] = expr.Value{Kind: expr.String, Str: c.name}
	v[expr.VarCrew] = expr.Value{Kind: expr.String, Str: e.crewNames[c.crew]}
	v[expr.VarRoom] = expr.Value{}
	if c.room != noRoom {
		v[expr.VarRoom] = expr.Value{Kind: expr.String, Str: e.roomName(c.room)}
	}
	v[expr.VarMark], v[expr.VarTo] = expr.Value{}, expr.Value{}
	v[expr.VarRound] = expr.Num(0)
	if c.depth > 0 {
		v[expr.VarRound] = expr.Num(float64(c.turns[c.depth-1].round))
	}
}

// rand is splitmix64: each client's choices follow from the trial's seed and
// its number alone.
func (c *Client) rand() uint64 {
	c.random += 0x9e3779b97f4a7c15
	return mix(c.random)
}

func mix(z uint64) uint64 {
	z = (z ^ z>>30) * 0xbf58476d1ce4e5b9
	z = (z ^ z>>27) * 0x94d049bb133111eb
	return z ^ z>>31
}

// fraction is random, from 0 up to but without 1.
func (c *Client) fraction() float64 { return float64(c.rand()>>11) / (1 << 53) }

// Start makes a client that is ashore set out.
func (c *Client) Start(e *Env, now mono.Time) {
	c.pc, c.depth, c.ebbing, c.title, c.room = 0, 0, false, untitled, noRoom
	c.pending, c.reader, c.due = nil, ws.Reader{}, 0
	c.phase = dialing
	within := c.session.Steps[0].Within
	c.await(forOpen, now, within)
	e.counts().Started++
	e.event(c, now, logbook.SetOut, noRoom, "")
	e.Dial = true
}

func (c *Client) await(w wait, now mono.Time, within time.Duration) {
	c.wait, c.began, c.deadline = w, now, now.Add(within)
}

// nonce is the 16 bytes of the handshake's key; it follows from the client's
// random state, which does not change while the handshake is on.
func (c *Client) nonce() (k [16]byte) {
	a, b := mix(c.random^1), mix(c.random^2)
	for i := range 8 {
		k[i], k[i+8] = byte(a>>(8*i)), byte(b>>(8*i))
	}
	return k
}

// Opened tells the client that its connection is open.
func (c *Client) Opened(e *Env) {
	c.phase = shaking
	e.Out = ws.AppendRequest(e.Out, e.Host, e.Path, ws.KeyFor(c.nonce()))
}

// Data gives the client bytes that arrived in the kernel at an instant.
func (c *Client) Data(e *Env, b []byte, at, now mono.Time) {
	e.counts().Bytes += int64(len(b))
	e.Book.Now().ReadingLag.Record(now.Sub(at))
	if len(c.pending) > 0 {
		c.pending = append(c.pending, b...)
		b = c.pending
	}
	n := c.consume(e, b, at, now)
	switch rest := b[n:]; {
	case c.phase == ashore || len(rest) == 0:
		c.pending = nil
	default:
		c.pending = append(c.pending[:0], rest...)
	}
}

// consume takes what it can from the front of b and returns how much that was.
func (c *Client) consume(e *Env, b []byte, at, now mono.Time) (taken int) {
	if c.phase == shaking {
		if taken = c.shake(e, b, at, now); taken == 0 {
			return 0
		}
	}
	for c.phase == open || c.phase == closing {
		ev, n, err := c.reader.Next(b[taken:])
		if err != nil {
			c.malformed(e, now, err)
			return len(b)
		}
		taken += n
		if ev.Op != 0 {
			c.event(e, ev, at, now, taken < len(b))
		}
		if n == 0 {
			return taken
		}
	}
	return len(b)
}

func (c *Client) shake(e *Env, b []byte, at, now mono.Time) int {
	h, n, err := http1.ConsumeResponse(b)
	if err == nil && n == 0 {
		return 0
	}
	if err == nil {
		err = ws.CheckResponse(&h, ws.KeyFor(c.nonce()))
	}
	if err != nil {
		c.refused(e, now, err)
		e.Hangup = true
		return len(b)
	}
	c.phase = open
	e.counts().Opened++
	e.Opened++
	e.event(c, now, logbook.Opened, noRoom, "")
	e.Book.Now().Connect.Record(at.Sub(c.began))
	c.rand()
	c.sayTitle(e)
	c.pc, c.ready = 1, now
	c.run(e, now)
	return n
}

func (c *Client) event(e *Env, ev ws.Event, at, now mono.Time, more bool) {
	switch ev.Op {
	case ws.OpText, ws.OpBinary:
		c.message(e, ev.Payload, ev.Op == ws.OpBinary, more, at, now)
	case ws.OpPing:
		e.counts().Pings++
		c.frame(e, ws.OpPong, ev.Payload)
	case ws.OpClose:
		c.goodbye(e, ev, now)
	}
}

// frame sends one frame, masked with random bytes (RFC 6455 5.3).
func (c *Client) frame(e *Env, op byte, payload []byte) {
	r := c.rand()
	e.Out = ws.AppendMasked(e.Out, op, payload, [4]byte{byte(r), byte(r >> 8), byte(r >> 16), byte(r >> 24)})
}

// goodbye handles a close frame: the answer to ours, or the server's own.
func (c *Client) goodbye(e *Env, ev ws.Event, now mono.Time) {
	if c.phase == closing {
		c.await(forEnd, now, time.Second) // the server closes the connection first (RFC 6455 7.1.1)
		return
	}
	code := ev.Code
	if code == ws.CloseNoStatus {
		code = ws.CloseNormal
	}
	c.frame(e, ws.OpClose, ws.AppendClosePayload(nil, code, ""))
	c.broken(e, now, &ServerClosed{ev.Code, string(ev.Payload)})
	e.Hangup = true
}

// Broke tells the client that its connection is gone.
func (c *Client) Broke(e *Env, now mono.Time, err error) {
	switch c.phase {
	case ashore:
	case dialing, shaking:
		c.refused(e, now, err)
	case closing:
		c.end(e, now)
	default:
		c.broken(e, now, err)
	}
}

func (c *Client) refused(e *Env, now mono.Time, err error) {
	e.counts().Refused++
	e.Refused++
	e.event(c, now, logbook.Refused, noRoom, e.note("refused", err))
	c.land()
}

func (c *Client) broken(e *Env, now mono.Time, err error) {
	e.counts().Broken++
	e.event(c, now, logbook.Broke, noRoom, e.note("broken", err))
	e.Ledger.Break(c.id, now)
	c.land()
}

func (c *Client) malformed(e *Env, now mono.Time, err error) {
	e.counts().Malformed++
	var violated *wire.ProtocolError
	if errors.As(err, &violated) && violated.Code != 0 {
		c.frame(e, ws.OpClose, ws.AppendClosePayload(nil, violated.Code, ""))
	}
	c.broken(e, now, err)
	e.Hangup = true
}

func (c *Client) end(e *Env, now mono.Time) {
	e.counts().Finished++
	e.event(c, now, logbook.WentHome, noRoom, "")
	c.land()
}

func (c *Client) land() {
	c.phase, c.wait, c.deadline, c.pending = ashore, forNothing, mono.Never, nil
}

// Ebb asks the client to go: it finishes its session from after its repeats,
// and says goodbye.
func (c *Client) Ebb(e *Env, now mono.Time) {
	if c.phase == ashore || c.ebbing {
		return
	}
	c.ebbing = true
	switch {
	case c.phase < open:
		e.Hangup = true
		c.end(e, now)
	case c.wait == forTime && c.depth > 0:
		c.leaveRepeats()
		c.run(e, now)
	case c.wait == forTime:
		c.carryOn(e, now)
	}
}

// Tick tells the client that its deadline has come.
func (c *Client) Tick(e *Env, now mono.Time) {
	switch c.wait {
	case forOpen:
		c.refused(e, now, errors.New("no agreement in time"))
		e.Hangup = true
	case forTitle:
		c.title = titleRefused
		c.denied(e, now)
	case forExpected:
		e.counts().Missed++
		e.event(c, now, logbook.Missed, noRoom, e.note("missed", errors.New(c.step().Label)))
		c.resume(e, now)
	case forEntry:
		c.denied(e, now)
	case forLeave:
		c.resume(e, now) // it stays at the edge: allowed, not owed
	case forTime:
		c.carryOn(e, now)
	case forClose:
		e.note("goodbye", errors.New("no answer to the close frame"))
		fallthrough
	case forEnd:
		e.Hangup = true
		c.end(e, now)
	default:
		c.deadline = mono.Never
	}
}

// ServerClosed is why a connection broke that the server ended in order.
type ServerClosed struct {
	Code   uint16
	Reason string
}
