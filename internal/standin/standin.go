// Package standin is the simulated messaging server that ships with the tool:
// the harbour board on one goroutine with one driver. It serves tens of
// thousands of clients and costs little, because it shares the machine with the
// load.
//
//	GET  /live              WebSocket; a line of JSON at once, and it is plain TCP lines;
//	                        datagrams come to the same port
//	GET  /stream?room=R     the room's messages as an event stream
//	POST /login             a form with user and password; sets a cookie
//	POST /token             the same, answered by a token
//	GET  /guest             sets a guest's cookie
//	POST /publish           puts a notice on the board: JSON with room and text
//	GET  /publish           the same, with room and text as its query
//	GET  /history?room=R    what is kept of a room, JSON
//	GET  /counters          how much is kept, and who is here, JSON
//	GET  /truth             totals and latencies, JSON
//	GET  /truth/messages    every message received, JSON lines
//	GET  /truth/deliveries  every delivery made or left out, JSON lines
//	GET  /switches          how the switches stand, JSON
//	POST /switches?lose=0.1 sets switches
package standin

import (
	"bytes"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"math"
	"net/netip"
	"time"

	"tidepull/internal/base/due"
	"tidepull/internal/base/mono"
	"tidepull/internal/engine/poll"
	"tidepull/internal/engine/secure"
	"tidepull/internal/standin/board"
	"tidepull/internal/wire"
	"tidepull/internal/wire/ws"
)

// Config says how a stand-in behaves. Zero values get the defaults named.
type Config struct {
	Listen     netip.AddrPort // 127.0.0.1 with a free port
	Switches   board.Switches
	PingEvery  time.Duration // 5 s
	PollFor    time.Duration // how long a poll may wait for something: 20 s
	PongWithin time.Duration // how long a client may be silent after a ping: 10 s
	History    int           // 20; below 0 for none
	Presence   time.Duration // 200 ms
	MaxQueue   int           // bytes that may wait for a slow client: 4 MiB
	Records    int           // messages and deliveries kept one by one: 500,000; below 0 for none
	Login      bool          // nobody comes in without a cookie or a token
	Origins    []string      // from which browsers may come; empty: any
	Denied     []string      // rooms for the harbour master alone: harbour-office
	Notices    bool          // tell a room's members who enters and who leaves
	LeaveOut   bool          // the sender of a notice does not get it
	Share      bool          // several connections may have one name
	MaxText    int           // bytes of a text: 1 MiB
	Resume     time.Duration // how long a client may come back by its token; 0: it may not
	Gauge      time.Duration // how often rooms called gauge-... get a reading: 1 s
	Store      string        // the SQLite file in which notices are kept; "" for memory
	Manners    Manners
	Framing    wire.Framing // of what clients say over TCP, without HTTP: lines if it is not given
	Deflate    bool         // take permessage-deflate if a client offers it
	TLS        *tls.Config  // for clients that begin with it; nil: none may
	Portable   bool         // use the portable driver
	Log        *slog.Logger
}

// Manners are those of servers that differ from the harbour board's own.
type Manners struct {
	board.Manners
	Beat  bool   // clients are asked for a sign of life in a message, and not by a ping
	Shape string // one of Shapes, over WebSocket
	// What goes to a client within a turn shares a frame: "lines", or "list", a JSON object
	// with a list. Or it is cut into frames anywhere: "records", each ended by a byte 0, or
	// "sized", each behind its length in two bytes.
	Pack string
}

func (c Config) withDefaults() Config {
	set := func(v *time.Duration, d time.Duration) {
		if *v == 0 {
			*v = d
		}
	}
	setInt := func(v *int, d int) {
		if *v == 0 {
			*v = d
		}
		*v = max(0, *v)
	}
	if !c.Listen.IsValid() {
		c.Listen = netip.MustParseAddrPort("127.0.0.1:0")
	}
	set(&c.PingEvery, 5*time.Second)
	set(&c.PongWithin, 10*time.Second)
	set(&c.PollFor, 20*time.Second)
	set(&c.Presence, 200*time.Millisecond)
	set(&c.Gauge, time.Second)
	if c.Denied == nil {
		c.Denied = []string{"harbour-office"}
	}
	setInt(&c.History, 20)
	setInt(&c.MaxText, 1<<20)
	setInt(&c.MaxQueue, 4<<20)
	setInt(&c.Records, 500_000)
	if c.Log == nil {
		c.Log = slog.New(slog.DiscardHandler)
	}
	return c
}

