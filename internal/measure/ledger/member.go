package ledger

import (
	"tidepull/internal/base/bitset"
	"tidepull/internal/base/maybe"
	"tidepull/internal/base/mono"
	"tidepull/internal/measure/excuse"
)

// A room gives each client that ever had to do with it a slot, for good.
type room struct {
	name   string
	seats  []roomSeat // by slot
	now    *members
	rank   uint64 // of the last message that was given one
	count  counting
	spoken int // notices that have come to anybody
	// joining are those who entered and are promised the past, until that is judged.
	joining []joining
}

// A roomSeat is what one client is in one room. There are many.
type roomSeat struct {
	stay // the latest, which may be over
	// those before it, the latest last, as long as something that was said in them is
	// open; nil: none
	earlier  *[]stay
	order    *orderSeat             // if an order for all is promised
	lastSaid [2]maybe.Index[uint64] // the last message that it said here, on each of its connections
	newest   mono.Time              // when the newest of what it got live here was said
	client   Client
	members  int32 // the number of members that the server said to it last; -1: none
}

// An orderSeat is what a client got of a room in which all are to get the same
// order.
type orderSeat struct {
	rank   uint64              // the highest of the messages that it got
	ranked maybe.Index[uint64] // which one that is
	nth    uint32              // how many messages it got
}

// A stay is one epoch of a client's membership of a room: who leaves and comes
// back has a new one. The instants are Never as long as they have not come.
type stay struct {
	asked   mono.Time // to enter, last
	entered mono.Time // confirmed as a member
	ceased  mono.Time // not owed anything any more: asked to leave, or was cut off
	over    mono.Time // out for certain
	still   bool      // when it asked it was inside, or had not been told that it has left
}

// noStay is that of a client that has never asked to enter.
var noStay = stay{asked: -1, entered: mono.Never, ceased: mono.Never, over: -1}

// inside reports whether the client asked to enter, and has neither left nor been
// cut off since.
func (s *stay) inside() bool { return s.over == mono.Never }

// begin opens a new stay. Those before it are kept if they may still be asked
// for: what was said before oldest is settled.
func (s *roomSeat) begin(now, oldest mono.Time) {
	if s.entered != mono.Never {
		if s.earlier == nil {
			s.earlier = new([]stay)
		}
		e, n := *s.earlier, 0
		for n < len(e) && e[n].ceased < oldest {
			n++
		}
		*s.earlier = append(e[:copy(e, e[n:])], s.stay)
	}
	s.stay = stay{asked: now, entered: mono.Never, ceased: mono.Never, over: mono.Never}
}

// at gives the stay in which a client was a member at an instant, of which it is
// known that there is one: the first that had not ceased before it.
func (s *roomSeat) at(t mono.Time) *stay {
	if s.earlier != nil {
		for i := range *s.earlier {
			if in := &(*s.earlier)[i]; in.ceased >= t {
				return in
			}
		}
	}
	return &s.stay
}

// members is the confirmed membership of a room between two changes.
type members struct {
	bits   bitset.Set
	byCrew []int32
	refs   int // rows that are owed to it
}

// A seat says which slot of a room a client has.
type seat struct {
	room Room
	slot int32
}

// A clientState is where a client is or was: seldom in more than two rooms, one
// of which is Everyone, so those need no second look into memory.
type clientState struct {
	few     [2]seat
	more    []seat
	n       int32
	crew    uint16
	unsure  bool     // it may not know what the server has done with it, or did not lately
	garbled bool     // it may have been taken for another, or was lately
	claims  *claims  // what it has yet to catch up on; nil if it was never away
	backlog *backlog // what it may have yet to read; nil if it never read slowly
}

func (l *Ledger) slot(c Client, r Room) int {
	s := &l.seats[c]
	for i := range min(int(s.n), len(s.few)) {
		if s.few[i].room == r {
			return int(s.few[i].slot)
		}
	}
	for _, more := range s.more {
		if more.room == r {
			return int(more.slot)
		}
	}
	return -1
}

// each calls f with every room that the client is or was in.
func (s *clientState) each(f func(seat)) {
	for i := range min(int(s.n), len(s.few)) {
		f(s.few[i])
	}
	for _, more := range s.more {
		f(more)
	}
}

