package ledger

import "tidepull/internal/base/mono"

// An announcement is the server telling a room of a client that enters or
// leaves. There is no mark in it: it is known by whom it is about.
type announcement struct {
	room  Room
	about Client
	kind  Kind
}

// Announced gives the number of the latest message of a kind, Joined or Gone,
// about a client in a room, as it was heard at an instant; ok is false if there is none open. If the client has left,
// and asked to enter again since, the number is that of its leaving, and ok is false: who has not heard of that yet may
// still hear it.
func (l *Ledger) Announced(k Kind, r Room, about Client, at mono.Time) (number uint64, ok bool) {
	number, ok = l.announced[announcement{r, about, k}]
	if slot := l.slot(about, r); ok && k == Gone && slot >= 0 && l.rooms[r].seats[slot].inside() &&
		l.rowOf(number).say.Sent < l.rooms[r].seats[slot].asked && l.rooms[r].seats[slot].asked <= at {
		return number, false // it is in again: that was about an earlier stay
	}
	return number, ok
}

// Awaits reports whether a client is owed a message that is not settled, and has not got it.
func (l *Ledger) Awaits(number uint64, c Client) bool {
	r := l.rowOf(number)
	if r == nil {
		return false
	}
	slot := l.slot(c, r.say.Room)
	return slot >= 0 && r.owes(slot) && !r.has(slot)
}

// Asked is when a client asked to enter a room that it is in, or is about to be in.
func (l *Ledger) Asked(r Room, c Client) (at mono.Time, in bool) {
	slot := l.slot(c, r)
	if slot < 0 || !l.rooms[r].seats[slot].inside() {
		return 0, false
	}
	return l.rooms[r].seats[slot].asked, true
}

// IsInside reports whether a client is in a room, or asked to enter it.
func (l *Ledger) IsInside(r Room, c Client) bool {
	slot := l.slot(c, r)
	return slot >= 0 && l.rooms[r].seats[slot].inside()
}

// Unsay books that a message could not be sent after all: nobody is owed it. It reports
// whether there is such a message.
func (l *Ledger) Unsay(number uint64) bool {
	if !l.Knows(number) {
		return false
	}
	r := l.rowOf(number)
	if r == nil || !r.say.Kind.Said() {
		return false
	}
	r.say.Sheet.cells[r.cell+int(l.seats[r.say.Sender].crew)].Said--
	l.Cancel(number)
	return true
}

// Cancel takes back that a message is owed: what it announces did not happen.
func (l *Ledger) Cancel(number uint64) {
	r := l.rowOf(number)
	if r == nil {
		return
	}
	seats := l.rooms[r.say.Room].seats
	r.eachOwed(func(slot int) {
		if !r.has(slot) {
			r.say.Sheet.cells[r.cell+int(l.seats[seats[slot].client].crew)].Owed--
			r.owed--
		}
	})
	l.disown(r)
	r.only = -1
}

// oweSeveral makes a message owed to several named clients.
func (l *Ledger) oweSeveral(r *row, rm *room) {
	m := l.newMembers()
	m.refs = 1
	owe := func(c Client) {
		if slot := l.slot(c, r.say.Room); slot >= 0 && rm.now.bits.Has(slot) && m.bits.Add(slot) {
			m.byCrew[l.seats[c].crew]++
			r.owed++
			r.say.Sheet.cells[r.cell+int(l.seats[c].crew)].Owed++
		}
	}
	owe(r.say.To)
	for _, c := range r.say.Also {
		owe(c)
	}
	r.members = m
}

// Inside calls f with every room that a client is in, or asked to enter.
func (l *Ledger) Inside(c Client, f func(Room)) {
	l.seats[c].each(func(s seat) {
		if l.rooms[s.room].seats[s.slot].inside() {
			f(s.room)
		}
	})
}

// RoomNamed returns the room with a name, if there is one.
func (l *Ledger) RoomNamed(name []byte) (Room, bool) {
	r, ok := l.named[string(name)]
	return r, ok
}

// Spoken is how many messages of a room have come to anybody so far.
func (l *Ledger) Spoken(r Room) int { return l.rooms[r].spoken }

// Got reports whether a message that is not settled yet has come to a client.
func (l *Ledger) Got(number uint64, c Client) bool {
	r := l.rowOf(number)
	if r == nil {
		return false
	}
	slot := l.slot(c, r.say.Room)
	return slot >= 0 && r.has(slot)
}