// A Server is a running stand-in.
type Server struct {
	Addr      netip.AddrPort
	Datagrams netip.AddrPort // the same, unless somebody else has that port
	loop      *loop
	orders    chan func(*loop)
	done      chan struct{}
	err       error
}

// Start begins to serve. Stop ends it.
func Start(cfg Config) (*Server, error) {
	newDriver := poll.New
	if cfg.Portable {
		newDriver = poll.NewPortable
	}
	sockets, err := newDriver()
	if err != nil {
		return nil, err
	}
	drv := poll.Driver(sockets)
	if cfg.TLS != nil {
		drv = secure.New(drv, secure.Config{Server: cfg.TLS})
	}
	s, err := Listen(cfg, drv)
	if err != nil {
		drv.Close()
		return nil, err
	}
	go s.Serve()
	return s, nil
}

// Listen makes a stand-in that listens and does not serve yet. It takes the
// driver over.
func Listen(cfg Config, drv poll.Driver) (*Server, error) {
	cfg = cfg.withDefaults()
	at, err := drv.Listen(cfg.Listen)
	if err != nil {
		return nil, err
	}
	udp, err := drv.ListenDatagrams(at)
	if err != nil && cfg.Listen.Port() == 0 { // somebody else has that port; TCP alone may have it
		udp, err = drv.ListenDatagrams(netip.AddrPortFrom(at.Addr(), 0))
	}
	if err != nil {
		return nil, err
	}
	s := &Server{Addr: at, Datagrams: udp, orders: make(chan func(*loop), 4), done: make(chan struct{})}
	s.loop = &loop{cfg: cfg, drv: drv, orders: s.orders, visits: map[string]*visit{},
		upgrades: map[string]int{}, awaited: map[string]int32{}}
	if cfg.Store != "" {
		if s.loop.keep, err = openKeep(cfg.Store); err != nil {
			return nil, err
		}
	}
	s.loop.board = s.loop.newBoard()
	return s, nil
}

// Serve serves until Stop is called. It is called once.
func (s *Server) Serve() {
	defer close(s.done)
	defer s.loop.drv.Close()
	s.err = s.loop.run()
	if s.loop.keep != nil {
		s.err = errors.Join(s.err, s.loop.keep.close())
	}
}

// Summary is the truth in figures, once the server has ended.
func (s *Server) Summary() board.Summary {
	<-s.done
	return s.loop.board.Summary()
}

// URL is the WebSocket address of the stand-in.
func (s *Server) URL() string {
	if s.loop.cfg.TLS != nil {
		return fmt.Sprintf("wss://%v/live", s.Addr)
	}
	return fmt.Sprintf("ws://%v/live", s.Addr)
}

// Stop closes all connections and ends the server.
func (s *Server) Stop() error {
	select {
	case s.orders <- (*loop).close:
	case <-s.done:
	}
	<-s.done
	return s.err
}

// A loop owns the server's state; all fields belong to its goroutine.
type loop struct {
	cfg     Config
	drv     poll.Driver
	board   *board.Board
	conns   []conn
	orders  <-chan func(*loop)
	looked  int // how far the last look for silent clients came
	closing mono.Time
	packing []int32 // connections with packed messages
	overrun []int32
	pong    []byte
	keep    *keep
	guests  int

	flater        ws.Flater
	upgrades      map[string]int    // tried by each client that says who it is
	visits        map[string]*visit // by what the client calls itself
	byMember      []*visit          // by half its number on the board; nil: free
	freeVisits    []int32           // numbers on the board
	ready         []*visit          // those that have something to get
	overrunVisits []*visit
	stalled       []stalled // by time
	dues          due.Queue[beat]
	lives         uint64

	awaited   map[string]int32 // the connections that wait for datagrams, by what those must say
	tokens    int
	hoard     [][]byte  // of clients that have gone, by the switch hoard
	downUntil mono.Time // nobody gets in until then, by a restart on request
	admits    mono.Time // when the next client is let in, by the switch slow_accept
	cut       []int32   // connections that are cut once the turn is over
	said      int
	urgent    bool // what is said at the moment came in a datagram
}

