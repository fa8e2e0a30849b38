package client

import (
	"errors"
	"fmt"

	"tidepull/internal/base/mono"
	"tidepull/internal/client/reading"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/ledger"
)

// A judge is what a client makes of what it hears: whether the server knows its name, which room it is
// in, and whether what comes is as it must be. It knows no connection, and does not read messages itself.
type judge struct {
	rare    *rareJudge // what few clients need; nil if this one does not
	room    ledger.Room
	asked   ledger.Room // the room that an answer is awaited for
	naming  naming
	awaited bool // the message at hand was what an expect waited for
}

// rareJudge is what a judge has that uses more of the language than most do.
type rareJudge struct {
	past       *pastWatch
	feeds      map[feedKey]int64     // the last number of each part of a feed
	readings   map[feedKey]mono.Time // when the last of each part came, of feeds that say how often they come
	inbox      inbox
	early      earlyEntry  // of the enter step, if the server lets clients in by itself
	newest     int64       // the number of the last message that came, plus 1; 0: none has
	newestIn   ledger.Room // the room that the client was in then
	before     int64       // the same as it was before the connection broke; 0: it has not, or it is judged
	beforeIn   ledger.Room
	unfinished []byte        // what has come of a message that goes on in the next frame
	inside     []ledger.Room // if some rate is dealt out in rooms: those that it is in
}

// own is what the judge has beyond most.
func (j *judge) own() *rareJudge {
	if j.rare == nil {
		j.rare = &rareJudge{}
	}
	return j.rare
}

// in is the room that the client entered last; noRoom if it is in none.
func (j *judge) in() ledger.Room { return j.room }

// stepsOut has the client be in no room.
func (j *judge) stepsOut() { j.room = noRoom }

// returnsTo has the client be in the room that it was in.
func (j *judge) returnsTo(room ledger.Room) { j.room = room }

// isNobody has the server know no name of the client.
func (j *judge) isNobody() { j.naming = unnamed }

// breaks notes what came last before the connection broke.
func (j *judge) breaks() {
	x := j.own()
	x.before, x.beforeIn = x.newest, x.newestIn
}

// last is the number of the last message that came; -1 if none has.
func (j *judge) last() int64 {
	if j.rare == nil {
		return -1
	}
	return j.rare.newest - 1
}

// forgets forgets what only makes sense on one connection.
func (j *judge) forgets(e *Env) {
	j.isNobody()
	j.letGo(e)
	j.feedsEnd(e)
	if j.rare != nil {
		if w := j.rare.past; w != nil && w.judged { // nothing was said after it that could have shown more
			j.judgesHistory(e, w)
		}
		j.rare.early, j.rare.past = earlyEntry{}, nil
	}
}

// list takes a message, or each item of a list in it that holds messages.
func (j *judge) list(e *Env, text []byte, binary bool, came mono.Span) {
	if !j.listens(e) && !e.remembers[e.c.crew] && !e.numbers[e.c.crew] && !e.countsNumbers() {
		if m := e.reader.Same(text, binary); m != nil {
			e.counts().Arrivals++
			j.awaited = false
			j.gets(e, m, came)
			return
		}
	}
	p := e.reader.Part(text)
	if e.Trial.Dialect.Each != nil {
		e.load(p)
		if e.reader.Each(func(item reading.Part) { j.takes(e, item, binary, came) }) {
			return
		}
	}
	j.takes(e, p, binary, came)
}

// load puts a message into the scope, for expressions of the client.
func (e *Env) load(p reading.Part) {
	e.reader.Load(p)
	e.fill()
}

// takes has a message read, and takes what it means to what the client is about: it may mean several
// things at once.
func (j *judge) takes(e *Env, p reading.Part, binary bool, came mono.Span) {
	e.counts().Arrivals++
	counts := e.numbers[e.c.crew] || e.countsNumbers()
	m := e.reader.Read(p, binary, counts || j.listens(e))
	if m.Read {
		e.fill()
		e.reader.Meet(m)
	}
	if counts {
		j.notesNumber(e, m)
	}
	if m.Is&reading.History != 0 {
		j.followsHistory(e, m)
	}
	known := m.Marked || m.Is&reading.History != 0
	switch {
	case m.Marked && m.Is&reading.Echo == 0:
		j.gets(e, m, came)
	case m.Marked:
	case len(e.Trial.SecretLocals) == 0:
		e.listens(came.To, m.Text)
	default: // what is captured from it is known only then, and what was before may be forgotten then
		defer func(b []byte) { e.listens(came.To, b) }(e.own().Bytes(m.Text))
	}
	j.awaited = false
	if m.Read {
		known = j.judges(e, m, came.To) || known
		known = !m.Marked && m.Is&reading.History == 0 && j.knows(e, m, came) || known
		if e.path.is(open) {
			known = j.hears(e, m, came.To) || known
		}
	}
	if !known {
		e.unknown(m)
	}
	if e.path.is(open) && e.remembers[e.c.crew] && !j.awaited {
		j.own().inbox.add(p)
	}
}

// gets tells that a message with marks came. If it shares its read with later bytes, the kernel's
// stamp may be a later packet's.
func (j *judge) gets(e *Env, m *reading.Message, came mono.Span) {
	f := fact.Fact{Kind: fact.Gets, Client: e.c.id, Time: e.rel(came.To), Sum: m.Sum, Size: uint32(len(m.Text))}
	if came.From < came.To {
		e.counts().Coarse++
		f.Since = e.rel(came.From)
	}
	history := uint8(0)
	if m.Is&reading.History != 0 {
		history = fact.History
	}
	if history == 0 && e.types.Changed(m.Binary) {
		e.counts().OtherType++
		e.countReason("of another type", errOtherType[m.Binary])
		e.trouble()
	}
	for first := true; m.Marked; m.NextMark() {
		if e.repeats && !first && m.Mark.Number == f.Number {
			continue // it is still the same message
		}
		first = false
		f.Peer, f.Room, f.Number, f.Flags = ledger.Client(m.Mark.Sender), int32(m.Mark.Room), m.Mark.Number, history
		switch {
		case m.Mark.Run != e.Run:
			f.Flags |= fact.Foreign
		case m.Sum != 0 && history == 0:
			e.shows(f.Number, m)
		}
		e.tellArrival(f)
	}
}

// errOtherType is why a message is not of the type that it was said as, by what it came as.
var errOtherType = map[bool]error{true: errors.New("what was said as text came as a binary message"),
	false: errors.New("what was said as a binary message came as text")}

// notesNumber notes a message's number, if it has one. The first live one after the client came back
// says whether the server numbers on, or has forgotten how far it was.
func (j *judge) notesNumber(e *Env, m *reading.Message) {
	seq, live := m.Number, m.Is&reading.History == 0
	switch {
	case !live:
		seq = m.PastNumber
	case m.Is&reading.Live == 0:
		return
	case e.Trial.Dialect.Heard.Room != nil:
		if room, ok := e.rooms[string(m.Room)]; !ok || room != j.room {
			return // other rooms have numbers of their own
		}
	}
	if !seq.Whole || seq.N < 0 {
		return
	}
	x := j.own()
	if live && x.before > 0 && !e.path.away() && !e.Trial.Dialect.PastIsLive { // which may be history
		if seq.N+1 < x.before && j.room == x.beforeIn { // another room has numbers of its own
			e.counts().Returns.Renumbered++
			e.countReason("after coming back", fmt.Errorf("the numbers of a room began again"))
			e.trouble()
		}
		x.before = 0
	}
	x.newest, x.newestIn = seq.N+1, j.room
}
