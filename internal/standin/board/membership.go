package board

import (
	"time"

	"tidepull/internal/base/mono"
)

// Membership are switches of who is in a room, and who is told.
type Membership struct {
	Deaf        float64
	Lingers     float64
	EntersTwice float64
	SilentLeave float64
	LateHandler time.Duration
	NodeGap     float64
	SlowJoin    time.Duration
}

// membershipList lists these switches.
var membershipList = []Switch{
	{"deaf", "a client that enters a room is told that it is in, and is not", func(s *Switches) any { return &s.Deaf }},
	{"lingers", "a client that leaves a room is told that it is out, and goes on getting what is said there",
		func(s *Switches) any { return &s.Lingers }},
	{"enters_twice", "a client that enters a room that it is in is put into it once more",
		func(s *Switches) any { return &s.EntersTwice }},
	{"silent_leave", "the others are not told of a client that goes without asking to leave",
		func(s *Switches) any { return &s.SilentLeave }},
	{"late_handler", "what a client says within so long after it gave its name vanishes; 0 for nothing",
		func(s *Switches) any { return &s.LateHandler }},
	{"slow_join", "a client that enters a room is given its history, and comes to be in it so much later, when it is " +
		"told so; 0 for at once", func(s *Switches) any { return &s.SlowJoin }},
	{"node_gap", "what is said at one node does not come to a member at another (which node is a client's: node= in " +
		"the address)", func(s *Switches) any { return &s.NodeGap }},
}

// At says at which node of the board a client is.
func (b *Board) At(id int32, node string) { b.members[id].node = node }

// isBeyond reports whether a delivery goes from one node to another, and does not come there.
func (b *Board) isBeyond(m relayed, to int32) bool {
	s := &b.cfg.Switches
	return m.sender >= 0 && b.members[m.sender].node != b.members[to].node && s.happens(nodeGap, s.NodeGap, b, m, to)
}

// A slowJoin is a client that has got a room's history, and will be in it.
type slowJoin struct {
	at   mono.Time
	id   int32
	name string // the client's: numbers are used again
	room *room
}

// joinsLater gives a client a room's history, and has it be in the room later, if the switch says so.
func (b *Board) joinsLater(id int32, r *room) bool {
	after := b.cfg.Switches.SlowJoin
	if after == 0 || b.members[id].in(r) {
		return false
	}
	b.tellPast(id, r)()
	b.slowJoins = append(b.slowJoins, slowJoin{b.out.Now().Add(after), id, b.members[id].name, r})
	return true
}

// join has those be in their rooms whose time has come.
func (b *Board) join(now mono.Time) {
	for len(b.slowJoins) > 0 && b.slowJoins[0].at <= now {
		j := b.slowJoins[0]
		b.slowJoins = b.slowJoins[1:]
		if m := &b.members[j.id]; m.here && m.name == j.name && !m.in(j.room) {
			b.comesIn(j.id, j.room, true)
			b.entered(j.id, j.room, "")
		}
	}
}

// nextJoin is when the next of them has to be.
func (b *Board) nextJoin() mono.Time {
	if len(b.slowJoins) == 0 {
		return mono.Never
	}
	return b.slowJoins[0].at
}

// isDeaf reports whether a client that enters a room does not come to be in it.
func (b *Board) isDeaf(id int32) bool { return b.meets(b.cfg.Switches.Deaf, "deaf", id) }

// meets reports whether a switch meets a client.
func (b *Board) meets(p float64, what string, id int32) bool {
	return b.cfg.Switches.Meets(p, what, b.members[id].name)
}

// entersAgain has a client be in a room once more that it is in.
func (b *Board) entersAgain(r *room, id int32) {
	if b.meets(b.cfg.Switches.EntersTwice, "enters twice", id) {
		r.members = append(r.members, id)
		r.extra++
	}
}

// lingersIn has a client that leaves a room stay among those who get what is said there.
func (b *Board) lingersIn(r *room, id int32) {
	if b.meets(b.cfg.Switches.Lingers, "lingers", id) {
		r.members = append(r.members, id)
		r.extra++
		b.members[id].lingers = append(b.members[id].lingers, r)
	}
}

// takeOut takes a client out of a room's members, however often it is among them.
func (r *room) takeOut(id int32) {
	for i := len(r.members) - 1; i >= 0; i-- {
		if r.members[i] != id {
			continue
		}
		last := len(r.members) - 1
		r.members[i] = r.members[last]
		r.members = r.members[:last]
	}
}

// endsLingering takes a client that is gone out of the rooms that it had left.
func (b *Board) endsLingering(id int32) {
	m := &b.members[id]
	for _, r := range m.lingers {
		before := len(r.members)
		r.takeOut(id)
		r.extra -= before - len(r.members)
	}
	m.lingers = nil
}

// isTooEarly reports whether what a client says is lost, as nobody listens yet.
func (b *Board) isTooEarly(id int32) bool {
	within := b.cfg.Switches.LateHandler
	return within > 0 && b.out.Now() < b.members[id].named.Add(within) && !b.is(b.fields[fieldKind], "enter")
}

// isTold reports whether the others are told that a client has gone.
func (b *Board) isTold(id int32) bool {
	return !b.meets(b.cfg.Switches.SilentLeave, "silent leave", id)
}

// copies is how often a client is in a room beyond once.
func (r *room) copies(id int32) (n int) {
	for _, other := range r.members {
		if other == id {
			n++
		}
	}
	return max(0, n-1)
}