type conn struct {
	state   connState
	speaks  speech
	room    string // of an event stream
	reader  ws.Reader
	pending []byte
	heard   mono.Time   // when anything last came from it
	pinged  mono.Time   // when it was last pinged
	asked   mono.Time   // when it was, since it gave a sign of life, for the first time; 0: it has
	opened  mono.Time   // when it came in
	life    uint64      // tells it from others that had its number
	packed  [][]byte    // messages that will share a frame
	visit   *visit      // that has a request waiting on it; nil: none
	beside  *visit      // of the client that wants to change over to it; nil: none
	packs   *ws.Deflate // its messages are compressed; nil: they are not
	said    *ws.Past    // that the next message to it may refer to; nil: none
	stalled *request    // that is answered later
	spoke   mono.Time   // when anything was last sent
	// of a client with datagrams beside its connection: where the other half is, plus 1
	twin int32
}

type connState uint8

const (
	free connState = iota
	greeting
	live
	stalling // what lets it in is answered later
	leaving  // a close frame was sent, or an HTTP answer
)

// speech is how a live connection's messages are framed.
type speech uint8

const (
	inFrames  speech = iota // WebSocket
	inLines                 // one JSON object a line
	inEvents                // an event stream
	inAnswers               // of a visit
	inDatagrams
)

// lookEvery is how often a part of the connections is looked at for silence.
const lookEvery = 50 * time.Millisecond

func (l *loop) run() error {
	nextLook := l.drv.Now()
	for l.closing == 0 || l.drv.Now() < l.closing && l.anyone() {
		now := l.drv.Now()
		select {
		case order := <-l.orders:
			order(l)
		default:
		}
		l.board.Tick(now)
		if now >= nextLook {
			nextLook = now.Add(lookEvery)
			l.lookForSilence(now)
			l.lookAfterVisits(now)
			if l.keep != nil {
				if err := l.keep.flush(); err != nil {
					return fmt.Errorf("keeping notices: %w", err)
				}
			}
		}
		l.unpack()
		l.beat(now)
		l.letStalledIn()
		l.serveVisits()
		l.dropOverrun()
		if err := l.drv.Wait(min(nextLook, l.board.Next(), l.nextStalled(), l.dues.Next()), l); err != nil {
			return err
		}
	}
	return nil
}

func (l *loop) anyone() bool {
	for i := range l.conns {
		if l.conns[i].state != free {
			return true
		}
	}
	return false
}

// close closes all connections, and gives them a second to answer.
func (l *loop) close() {
	l.closing = l.drv.Now().Add(time.Second)
	for id := range l.conns {
		s := l.board.Switches()
		if l.conns[id].state == live && s.Meets(s.RudeGoodbye, "rude goodbye", l.called(int32(id))) {
			l.part(int32(id))
			l.conns[id] = conn{}
			l.drv.Abort(int32(id))
			continue
		}
		if l.conns[id].state == live {
			l.sayClose(int32(id), ws.CloseGoingAway, "the board closes")
		}
	}
}

// lookForSilence lets those go that have not said in time what they want, and cuts what is
// idle. Each call looks at the share of the connections that makes the round once a second.
func (l *loop) lookForSilence(now mono.Time) {
	share := int(time.Second / lookEvery)
	for range len(l.conns)/share + 1 {
		if l.looked++; l.looked >= len(l.conns) {
			l.looked = 0
		}
		if l.looked >= len(l.conns) {
			return
		}
		c := &l.conns[l.looked]
		id := int32(l.looked)
		if l.cutIdle(id, c, now) {
			continue
		}
		switch {
		case c.state == greeting && now.Sub(c.heard) > l.cfg.PongWithin:
			l.drop(id)
		case c.state != live:
		case c.speaks == inDatagrams && c.twin == 0 && now.Sub(c.heard) > datagramsWithin:
			l.board.Truth.Totals.Evicted++
			l.drop(id)
		}
	}
}