func (s *clientState) add(new seat) {
	if int(s.n) < len(s.few) {
		s.few[s.n] = new
	} else {
		s.more = append(s.more, new)
	}
	s.n++
}

// ensureSlot is slot, and gives the client a slot if it has none yet: it asks to
// enter, or got a message that it should not have.
func (l *Ledger) ensureSlot(c Client, r Room) int {
	slot := l.slot(c, r)
	if slot < 0 {
		rm := &l.rooms[r]
		slot = len(rm.seats)
		rm.seats = append(rm.seats, roomSeat{client: c, members: -1, stay: noStay})
		l.seats[c].add(seat{r, int32(slot)})
	}
	return slot
}

// Ask books that a client asked to enter a room.
func (l *Ledger) Ask(c Client, r Room, now mono.Time) {
	slot := l.ensureSlot(c, r)
	s := &l.rooms[r].seats[slot]
	switch {
	case !s.inside():
		s.begin(now, l.oldest(now))
		s.members = -1
		l.counted(r, now, 0, 1)
	case s.ceased != mono.Never: // it asked to leave, and was not told that it has
		s.over = now
		s.begin(now, l.oldest(now))
		s.still = true
	default:
		s.asked, s.still = now, true
	}
}

// Enter books that a client is confirmed as a member; from here on it is owed
// what is said there. Without an Ask before it nothing happens.
func (l *Ledger) Enter(c Client, r Room, now mono.Time) {
	slot := l.slot(c, r)
	rm := &l.rooms[r]
	if slot < 0 || !rm.seats[slot].inside() || rm.now.bits.Has(slot) {
		return
	}
	s := &rm.seats[slot]
	if s.entered != mono.Never { // it asked to leave, and is confirmed again
		s.begin(s.asked, l.oldest(now))
	}
	s.entered = now
	m := l.change(rm)
	m.bits.Add(slot)
	m.byCrew[l.seats[c].crew]++
	l.unsureIs(c, rm, 1)
	l.awayIs(c, rm, 1)
	l.counted(r, now, 1, 0)
}

// Quit books that a client asked to leave: it is owed nothing any more.
func (l *Ledger) Quit(c Client, r Room, now mono.Time) {
	slot := l.slot(c, r)
	rm := &l.rooms[r]
	if slot < 0 || !rm.now.bits.Has(slot) {
		return
	}
	s := &rm.seats[slot]
	s.ceased = now
	m := l.change(rm)
	m.bits.Remove(slot)
	m.byCrew[l.seats[c].crew]--
	l.unsureIs(c, rm, -1)
	l.awayIs(c, rm, -1)
	l.counted(r, now, -1, 0)
}

// Left books that a client is out of a room for certain: confirmed, or refused
// when it asked to enter.
func (l *Ledger) Left(c Client, r Room, now mono.Time) {
	l.Quit(c, r, now)
	if slot := l.slot(c, r); slot >= 0 {
		s := &l.rooms[r].seats[slot]
		if s.inside() {
			l.counted(r, now, 0, -1)
		}
		s.over = now
	}
}

// Cease books that a client asked to be out of all rooms, by closing.
func (l *Ledger) Cease(c Client, now mono.Time) {
	l.seats[c].each(func(s seat) { l.Quit(c, s.room, now) })
}

// Break books that a client's connection is gone, and it is out of all rooms.
func (l *Ledger) Break(c Client, now mono.Time) {
	l.isCutOff(c, now)
	l.dropsBacklog(c)
	l.endAbsence(c, now)
	l.seats[c].each(func(s seat) {
		if l.rooms[s.room].seats[s.slot].inside() {
			l.Left(c, s.room, now)
		}
	})
	l.excuses.End(c, excuse.HungUp, now)
}

// change returns the room's membership for changing: a copy, where rows still
// need it as it is.
func (l *Ledger) change(rm *room) *members {
	if rm.now.refs == 0 {
		return rm.now
	}
	m := l.newMembers()
	m.bits.CopyFrom(&rm.now.bits)
	copy(m.byCrew, rm.now.byCrew)
	rm.now = m
	return m
}

func (l *Ledger) newMembers() *members {
	n := len(l.spare)
	if n == 0 {
		return &members{byCrew: make([]int32, l.cfg.Crews)}
	}
	m := l.spare[n-1]
	l.spare = l.spare[:n-1]
	m.bits.Clear()
	clear(m.byCrew)
	return m
}
