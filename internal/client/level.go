package client

import (
	"tidepull/internal/base/mono"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/ledger"
)

// A level is how many clients of the whole run do something, put together from what
// all shares tell. It is read as it was just before an instant: changes of that very
// instant may not have come from the other shares, and must not count here either.
type level struct {
	value   int32     // before changed
	changed mono.Time // when it changed last
	by      int32     // how much
}

func (v *level) change(at mono.Time, by int32) {
	switch {
	case at == v.changed:
		v.by += by
	case at < v.changed: // another share's, on its way for a while
		v.value += by
	default:
		v.value += v.by
		v.changed, v.by = at, by
	}
}

func (v *level) before(at mono.Time) int {
	if v.changed < at {
		return int(v.value + v.by)
	}
	return int(v.value)
}

// repeatsChange books that a client began or ended repeats.
func (e *Env) repeatsChange(by int32) {
	if by == 0 {
		return
	}
	e.inRepeats[e.c.crew].change(e.rel(e.now), by)
	if e.Shares > 1 {
		e.note(fact.Turning, int32(e.c.crew), by)
	}
}

// membersChange books that a client entered or left a room.
func (e *Env) membersChange(room ledger.Room, by int32) {
	e.membersOf(room).change(e.rel(e.now), by)
	if e.Shares > 1 {
		e.Notes = append(e.Notes, fact.Note{At: e.rel(e.now), Kind: fact.Members, Client: e.c.id, By: by,
			Room: string(e.roomName(room))})
	}
}

func (e *Env) membersOf(room ledger.Room) *level {
	for int(room) >= len(e.members) {
		e.members = append(e.members, level{})
	}
	return &e.members[room]
}

func (e *Env) membersBefore(room ledger.Room, at mono.Time) int { return e.membersOf(room).before(at) }

// Heed takes a note of another share about how many clients do something.
func (e *Env) Heed(n *fact.Note) {
	switch n.Kind {
	case fact.Turning:
		e.inRepeats[n.Which].change(n.At, n.By)
	case fact.Measures:
		e.heedFigure(n)
	case fact.Members:
		e.membersOf(e.roomNumber([]byte(n.Room))).change(n.At, n.By)
	}
}
