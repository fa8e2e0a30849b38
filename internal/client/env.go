package client

import (
	"errors"
	"fmt"
	"net/netip"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/base/plain"
	"tidepull/internal/client/reading"
	"tidepull/internal/measure/excuse"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/mark"
	"tidepull/internal/trial"
	"tidepull/internal/trial/expr"
	"tidepull/internal/wire"
	"tidepull/internal/wire/transport"
	"tidepull/internal/wire/ws"
)

// An Env is what the clients of one loop share. It has one owner, the loop.
type Env struct {
	Fixed
	Owned
	Call
}

// Fixed is what is the same for the whole run.
type Fixed struct {
	Trial  *trial.Trial
	Names  *Names // of all clients
	Share  int    // which of the run's shares this is
	Shares int    // how many there are
	Run    uint32 // the run's number, for marks
	Epoch  int64  // what must be added to a mono.Time in microseconds to give a mark's time
	// Places are where clients connect to, by route. If there are several nodes client n
	// goes to the n-th of them, round and round.
	Places [][]Place
	Side   wire.Endpoint // where HTTP requests go
	Web    string        // for their Host field

	// Queued, if set, gives how many bytes to a client wait to be sent.
	Queued func(ledger.Client) int
	// Gone, if set, is poll.Driver.Gone of a client's connection.
	Gone func(ledger.Client) mono.Span
	// ReadUpTo, if set, is the time up to which what has come to the share's clients was
	// handed to them.
	ReadUpTo func() mono.Time
	// Doubtful, if set, reports whether the tool or its machine can be why something did not
	// happen from one instant to another; margin is how much later everything would have to
	// have been for that.
	Doubtful func(from, to mono.Time, margin time.Duration) bool
	// Hindered is called with what this machine lacks to open a connection.
	Hindered func(wire.Lack, mono.Time)

	crewNames [][]byte
	followed  map[ledger.Client]bool // the clients whose lanes are kept whole
	numbers   []bool                 // by crew: its clients say which message came last when they come back
	counting  []float64              // by crew: the share that sees whether numbers begin again, beside the first
	remembers []bool                 // by crew: its session has an expect that takes what has come already
	inRooms   bool                   // some rate is dealt out in rooms
	lateNames bool                   // the server learns a client's name when it enters a room
	types     trial.MessageTypes     // of what is said
	repeats   bool                   // what is said may hold its mark several times
}

// Owned is what the share knows of its clients, and of those of others as far as they have told.
type Owned struct {
	Book    *logbook.Book
	Reasons logbook.Reasons // why connections were refused or broke
	Said    []bool          // by number of a step: some client of the share has said what it says
	Fell    mono.Time       // when the tide sent a client home last; 0: it has not

	excuses    excuse.Store // what is in the way of the share's clients; of each cause the latest
	roomNames  [][]byte
	rooms      map[string]ledger.Room // numbers that the share gave
	spoken     uint64                 // messages of the share
	told       mono.Time              // when the last fact was told of
	gatherer   fact.Gatherer
	gathers    bool           // arrivals are told together
	opened     bool           // some connection was agreed on
	inRepeats  []level        // clients of each crew that are in a repeat, in all shares
	members    []level        // of each room, in all shares, if some rate is dealt out in rooms
	faults     []trial.Moment // that break the server
	unheard    unheard
	payloads   payloads
	readings   readings
	figures    figures
	unfinished int // bytes that all clients hold of messages that have not ended
	reader     *reading.Reader
	issued     map[int32]issued // by client: hides what the server gave to it

	// Buffers, each used by one thing at a time.
	scope     expr.Scope
	body      []byte
	short     []byte // for a name, a room or a mark
	to        []byte
	list      []byte
	payload   []byte
	markBytes []byte
}

// Call is whom a call of a client's method is about, and what it asks for, as well as the change of
// its Next. The loop takes that and clears it.
type Call struct {
	IO transport.IO
	// Beside is the same for a second transport that a client has while it changes its
	// route: its lines are those from transport.NumLines.
	Beside transport.IO
	// Facts are for the account, and Notes for the conductor and other shares.
	Facts fact.Log
	Notes []fact.Note

	// The client, and its parts: they know each other by these alone.
	c      *Client
	script *script
	path   *path
	pulse  *pulse
	judge  *judge
	now    mono.Time
	before int // how many facts there were
}

// A Place is somewhere to connect to.
type Place struct {
	To     wire.Endpoint
	Others []wire.Endpoint // more addresses of the same name; clients are dealt out to all of them
	Beside wire.Endpoint   // of datagrams beside it
	Host   string          // for the Host field
	Path   string
}

// nodeOf is which of a route's places a client connects to.
func (e *Env) nodeOf(c *Client, route uint8) int {
	if len(e.Places) == 0 {
		return 0
	}
	n := int(c.id)
	if c.path.rare != nil {
		n += int(c.path.rare.elsewhere)
	}
	return n % len(e.Places[route])
}

// placeOn is where a client connects to over a route.
func (e *Env) placeOn(route uint8) *Place {
	if len(e.Places) == 0 {
		return &Place{}
	}
	return &e.Places[route][e.nodeOf(e.c, route)]
}

// endpointOn is the address that a client connects to over a route.
func (e *Env) endpointOn(route uint8) wire.Endpoint {
	p := e.placeOn(route)
	if len(p.Others) > 0 {
		if k := int(e.c.id) / len(e.Places[route]) % (1 + len(p.Others)); k > 0 {
			return p.Others[k-1]
		}
	}
	return p.To
}

// fromOf is the address that a client connects from; zero: the system picks one.
func (e *Env) fromOf() netip.Addr {
	if all := e.Trial.Target.From; len(all) > 0 {
		return all[int(e.c.id)%len(all)]
	}
	return netip.Addr{}
}

