package client

import (
	"errors"
	"fmt"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/base/plain"
	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/mark"
	"tidepull/internal/trial"
	"tidepull/internal/trial/expr"
	"tidepull/internal/wire"
	"tidepull/internal/wire/jsonscan"
	"tidepull/internal/wire/transport"
	"tidepull/internal/wire/ws"
)

// An Env is what the clients of one loop share. It has one owner, the loop.
type Env struct {
	Trial  *trial.Trial
	Ledger *ledger.Ledger
	Book   *logbook.Book
	Run    uint32        // the run's number, for marks
	Epoch  int64         // what must be added to a mono.Time in microseconds to give a mark's time
	Main   wire.Endpoint // where clients connect to
	Host   string        // for the Host field
	Path   string        // of the target
	Side   wire.Endpoint // where HTTP requests go
	Web    string        // for their Host field
	Lanes  *lane.Recorder

	// What the last call of a client's method asks for, as well as the change of
	// its Next. The loop takes it and clears it.
	IO transport.IO

	// Released are clients at a barrier at which all have come. The loop calls
	// their Go.
	Released []ledger.Client

	Opened, Refused int // connections in the whole run

	// Queued, if set, gives how many bytes to a client wait to be sent.
	Queued func(ledger.Client) int
	// Hindered is called with what this machine lacks to open a connection.
	Hindered func(wire.Lack, mono.Time)

	Events   []logbook.Event // that happened since the loop took them last
	recorded int

	// Reasons counts why connections were refused or broke.
	Reasons map[string]int

	scope     expr.Scope
	body      []byte
	short     []byte // for a name, a room or a mark
	to        []byte
	crewNames [][]byte
	roomNames [][]byte
	byName    map[string]ledger.Client
	sharers   map[string][]ledger.Client // of the names that several have
	now       mono.Time
	remembers []bool // by crew: its session has an expect that takes what has come already
	sums      bool   // some message's payload is compared
	decoded   []byte
	payload   []byte
	markBytes []byte
	turning   []int32                     // clients of each crew that are in a repeat
	expected  []int                       // clients of each crew at its highest tide
	ended     []int32                     // clients of each crew that ended early
	barriers  []map[int32][]ledger.Client // by barrier, then by whom it is among
	slow      map[ledger.Client]bool      // who reads slowly
	rumours   []rumour                    // announcements that may yet prove true, by time
	unheard   unheard
	groupEnds map[int64]int32 // clients that ended early, by crew and group
}

// maxReasons bounds the different reasons that are kept.
const maxReasons = 50

// NewEnv makes the surroundings of a loop's clients.
func NewEnv(t *trial.Trial, l *ledger.Ledger, b *logbook.Book) *Env {
	e := &Env{Trial: t, Ledger: l, Book: b, Reasons: map[string]int{}, byName: map[string]ledger.Client{},
		sharers: map[string][]ledger.Client{}, groupEnds: map[int64]int32{}, slow: map[ledger.Client]bool{},
		Hindered: func(wire.Lack, mono.Time) {}}
	e.scope.Fields = make([]jsonscan.Value, t.Fields.Len())
	e.scope.Columns = t.Data
	e.Lanes = lane.New(t.Grace + 4*time.Second)
	n := len(t.Crews)
	e.turning, e.ended, e.expected = make([]int32, n), make([]int32, n), make([]int, n)
	for i, c := range t.Crews {
		e.crewNames = append(e.crewNames, []byte(c.Name))
		e.expected[i] = t.TideOf(i).Most(c.Clients)
		e.remembers = append(e.remembers, c.Session.Remembers())
		for k := range c.Session.Steps {
			e.sums = e.sums || c.Session.Steps[k].Payload != nil
		}
	}
	for range t.Barriers {
		e.barriers = append(e.barriers, map[int32][]ledger.Client{})
	}
	return e
}

// at makes a client the one at hand.
func (e *Env) at(c *Client, now mono.Time) {
	e.now, e.IO.Now, e.IO.Random = now, now, &c.random
}

// newWay gives a client's transport.
func (e *Env) newWay() transport.Machine {
	if e.Trial.Target.Lines() {
		return &transport.Lines{}
	}
	return &transport.WebSocket{}
}

// registerName books that a client has a name.
func (e *Env) registerName(name string, id ledger.Client) {
	first, taken := e.byName[name]
	switch {
	case !taken:
		e.byName[name] = id
	case len(e.sharers[name]) == 0:
		e.sharers[name] = []ledger.Client{first, id}
	default:
		e.sharers[name] = append(e.sharers[name], id)
	}
}

func (e *Env) since(t mono.Time) time.Duration { return t.Sub(e.Book.Start()) }

// wall is an instant in microseconds since 1970.
func (e *Env) wall(t mono.Time) int64 { return e.markTime(t) + mark.Epoch }

// LostTo books in the lanes that a message has not come to a client.
func (e *Env) LostTo(number uint64, s ledger.Say, to ledger.Client, now mono.Time) {
	at := e.since(s.Sent)
	e.Lanes.Lost(lane.Record{At: at, Number: number, Client: to, Peer: s.Sender, Room: s.Room, Kind: s.Kind})
	e.Lanes.Problem(at, number, s.Kind.Said(), to, s.Sender)
}

