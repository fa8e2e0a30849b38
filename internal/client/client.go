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
	"strings"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
	"tidepull/internal/trial/expr"
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
	came     bool // it ended, after it had set out
	expected bool // the message at hand was what an expect waited for

	more    *extra // what few clients need; nil if this one does not
	name    []byte
	session *trial.Session
	random  uint64
	began   mono.Time // when that wait began
	// clock is where the script would be if it were followed without any delay of
	// the tool: what is said next is due then. Waiting for the server moves it to
	// when that was over, a pause by its length, a turn of a repeat
	// to the turn's time.
	clock mono.Time
	turns [trial.MaxNesting]turn
	n     int32 // in its crew
	sent  uint32
	room  ledger.Room
	asked ledger.Room // the room that an answer is awaited for
	pc    int32
}

// extra is what a client has that uses more of the language than most do.
type extra struct {
	locals []expr.Value // what it captured
	web    web
	past   *pastWatch
	feeds  map[feedKey]int64 // the last number of each part of a feed
	joined uint64            // 1 more than the number of the notice that it is entering
	resume mono.Time         // when it reads on; 0: it is reading
	perSec int               // how many bytes it reads in a second; 0: as fast as they come
	silent bool              // it does not answer pings
	inbox  inbox
	slow   int32 // 1 more than the index of the step that has it read slowly; 0: it does not
}

func (c *Client) extra() *extra {
	if c.more == nil {
		c.more = &extra{}
	}
	return c.more
}

// A turn is the state of one repeat that is under way.
type turn struct {
	start mono.Time // of the first turn; of the last one, where intervals vary
	round int32
	at    int32 // the index of the repeat's step
}

type phase uint8

const (
	idle    phase = iota // not begun, or over
	started              // and not connected
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
	forAnswer // to an HTTP request
	forBreak  // to be closed by the server
	forTime
	forOthers // at a barrier
	forBreath // so that a session without waits does not hold up the others
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
	closeAfter             = 5 * time.Second // how long the other side may take to close
)

// New makes the n-th client of a crew, with its number in the run.
func (e *Env) New(id ledger.Client, crew uint16, n int32) Client {
	cr := &e.Trial.Crews[crew]
	c := Client{id: id, crew: crew, n: n, session: cr.Session, deadline: mono.Never, room: noRoom}
	c.random = mix(e.Trial.Seed ^ uint64(id)*0x9e3779b97f4a7c15)
	c.fill(e)
	c.name = cr.Title.Append(nil, &e.scope)
	e.bears(string(c.name), id)
	return c
}

// Name is the client's name.
func (c *Client) Name() string { return string(c.name) }

// Next is when Tick is to be called.
func (c *Client) Next() mono.Time {
	if c.more != nil && c.more.resume != 0 {
		return min(c.deadline, c.more.resume)
	}
	return c.deadline
}

// AwaitsServer reports whether Next is how long the server may take, and not when
// the client is to act.
func (c *Client) AwaitsServer() bool {
	switch c.wait {
	case forNothing, forTime, forOthers, forBreath:
		return false
	}
	return c.more == nil || c.more.resume == 0 || c.more.resume > c.deadline
}

// Traffic is how many messages the client has said, and how many marked ones
// it has received.
func (c *Client) Traffic() (sent, got uint32) { return c.sent, c.got }

// Idle reports whether the client is not connected and does not try to be.
func (c *Client) Idle() bool { return c.phase == idle }

// Open reports whether the client's connection is agreed on and not being closed.
func (c *Client) Open() bool { return c.phase == open }