func (l *loop) sayClose(id int32, code uint16, reason string) {
	if l.conns[id].speaks != inFrames {
		l.drop(id)
		return
	}
	l.drv.Write(id, ws.AppendFrame(nil, ws.OpClose, ws.AppendClosePayload(nil, code, reason)))
	l.part(id)
	l.conns[id].state = leaving
}

// Close implements board.Out.
func (l *loop) Close(who int32, code uint16, reason string) {
	if isVisit(who) {
		l.overrunVisits = append(l.overrunVisits, l.byMember[who/2])
		return
	}
	l.unpack() // what was said before comes before
	l.sayClose(who/2, code, reason)
}

// Hangup implements board.Out.
func (l *loop) Hangup(who int32) {
	if isVisit(who) {
		l.overrunVisits = append(l.overrunVisits, l.byMember[who/2])
		return
	}
	l.unpack()
	l.drop(who / 2)
}

func (l *loop) part(id int32) {
	switch c := &l.conns[id]; {
	case c.speaks == inDatagrams && c.twin != 0: // the client is its other half
		l.untwin(id)
	case c.state != live || c.beside != nil:
	case c.visit != nil:
		v := c.visit
		c.visit = nil
		l.visitorLost(v)
	case c.speaks != inAnswers:
		l.untwin(id)
		l.board.Part(member(id))
	}
}

// drop closes a connection once what is queued is sent.
func (l *loop) drop(id int32) {
	l.part(id)
	l.hoards()
	l.conns[id] = conn{}
	l.drv.CloseWhenFlushed(id)
}

// dropOverrun drops, outside the relay, those with a queue that was found full, or that are to be
// cut.
func (l *loop) dropOverrun() {
	t := &l.board.Truth.Totals
	for _, some := range []struct {
		ids   *[]int32
		count *int64
	}{{&l.overrun, &t.Overrun}, {&l.cut, &t.CutOff}} {
		for _, id := range *some.ids {
			if l.conns[id].state == live {
				*some.count++
				l.hangUp(id)
			}
		}
		*some.ids = (*some.ids)[:0]
	}
}

// hoards keeps memory of a client that goes, as the switch has it.
func (l *loop) hoards() {
	if n := l.board.Switches().Hoard; n > 0 {
		l.board.Truth.Totals.Hoarded += int64(n)
		l.hoard = append(l.hoard, bytes.Repeat([]byte{1}, n)) // it is written, so the system has to give it
	}
}

// hangUp closes a connection at once.
func (l *loop) hangUp(id int32) {
	l.part(id)
	l.conns[id] = conn{}
	l.drv.Hangup(id)
}

// Now implements board.Out.
func (l *loop) Now() mono.Time { return l.drv.Now() }

// Frame implements board.Out.
func (l *loop) Frame(dst, payload []byte, binary bool) []byte {
	op := byte(ws.OpText)
	if binary {
		op = ws.OpBinary
	}
	return ws.AppendFrame(dst, op, payload)
}

// Queued implements board.Out.
func (l *loop) Queued(who int32) int {
	if !isVisit(who) {
		return l.drv.Queued(who / 2)
	}
	v := l.byMember[who/2]
	switch {
	case v == nil:
		return 0
	case v.waiting == noConn:
		return v.bytes
	}
	return v.bytes + l.drv.Queued(v.waiting)
}

// Recall implements board.Out.
func (l *loop) Recall(room string, most int) []board.Recalled {
	if l.keep == nil {
		return nil
	}
	all, err := l.keep.recall(room, most)
	if err != nil {
		l.cfg.Log.Error("the store of notices", "error", err)
	}
	return all
}