// DisagreedAt books in the lanes that a message came to a client in another order
// than to others.
func (e *Env) DisagreedAt(number uint64, s ledger.Say, to ledger.Client) {
	at := e.since(s.Sent)
	e.Lanes.Add(lane.Record{At: at, What: lane.Got, Number: number, Client: to, Peer: s.Sender, Room: s.Room,
		Kind: s.Kind, Fate: ledger.Disagreed})
	e.Lanes.Problem(at, number, true, to, s.Sender)
}

// Counted books a number of members that the server said to a client.
func (e *Env) Counted(n ledger.Count, now mono.Time) {
	i := e.Trial.Dialect.Presence.Check
	if e.slow[n.To] {
		return // it may not have read the latest yet
	}
	e.Book.Now().Check(i, n.Right())
	if n.Right() && !n.Final {
		return
	}
	what := lane.Held
	if !n.Right() {
		what = lane.Failed
		why := fmt.Sprintf("the server said %d members of %s, there were %d", n.Said, e.Ledger.RoomName(n.Room), n.Most)
		switch {
		case n.Said < 0:
			why = fmt.Sprintf("the server said no number of members of %s, there were %d", e.Ledger.RoomName(n.Room),
				n.Most)
		case n.Least != n.Most:
			why = fmt.Sprintf("the server said %d members of %s, there were %d to %d", n.Said,
				e.Ledger.RoomName(n.Room), n.Least, n.Most)
		}
		if e.recorded < logbook.MaxEvents {
			e.recorded++
			e.Events = append(e.Events, logbook.Event{At: e.since(now), Client: n.To, Room: n.Room,
				What: logbook.Failed, Detail: why})
		}
		e.countReason("check "+e.Trial.Checks[i].Name, errors.New("a wrong number of members"))
		e.Lanes.Problem(e.since(now), 0, false, n.To)
	}
	e.Lanes.Add(lane.Record{At: e.since(now), What: what, Number: uint64(i), Client: n.To, Peer: -1, Room: n.Room})
}

// lane books a record of a client.
func (e *Env) lane(c *Client, at mono.Time, r lane.Record) {
	r.At, r.Client = e.since(at), c.id
	e.Lanes.Add(r)
}

// check books that a check held or failed.
func (e *Env) check(c *Client, now mono.Time, i int, held bool, why string) {
	if i < 0 {
		return
	}
	e.Book.Now().Check(i, held)
	what := lane.Held
	if !held {
		what = lane.Failed
		e.event(c, now, logbook.Failed, noRoom, e.countReason("check "+e.Trial.Checks[i].Name, errors.New(why)))
		e.Lanes.Problem(e.since(now), 0, false, c.id)
	}
	e.lane(c, now, lane.Record{What: what, Number: uint64(i), Peer: -1, Room: noRoom})
}

func (e *Env) counts() *logbook.Counts { return &e.Book.Now().Counts }

// countReason counts a reason why a connection failed, and returns it in words.
func (e *Env) countReason(what string, err error) string {
	reason := reasonOf(err)
	e.count(e.Trial.Hide(fmt.Sprintf("%s: %s", what, reason)), 1)
	return e.Trial.Hide(reason)
}

// otherReasons stands for those beyond maxReasons.
const otherReasons = "other reasons"

func (e *Env) count(reason string, n int) {
	if _, known := e.Reasons[reason]; !known && len(e.Reasons) >= maxReasons {
		reason = otherReasons
	}
	e.Reasons[reason] += n
}

// shortage books that a connection could not even be tried, if an error says so,
// and gives what this machine lacks; nil if it is another error.
func (e *Env) shortage(err error, now mono.Time) error {
	var short *wire.Shortage
	if !errors.As(err, &short) {
		return nil
	}
	e.counts().Hindered++
	e.Hindered(short.Lack, now)
	return errors.New(short.Lack.String())
}

func reasonOf(err error) string {
	var refusal *ws.Refusal
	var broken *wire.ProtocolError
	switch {
	case errors.As(err, &refusal):
		return refusal.Why
	case errors.As(err, &broken):
		return broken.Rule
	}
	return plain.Text(err.Error(), 100)
}

// event records that something happened to a client.
func (e *Env) event(c *Client, now mono.Time, what logbook.EventKind, room ledger.Room, detail string) {
	if l, ok := laneOf[what]; ok {
		e.lane(c, now, lane.Record{What: l, Peer: -1, Room: room})
	}
	if e.recorded < logbook.MaxEvents {
		e.recorded++
		e.Events = append(e.Events, logbook.Event{At: now.Sub(e.Book.Start()), Client: c.id, Room: room, What: what,
			Detail: detail})
	}
}

func (e *Env) roomName(r ledger.Room) []byte {
	for int(r) >= len(e.roomNames) {
		e.roomNames = append(e.roomNames, []byte(e.Ledger.RoomName(ledger.Room(len(e.roomNames)))))
	}
	return e.roomNames[r]
}

// markTime converts an instant to the time that stands in a mark.
func (e *Env) markTime(t mono.Time) int64 { return int64(t)/1000 + e.Epoch }

// laneOf says what an event is in a lane.
var laneOf = map[logbook.EventKind]lane.Happening{
	logbook.SetOut: lane.SetOut, logbook.Opened: lane.Opened, logbook.Entered: lane.Entered, logbook.Left: lane.Left,
	logbook.Closed: lane.Closed, logbook.Evicted: lane.Closed, logbook.Hindered: lane.Refused,
	logbook.Broke: lane.Broke, logbook.Refused: lane.Refused, logbook.Denied: lane.Denied,
}