// routeOf is the route that a client takes.
func (e *Env) routeOf() *trial.Route { return e.Trial.Target.Route(e.c.Route()) }

// At is a target with one route and one node.
func At(to wire.Endpoint, host, path string) [][]Place {
	return [][]Place{{{To: to, Host: host, Path: path}}}
}

// halfCounting is half of how many clients of each crew see whether the numbers of rooms begin
// again after a return: for that each message is read that comes to them, and to read all would
// cost much of the loop. One half are the first of the crew and the other is spread evenly, as
// clients are dealt out to rooms round and round, or room by room.
const halfCounting = 128

// countsNumbers reports whether a client sees whether numbers begin again.
func (e *Env) countsNumbers() bool {
	share := e.counting[e.c.crew]
	return share > 0 && (e.c.n < halfCounting || trial.InShare(share, int(e.c.n)))
}

// NewEnv makes the surroundings of a share's clients.
func NewEnv(t *trial.Trial, names *Names, b *logbook.Book) *Env {
	e := &Env{Fixed: Fixed{Trial: t, Names: names, followed: map[ledger.Client]bool{},
		Hindered: func(wire.Lack, mono.Time) {}}, Owned: Owned{Book: b, rooms: map[string]ledger.Room{}}}
	steps := 0
	for _, s := range t.Sessions() {
		steps += len(s.Steps)
	}
	e.Said = make([]bool, steps)
	e.reader = reading.New(t, &e.scope)
	e.excuses.Horizon = mono.Never // all that is asked is whether something was in the way since a time
	e.inRepeats = make([]level, len(t.Crews))
	e.figures.values, e.figures.upTo = make([]float64, len(t.Asserted)), -1
	for _, c := range Followed(t) {
		e.followed[c] = true
	}
	for _, c := range t.Crews {
		e.crewNames = append(e.crewNames, []byte(c.Name))
		e.remembers = append(e.remembers, c.Session.Remembers())
		counting := 0.0
		if c.Return != nil && t.Dialect.Heard.Seq != nil {
			counting = min(1, halfCounting/float64(c.Clients))
		}
		e.counting = append(e.counting, counting)
		e.numbers = append(e.numbers, c.Return != nil && c.Return.Resume.Uses(expr.VarLast))
		for k := range c.Session.Steps {
			s := &c.Session.Steps[k]
			e.repeats = e.repeats || s.MarksTwice()
			e.inRooms = e.inRooms || s.Repeat != nil && s.Repeat.Shared == trial.PerRoom
		}
	}
	e.gathers = gathers(t)
	e.faults = t.Moments(func(*trial.Fault) bool { return true })
	d := &t.Dialect
	e.types = t.MessageTypes()
	e.lateNames = d.Naming.Send == nil && d.Enter.Send.Uses(expr.VarName)
	e.roomNumber([]byte(ledger.EveryoneName)) // which the account has as its first
	return e
}

// at makes a client the one at hand, as every call of its methods must.
func (e *Env) at(c *Client, now mono.Time) {
	e.about(c, now)
	e.before = len(e.Facts.Facts)
}

// about is at within the call before, which was about the same client.
func (e *Env) about(c *Client, now mono.Time) {
	e.c, e.script, e.path, e.pulse, e.judge = c, &c.script, &c.path, &c.pulse, &c.judge
	e.now, e.IO.Now, e.IO.Random = now, now, &c.random
	e.Beside.Now, e.Beside.Random = now, &c.random
}

// newWay gives a transport for a route.
func (e *Env) newWay(route uint8) transport.Machine {
	r := e.Trial.Target.Route(int(route))
	switch r.Kind {
	case trial.OverTCP:
		return e.paired(r, &transport.Stream{Framing: &r.Framing})
	case trial.OverUDP:
		return &transport.Stream{Framing: &r.Framing, Datagrams: true, First: r.First}
	case trial.OverHTTP:
		return &transport.HTTP{Habits: r.Habits}
	}
	return e.paired(r, &transport.WebSocket{Deflate: r.Deflate})
}

// paired puts a route's datagrams beside a transport, if it has any.
func (e *Env) paired(r *trial.Route, m transport.Machine) transport.Machine {
	if r.Urgent == nil {
		return m
	}
	return transport.NewPair(m, &r.Urgent.Framing)
}

// wall is an instant in microseconds since 1970.
func (e *Env) wall(t mono.Time) int64 { return e.markTime(t) + mark.Epoch }

func (e *Env) counts() *logbook.Counts { return &e.Book.Now().Counts }

// countReason counts a reason why a connection failed, and returns it in words.
func (e *Env) countReason(what string, err error) string {
	reason := reasonOf(err)
	e.Reasons.Count(e.hide(fmt.Sprintf("%s: %s", what, reason)), 1)
	return e.hide(reason)
}

// shortage books that a connection could not even be tried, if an error says so,
// and gives what this machine lacks; nil if it is another error.
func (e *Env) shortage(err error) error {
	var short *wire.Shortage
	if !errors.As(err, &short) {
		return nil
	}
	e.counts().Hindered++
	e.Hindered(short.Lack, e.now)
	return errors.New(short.Lack.String())
}

// maxReason bounds a reason, in characters.
const maxReason = 500

func reasonOf(err error) string {
	var refusal *ws.Refusal
	var broken *wire.ProtocolError
	switch {
	case errors.As(err, &refusal):
		return refusal.Why
	case errors.As(err, &broken):
		return broken.Rule
	}
	return plain.Text(err.Error(), maxReason)
}

// markTime converts an instant to the time that stands in a mark.
func (e *Env) markTime(t mono.Time) int64 { return int64(t)/1000 + e.Epoch }