// maxQueue is how many bytes may wait for a client.
func (l *loop) maxQueue() int {
	if l.board.Switches().EndlessQueue > 0 {
		return math.MaxInt
	}
	return l.cfg.MaxQueue
}

// Keep implements board.Out.
func (l *loop) Keep(room string, seq int64, from, text []byte) {
	if l.keep != nil {
		l.keep.add(room, seq, from, text)
	}
}

// Send implements board.Out. What a slow client does not take is queued for it
// alone; nobody waits for it.
func (l *loop) Send(who int32, frame []byte) {
	if isVisit(who) {
		l.sendToVisit(who, payloadOf(frame))
		return
	}
	to := who / 2
	c := &l.conns[to]
	if c.state != live {
		return
	}
	c.spoke = l.drv.Now()
	if l.urgent && c.twin != 0 {
		if message := payloadOf(frame); len(message) <= maxDatagram {
			l.drv.Write(c.twin-1, l.inDatagram(message))
			return
		}
	}
	switch c.speaks {
	case inDatagrams:
		if message := payloadOf(frame); len(message) <= maxDatagram {
			l.drv.Write(to, l.inDatagram(message))
		}
	case inFrames:
		if shape := l.cfg.Manners.Shape; shape != "" && frame[0]&0xf == byte(ws.OpText) {
			frame = ws.AppendFrame(nil, ws.OpText, wrap(shape, payloadOf(frame)))
		}
		if l.cfg.Manners.Pack != "" && frame[0]&0xf == byte(ws.OpText) {
			l.pack(to, payloadOf(frame))
			return
		}
		l.drv.Write(to, l.deflated(c, frame))
	case inLines:
		l.drv.Write(to, l.cfg.Framing.Append(nil, payloadOf(frame)))
	case inEvents:
		l.drv.Write(to, append(append([]byte("data: "), payloadOf(frame)...), "\n\n"...))
	}
	if l.drv.Queued(to) > l.maxQueue() {
		l.overrun = append(l.overrun, to)
	}
}

// payloadOf returns a copy of what is in a frame that Frame made.
func payloadOf(frame []byte) []byte {
	head := 2
	switch frame[1] {
	case 126:
		head = 4
	case 127:
		head = 10
	}
	return append([]byte(nil), frame[head:]...)
}

// pack holds a message back, so that it shares a frame with the others of a turn.
func (l *loop) pack(to int32, payload []byte) {
	c := &l.conns[to]
	if len(c.packed) == 0 {
		l.packing = append(l.packing, to)
	}
	c.packed = append(c.packed, payload)
}

// cutPacks are the packs that are cut into frames anywhere, and how messages end in them.
var cutPacks = map[string]wire.Framing{"records": {Ends: "\x00"}, "sized": {Prefix: wire.Prefix2}}

// packedAs gives the frames in which some messages are sent together.
func packedAs(pack string, messages [][]byte) (frames []byte) {
	var body []byte
	switch pack {
	case "list":
		body = append(append([]byte(`{"kind":"several","items":[`), bytes.Join(messages, []byte(","))...), "]}"...)
	case "lines":
		body = bytes.Join(messages, []byte("\n"))
	}
	f, cut := cutPacks[pack]
	if !cut {
		return ws.AppendFrame(nil, ws.OpText, body)
	}
	for _, m := range messages {
		body = f.Append(body, m)
	}
	for size := 1; len(body) > 0; size = size*3%97 + 1 { // some frames end inside a message, or inside its length
		n := min(size, len(body))
		frames, body = ws.AppendFrame(frames, ws.OpBinary, body[:n]), body[n:]
	}
	return frames
}

// unpack sends what was held back.
func (l *loop) unpack() {
	for _, to := range l.packing {
		c := &l.conns[to]
		packed := c.packed
		c.packed = nil
		if c.state != live {
			continue
		}
		l.drv.Write(to, packedAs(l.cfg.Manners.Pack, packed))
		if l.drv.Queued(to) > l.maxQueue() {
			l.overrun = append(l.overrun, to)
		}
	}
	l.packing = l.packing[:0]
}