// fill sets the variables that expressions see to this client's.
func (c *Client) fill(e *Env) {
	s := &e.scope
	v := &s.Vars
	groups := max(1, e.Trial.Crews[c.crew].Groups)
	v[expr.VarN] = expr.Num(float64(c.n))
	v[expr.VarGroup], v[expr.VarPlace] = expr.Num(float64(int(c.n)/groups)), expr.Num(float64(int(c.n)%groups))
	v[expr.VarName] = expr.Value{Kind: expr.String, Str: c.name}
	v[expr.VarCrew] = expr.Value{Kind: expr.String, Str: e.crewNames[c.crew]}
	v[expr.VarRoom] = expr.Value{}
	if c.room != noRoom {
		v[expr.VarRoom] = expr.Value{Kind: expr.String, Str: e.roomName(c.room)}
	}
	v[expr.VarMark], v[expr.VarMarkBytes], v[expr.VarTo], v[expr.VarPayload] = expr.Value{}, expr.Value{}, expr.Value{}, expr.Value{}
	v[expr.VarRound] = expr.Num(0)
	if c.depth > 0 {
		v[expr.VarRound] = expr.Num(float64(c.turns[c.depth-1].round))
	}
	s.Locals = nil
	if c.more != nil {
		s.Locals = c.more.locals
	}
	s.Random, s.Now = &c.random, e.wall(e.now)
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

// Start makes a client that is idle set out.
func (c *Client) Start(e *Env, now mono.Time) {
	e.now = now
	e.setsOut(c)
	c.pc, c.depth, c.ebbing, c.title, c.room = 0, 0, false, untitled, noRoom
	c.reader, c.more = ws.Reader{}, nil
	c.drop(e)
	c.phase, c.clock = started, now
	e.counts().Started++
	e.event(c, now, logbook.SetOut, noRoom, "")
	c.run(e, now)
}

func (c *Client) await(w wait, now mono.Time, within time.Duration) {
	c.wait, c.began, c.deadline = w, now, now.Add(within)
}

// connect begins to connect.
func (c *Client) connect(e *Env, now mono.Time, s *trial.Step) {
	c.phase, c.title = dialing, untitled
	c.drop(e)
	c.reader = ws.Reader{}
	c.await(forOpen, now, s.Within)
	e.Dial = true
}

// nonce is the 16 bytes of the handshake's key; it follows from when the client
// began to connect.
func (c *Client) nonce(e *Env) (k [16]byte) {
	seed := mix(e.Trial.Seed^uint64(c.id)) ^ uint64(c.began)
	a, b := mix(seed^1), mix(seed^2)
	for i := range 8 {
		k[i], k[i+8] = byte(a>>(8*i)), byte(b>>(8*i))
	}
	return k
}

// offer is what the opening handshake offers.
func (c *Client) offer(e *Env) (o ws.Offer) {
	if d := c.step().Dial; d != nil {
		c.fill(e)
		for _, f := range c.fields(e, d.Fields) {
			if strings.EqualFold(f.Name, "Sec-WebSocket-Protocol") {
				for _, p := range strings.Split(f.Value, ",") {
					o.Protocols = append(o.Protocols, strings.TrimSpace(p))
				}
			}
		}
	}
	return o
}

// Opened tells the client that its connection is open.
func (c *Client) Opened(e *Env, now mono.Time) {
	e.now = now
	c.phase = shaking
	path, d := e.Path, c.step().Dial
	var fields []http1.Field
	if d != nil {
		c.fill(e)
		if d.Path != nil {
			path = target(string(d.Path.Append(nil, &e.scope)))
		}
		fields = c.fields(e, d.Fields)
	}
	if c.more != nil {
		if cookies := c.more.web.cookies(); cookies != "" {
			fields = append(fields, http1.Field{Name: "Cookie", Value: cookies})
		}
	}
	e.Out = ws.AppendRequest(e.Out, e.Host, path, ws.KeyFor(c.nonce(e)), fields...)
	if d != nil && d.Early != nil {
		c.sayUnheard(e, now, d.Early)
	}
}

// Data gives the client bytes that arrived in the kernel at an instant.
func (c *Client) Data(e *Env, b []byte, at, now mono.Time) {
	e.now = now
	c.throttle(e, len(b), now)
	e.counts().Bytes += int64(len(b))
	if c.more == nil || c.more.perSec == 0 { // else it reads late on purpose
		e.Book.Now().ReadingLag.Record(now.Sub(at))
	}
	waited := len(c.pending) > 0
	if waited {
		if !c.hold(e, len(b), now) {
			return
		}
		c.pending = append(c.pending, b...)
		b = c.pending
	}
	before := c.reader.Held()
	n := c.consume(e, b, at, now)
	e.held += c.reader.Held() - before
	switch rest := b[n:]; {
	case c.phase == idle || c.phase == started:
		c.drop(e)
	case len(rest) == 0:
		e.held -= len(c.pending)
		c.pending = nil
	case waited && n == 0: // all of it waits for more; it is not copied onto itself
	case waited:
		e.held -= n
		c.pending = append(c.pending[:0], rest...)
	case c.hold(e, len(rest), now):
		c.pending = append(c.pending[:0], rest...)
	}
	if e.held > maxHeld && c.phase == open && c.reader.Held() > 0 {
		c.malformed(e, now, tooMuchHeld)
		c.drop(e)
	}
}

// maxHeld bounds what all clients of a loop together hold of messages that have
// come in part.
const maxHeld = 128 << 20

var tooMuchHeld = &wire.ProtocolError{Protocol: "websocket", Rule: "all clients together hold 128 MiB of messages that are not whole yet", Section: "RFC 6455 7.4.1", Code: ws.CloseTooBig}

// hold takes on n more bytes of a message that has come in part; false means
// that the bound was hit and the connection is being closed for it.
func (c *Client) hold(e *Env, n int, now mono.Time) bool {
	if e.held += n; e.held <= maxHeld {
		return true
	}
	e.held -= n
	if c.phase == dialing || c.phase == shaking {
		c.refused(e, now, tooMuchHeld)
		e.Hangup = true
	} else if c.phase == open {
		c.malformed(e, now, tooMuchHeld)
	}
	c.drop(e)
	return false
}

// drop lets go of what has come in part.
func (c *Client) drop(e *Env) {
	e.held -= len(c.pending) + c.reader.Held()
	c.pending, c.reader = nil, ws.Reader{}
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
	for err == nil && n > 0 && h.Status/100 == 1 && h.Status != 101 { // on its way (RFC 9110 15.2)
		var more int
		if h, more, err = http1.ConsumeResponse(b[n:]); more == 0 && err == nil {
			return 0
		}
		n += more
	}
	if err == nil && n == 0 {
		return 0
	}
	if err == nil {
		err = ws.CheckResponse(&h, ws.KeyFor(c.nonce(e)), c.offer(e))
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
	c.sayTitle(e, now)
	c.resume(e, now)
	return n
}

func (c *Client) event(e *Env, ev ws.Event, at, now mono.Time, more bool) {
	switch ev.Op {
	case ws.OpText, ws.OpBinary:
		c.message(e, ev.Payload, ev.Op == ws.OpBinary, more, at, now)
	case ws.OpPing:
		if c.more != nil && c.more.silent {
			return
		}
		e.counts().Pings++
		e.lane(c, now, lane.Record{What: lane.Beat, Peer: -1, Room: noRoom})
		// Only the latest ping needs an answer (RFC 6455 5.5.3): a server that
		// does not read is not sent more of them.
		if e.Queued == nil || e.Queued(c.id) < maxPongs {
			c.frame(e, ws.OpPong, ev.Payload)
		}
	case ws.OpClose:
		c.gotClose(e, ev, now)
	}
}

// maxPongs is how many bytes may wait to be sent before pings are no longer
// answered.
const maxPongs = 64 << 10

// frame sends one frame, masked with random bytes (RFC 6455 5.3).
func (c *Client) frame(e *Env, op byte, payload []byte) {
	r := c.rand()
	e.Out = ws.AppendMasked(e.Out, op, payload, [4]byte{byte(r), byte(r >> 8), byte(r >> 16), byte(r >> 24)})
}

// gotClose handles a close frame: the answer to ours, or the server's own.
func (c *Client) gotClose(e *Env, ev ws.Event, now mono.Time) {
	if c.phase == closing {
		if c.wait == forClose { // further close frames change nothing
			e.Ledger.Break(c.id, now)
			c.await(forEnd, now, time.Second) // the server closes the connection first (RFC 6455 7.1.1)
		}
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
	e.now = now
	switch c.phase {
	case idle, started:
	case dialing, shaking:
		c.refused(e, now, err)
	case closing:
		c.closed(e, now)
	default:
		c.broken(e, now, err)
	}
}

func (c *Client) refused(e *Env, now mono.Time, err error) {
	if lack := e.shortage(err, now); lack != nil {
		e.event(c, now, logbook.Hindered, noRoom, e.note("not opened", lack))
		c.land(e, now)
		return
	}
	e.counts().Refused++
	e.Refused++
	e.event(c, now, logbook.Refused, noRoom, e.note("refused", err))
	c.land(e, now)
}

// broken handles the end of an open connection. A session that waits for it
// goes on; otherwise there is nothing more to do.
func (c *Client) broken(e *Env, now mono.Time, err error) {
	awaited, slow := c.wait == forBreak, c.more != nil && c.more.slow > 0
	c.gone(e, now)
	e.Ledger.Break(c.id, now)
	c.room = noRoom
	if !awaited && !slow {
		e.counts().Broken++
		e.event(c, now, logbook.Broke, noRoom, e.note("broken", err))
		e.Lanes.Problem(e.since(now), 0, false, c.id)
		c.land(e, now)
		return
	}
	e.counts().Evicted++
	e.event(c, now, logbook.Evicted, noRoom, e.note("evicted", err))
	if !awaited { // a slow reader's own doing: the session ends as planned
		e.check(c, now, c.session.Steps[c.more.slow-1].Check, true, "")
		c.end(e, now)
		return
	}
	c.offline(e, now)
	c.more.silent = false
	e.check(c, now, c.step().Check, true, "")
	c.resume(e, now)
}

// offline ends a connection in the middle of a session, which may connect again.
func (c *Client) offline(e *Env, now mono.Time) {
	c.phase, c.title = started, untitled
	c.drop(e)
	c.readOn(e, now, 0)
}

// closed handles the end of a connection that the client closed in order.
func (c *Client) closed(e *Env, now mono.Time) {
	e.Ledger.Break(c.id, now)
	if int(c.pc) < len(c.session.Steps) && c.step().Do == trial.Close && !c.ebbing {
		c.offline(e, now)
		e.event(c, now, logbook.Closed, noRoom, "")
		c.resume(e, now)
		return
	}
	c.end(e, now)
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
	e.event(c, now, logbook.Closed, noRoom, "")
	c.land(e, now)
}

func (c *Client) land(e *Env, now mono.Time) {
	c.readOn(e, now, 0)
	c.drop(e)
	if c.more != nil && (c.more.web.open || c.more.web.busy) {
		e.WebHangup = true
	}
	if c.more != nil {
		e.held -= c.more.web.size()
	}
	c.phase, c.wait, c.deadline, c.more = idle, forNothing, mono.Never, nil
	e.landed(c)
}

// Ebb asks the client to go: it finishes its session from after its repeats,
// and closes.
func (c *Client) Ebb(e *Env, now mono.Time) {
	e.now = now
	if c.phase == idle || c.ebbing {
		return
	}
	c.ebbing = true
	c.clock = max(c.clock, now)
	switch {
	case c.phase == dialing || c.phase == shaking:
		e.Hangup = true
		c.end(e, now)
	case c.wait != forTime && c.wait != forOthers:
	case c.depth > 0:
		c.leaveRepeats(e)
		c.run(e, now)
	default:
		c.carryOn(e, now)
	}
}

// Go tells a client that waits at a barrier that all are there.
func (c *Client) Go(e *Env, now mono.Time) {
	e.now = now
	if c.wait == forOthers {
		e.check(c, now, e.Trial.Barriers[c.step().Barrier].Check, true, "")
		c.resume(e, now)
	}
}

// Tick tells the client that its deadline has come.
func (c *Client) Tick(e *Env, now mono.Time) {
	e.now = now
	if c.more != nil && c.more.resume != 0 && c.more.resume <= now {
		c.more.resume = 0
		e.Read = true
		if c.deadline > now {
			return
		}
	}
	switch c.wait {
	case forOpen:
		c.refused(e, now, errors.New("no agreement in time"))
		e.Hangup = true
	case forTitle:
		c.title = titleRefused
		c.denied(e, now, "its name was not confirmed in time")
	case forExpected:
		c.unmet(e, now)
	case forEntry:
		c.notEntered(e, now, "its room was not confirmed in time", false)
	case forLeave:
		c.resume(e, now) // it stays at the edge: allowed, not owed
	case forAnswer:
		c.unanswered(e, now, errors.New("no answer in time"))
	case forBreak:
		e.check(c, now, c.step().Check, false, "the connection is still open")
		c.resume(e, now)
	case forTime:
		c.clock = max(c.clock, c.deadline)
		c.carryOn(e, now)
	case forOthers:
		e.leaveBarrier(c)
		e.check(c, now, e.Trial.Barriers[c.step().Barrier].Check, false, "the others have not come in time")
		c.resume(e, now)
	case forBreath:
		c.run(e, now)
	case forClose:
		e.note("close", errors.New("no answer to the close frame"))
		fallthrough
	case forEnd:
		e.Hangup = true
		c.closed(e, now)
	default:
		c.deadline = mono.Never
	}
}

// Cut ends a client that is still there when the run has to be over.
func (c *Client) Cut(e *Env, now mono.Time) {
	e.now = now
	if c.phase == idle {
		return
	}
	e.note("cut off", errors.New("still there at the end of the run"))
	e.Ledger.Cease(c.id, now)
	e.Ledger.Break(c.id, now)
	e.Hangup = true
	c.end(e, now)
}

// Overrun ends a client whose server takes nothing of what is sent to it, once
// more waits than may.
func (c *Client) Overrun(e *Env, now mono.Time, whose string) {
	e.now = now
	if c.phase != open && c.phase != closing {
		return
	}
	e.Hangup = true
	c.broken(e, now, errors.New("the server does not read: "+whose))
}

// ServerClosed is why a connection broke that the server ended in order.
type ServerClosed struct {
	Code   uint16
	Reason string
}
