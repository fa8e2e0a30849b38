package ledger

import (
	"tidepull/internal/base/bitset"
	"tidepull/internal/base/mono"
)

// A room gives each client that ever had to do with it a slot, for good.
type room struct {
	name   string
	seats  []roomSeat // by slot
	now    *members
	rank   uint64 // of the last message that was given one
	count  counting
	spoken int // notices that have come to anybody
}

// A roomSeat is one client's standing in one room.
type roomSeat struct {
	client       Client
	lastSaid     [2]uint64 // 1 more than the number of the last message that it said here, on each of its connections
	rank         uint64    // the highest of the messages that it got
	ranked       uint64    // 1 more than the number of that message
	nth          uint32    // how many messages it got, if an order for all is promised
	members      int32     // the number of members that the server said to it last; -1: none
	asked        mono.Time // when it asked to enter, last
	inside       bool      // asked to enter, and has neither left nor been cut off since
	ceased       mono.Time // when it last stopped being owed anything: asked to leave, or was cut off
	ceasedBefore mono.Time // and the time before that
	over         mono.Time // when it was last out for certain
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

// A standing is where a client is or was: seldom in more than two rooms, one
// of which is Everyone, so those need no second look into memory.
type standing struct {
	few  [2]seat
	more []seat
	n    int32
	crew uint16
	slow slowness
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
func (s *standing) each(f func(seat)) {
	for i := range min(int(s.n), len(s.few)) {
		f(s.few[i])
	}
	for _, more := range s.more {
		f(more)
	}
}

func (s *standing) add(new seat) {
	if int(s.n) < len(s.few) {
		s.few[s.n] = new
	} else {
		s.more = append(s.more, new)
	}
	s.n++
}

// sit is slot, and gives the client a slot if it has none yet: it asks to
// enter, or got a message that it should not have.
func (l *Ledger) sit(c Client, r Room) int {
	slot := l.slot(c, r)
	if slot < 0 {
		rm := &l.rooms[r]
		slot = len(rm.seats)
		rm.seats = append(rm.seats, roomSeat{client: c, members: -1, ceased: -1, ceasedBefore: -1, over: -1})
		l.seats[c].add(seat{r, int32(slot)})
	}
	return slot
}

// slowness is when a client read slowly on purpose, last.
type slowness struct {
	until mono.Time // what was sent before may have piled up; Never while it goes on
	was   bool
}

// Slow books that a client reads slowly on purpose from now on, or as fast as it
// can again. What is sent in between piles up by its own doing: it is neither
// late nor lost.
func (l *Ledger) Slow(c Client, slow bool, now mono.Time) {
	s := &l.seats[c].slow
	switch {
	case slow:
		*s = slowness{mono.Never, true}
	case s.until == mono.Never:
		s.until = now
	}
}

// piledUp reports whether a message that was sent at an instant may have waited
// for its recipient, which read slowly on purpose.
func (l *Ledger) piledUp(c Client, sent mono.Time) bool {
	s := &l.seats[c].slow
	return s.was && sent <= s.until
}

// Ask books that a client asked to enter a room.
func (l *Ledger) Ask(c Client, r Room, now mono.Time) {
	slot := l.sit(c, r)
	s := &l.rooms[r].seats[slot]
	s.asked = now
	if !s.inside {
		s.inside, s.members = true, -1
		l.counted(r, now, 0, 1)
	}
}

// Enter books that a client is confirmed as a member; from here on it is owed
// what is said there. Without an Ask before it nothing happens.
func (l *Ledger) Enter(c Client, r Room, now mono.Time) {
	slot := l.slot(c, r)
	rm := &l.rooms[r]
	if slot < 0 || !rm.seats[slot].inside || rm.now.bits.Has(slot) {
		return
	}
	m := l.change(rm)
	m.bits.Add(slot)
	m.byCrew[l.seats[c].crew]++
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
	s.ceasedBefore, s.ceased = s.ceased, now
	m := l.change(rm)
	m.bits.Remove(slot)
	m.byCrew[l.seats[c].crew]--
	l.counted(r, now, -1, 0)
}

// Left books that a client is out of a room for certain: confirmed, or refused
// when it asked to enter.
func (l *Ledger) Left(c Client, r Room, now mono.Time) {
	l.Quit(c, r, now)
	if slot := l.slot(c, r); slot >= 0 {
		s := &l.rooms[r].seats[slot]
		if s.inside {
			l.counted(r, now, 0, -1)
		}
		s.inside, s.over = false, now
	}
}

// Cease books that a client asked to be out of all rooms, by closing.
func (l *Ledger) Cease(c Client, now mono.Time) {
	l.seats[c].each(func(s seat) { l.Quit(c, s.room, now) })
}

// Break books that a client's connection is gone, and it is out of all rooms.
func (l *Ledger) Break(c Client, now mono.Time) {
	l.seats[c].each(func(s seat) {
		if l.rooms[s.room].seats[s.slot].inside {
			l.Left(c, s.room, now)
		}
	})
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
