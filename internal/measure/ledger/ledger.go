// Package ledger is the account of every message: what was owed to whom, and
// what became of it.
//
// A message's row holds one bit for each member of its room. Who was owed it is
// the room's membership when it was said; that set is shared between rows until
// the membership changes. An arrival sets the recipient's bit. After the grace
// time the row is settled, its figures go into the sheet of the second in which
// it was due, and its memory is used again. So the account is exact, and does
// not grow with the length of the run.
//
// Membership at the edge is allowed but not owed: a client that asked to enter
// and is not confirmed yet, or asked to leave, may get a message but need not.
//
// A Ledger has one owner and reads no clock.
package ledger

import (
	"math/rand/v2"
	"slices"
	"time"

	"tidepull/internal/base/due"
	"tidepull/internal/base/mono"
	"tidepull/internal/base/queue"
	"tidepull/internal/measure/excuse"
	"tidepull/internal/measure/mark"
)

// A Client is the number of a simulated client in the run.
type Client = int32

// A Room is the number of a room in the run.
type Room = int32

// Kind says what sort of message a row is for.
type Kind uint8

// The kinds of message that are accounted for separately.
const (
	Notice  Kind = iota // to a room
	Whisper             // to one member
	Joined              // the server's own, that somebody entered a room
	Gone                // and that somebody left
	NumKinds
)

func (k Kind) String() string { return [NumKinds]string{"notice", "whisper", "joined", "gone"}[k] }

// Said reports whether messages of this kind are said by a client; the others are
// the server's own, and no fan-out latency is counted for them.
func (k Kind) Said() bool { return k < Joined }

// Audience says who should get a message.
type Audience uint8

// The audiences.
const (
	ToRoom   Audience = iota // every member of the room, the sender too
	ToOthers                 // every member but the sender
	ToMember                 // one named member
	ToSender                 // the sender alone
	ToNobody                 // it must be refused
)

// Order is what a server promises about the order of a room's messages.
type Order uint8

// The promises.
const (
	AnyOrder  Order = iota
	BySender        // each sender's messages come in the order in which it said them
	SameOrder       // and all members get all messages in the same order
)

// Everyone is the room that holds every client that has been named; a message
// to everyone, and a whisper, is accounted for there.
const Everyone Room = 0

// EveryoneName is how that room is called in reports.
const EveryoneName = "(everyone)"

// Config says how a Ledger judges.
type Config struct {
	Run    uint32 // the run's number, as it stands in the marks
	Crews  int    // how many crews there are
	Shares int    // how many number their messages each by itself; 0: one
	// Announcements says that there are any, which then have numbers of their own.
	Announcements bool
	Prompt        time.Duration // a delivery later than this after its due time is late
	Grace         time.Duration // how long after it was said a message may still arrive
	Keep          int           // how many messages with something wrong are kept whole
	Sample        int           // how many good ones are kept as a sample
	Order         Order         // what is promised
	// Streams says that all goes over streams, each client's over one at a time: what comes later over it
	// proves that what was to come before has been left out, if an order is promised.
	Streams bool
	// Presence, if set, is called with each number of members that a client was
	// given: at once if it cannot be right, and once the room has been quiet
	// for Settle.
	Presence func(Count)
	Settle   time.Duration
	// Listed is called with what each list of a room's members that a client was given was like; nil if servers
	// give none.
	Listed func(Listing)
	// Updates says that each member is told the number of members after each change; if it is not
	// set that is judged once it was seen to be so.
	Updates bool
	// PastIsLive says that history comes in the form of live messages: what was said before its
	// recipient asked to enter is history.
	PastIsLive bool
	CountAll   bool // the numbers are of all clients, and not of a room's members
	// Spread, if set, is called with each message once its whole audience has
	// it, or when it is settled.
	Spread func(Spread)
	// Lost, if set, is called with each delivery that is settled as lost.
	Lost func(number uint64, s Say, to Client)
	// LeftOut, if set, is called for each client that entered and was promised the past (JoinsPast), with what was said
	// meanwhile and came to it in no way.
	LeftOut func(LeftOut)
	// Disagreed, if set, is called with each delivery that turns out to be out of
	// the order in which others got it.
	Disagreed func(number uint64, s Say, to Client)
}

// A Spread is how one message went through its audience. Latencies count from
// the due time, and are of those recipients whom it reached.
type Spread struct {
	Sheet               *Sheet
	Owed, Reached       int
	First, Median, Last time.Duration
	// Loose is set if some arrival is only known within bounds. Then these are what
	// the others would be if each had been as early as it can have been.
	Loose                              bool
	FirstLeast, MedianLeast, LastLeast time.Duration
}

// A Ledger is the account of all clients of a run, however many shares they are in.
type Ledger struct {
	cfg   Config
	rooms []room
	named map[string]Room
	seats []clientState // by client

	announced map[announcement]uint64   // the latest message of its kind
	numbers   bool                      // the server has said to somebody how many members a room has
	updates   bool                      // and to somebody who had been there for a while
	welcomes  bool                      // and to somebody who had entered last
	restless  queue.Queue[unquiet]      // rooms, the numbers of which are judged once they are quiet, by time
	lacking   queue.Queue[lacking]      // names that a list lacked, which are judged again, by time
	doubted   queue.Queue[doubtedCount] // numbers of members that are judged again, by time
	returned  queue.Queue[unsettled]    // clients that are back from an absence, by time
	backlogs  due.Queue[Client]         // clients, what waits for which is to be judged
	excuses   excuse.Store              // what was in the way of clients
	freed     due.Queue[Client]         // clients that may be unsure no more, or garbled
	garbling  int                       // how many clients are garbled
	streams   []stream                  // of the shares, and of the ledger's own announcements
	memories  [2]memory                 // of what is settled: what clients said, and those announcements

	joinings int               // of all rooms
	live     queue.Queue[*row] // rows that are not settled, in the order in which they were opened
	opened   uint64            // rows so far
	read     mono.Time         // what came by then was read
	free     []*row
	spare    []*members
	random   rand.PCG // which good messages are sampled repeats with the run's number
	scratch  []uint32

	Kept    []Message // messages with something wrong, the first cfg.Keep of them
	Sampled []Message // of the good ones
	Unkept  int       // messages with something wrong beyond those
	good    int
	kept    int // outcomes kept of messages with something wrong
	sampled int // outcomes kept of the sample
}

// New makes an empty ledger.
func New(cfg Config) *Ledger {
	l := &Ledger{cfg: cfg, named: map[string]Room{}, announced: map[announcement]uint64{}}
	l.cfg.Shares, l.read = max(1, cfg.Shares), mono.Never
	l.streams = make([]stream, Streams(l.cfg.Shares, cfg.Announcements))
	l.random.Seed(uint64(cfg.Run), 0)
	l.Room(EveryoneName)
	return l
}

// Expect makes room for a number of clients.
func (l *Ledger) Expect(clients int) { l.seats = slices.Grow(l.seats, clients) }

// AddClient announces the next client, of a crew, and returns its number.
func (l *Ledger) AddClient(crew uint16) Client {
	l.seats = append(l.seats, clientState{crew: crew})
	return Client(len(l.seats) - 1)
}

// Room returns the number of the room with this name.
func (l *Ledger) Room(name string) Room {
	if r, ok := l.named[name]; ok {
		return r
	}
	return l.addRoom(name)
}

// RoomBytes is Room for a borrowed name; it allocates only for a new room.
func (l *Ledger) RoomBytes(name []byte) Room {
	if r, ok := l.named[string(name)]; ok {
		return r
	}
	return l.addRoom(string(name))
}

func (l *Ledger) addRoom(name string) Room {
	r := Room(len(l.rooms))
	l.named[name] = r
	l.rooms = append(l.rooms, room{name: name, now: l.newMembers()})
	return r
}

// RoomName returns the name of a room.
func (l *Ledger) RoomName(r Room) string { return l.rooms[r].name }

// Rooms is the number of rooms so far, Everyone included.
func (l *Ledger) Rooms() int { return len(l.rooms) }

// Members is the number of confirmed members of a room.
func (l *Ledger) Members(r Room) int { return l.rooms[r].now.bits.Len() }

// A Say is a message that is being sent.
type Say struct {
	Kind     Kind
	Audience Audience
	Room     Room
	Sender   Client
	To       Client    // of a whisper
	Also     []Client  // more recipients of a whisper; borrowed
	Apart    bool      // it went over a second connection: between two connections no order holds
	Unmarked bool      // which message a delivery is of is presumed: nothing follows from their order
	Sum      uint64    // a digest of the payload; 0 if it is not compared
	Due      mono.Time // when it should have been sent
	Sent     mono.Time // when it was handed to the kernel
	Sheet    *Sheet    // of the second of Due
	Share    int       // that its sender is in
	Nth      int       // which message of its sender's connection it is, from 1; 0 if that is not known
	size     int32     // see Describe
	traits   Traits
}

// Say opens a row and returns the message's number: see Number.
func (l *Ledger) Say(s Say) uint64 {
	which := s.Share
	if !s.Kind.Said() {
		which = len(l.streams) - 1
	}
	number := l.Next(which)
	l.SayAs(number, s) // the next number is free
	return number
}

// SayAs is Say for a message that has its number; false if that is taken, or far ahead
// of the others.
func (l *Ledger) SayAs(number uint64, s Say) bool {
	r := l.newRow()
	if from, place := l.streamOf(number); !from.open(place, r) {
		l.free = append(l.free, r)
		return false
	}
	if s.Audience == ToSender {
		s.To = s.Sender
	}
	rm := &l.rooms[s.Room]
	r.say, r.number, r.only, r.except, r.opened = s, number, -1, -1, l.opened
	l.opened++
	r.cell = s.Sheet.group(s.Room, s.Kind, l.cfg.Crews)
	s.Sheet.live++
	if s.Kind.Said() {
		s.Sheet.cells[r.cell+int(l.seats[s.Sender].crew)].Said++
		if !s.Unmarked {
			l.chain(r)
		}
	}
	switch {
	case s.Audience == ToNobody:
	case len(s.Also) > 0:
		l.oweSeveral(r, rm)
	case s.Audience == ToMember || s.Audience == ToSender:
		if slot := l.slot(s.To, s.Room); slot >= 0 && rm.now.bits.Has(slot) {
			r.only, r.owed = int32(slot), 1
			s.Sheet.cells[r.cell+int(l.seats[s.To].crew)].Owed++
		}
	default:
		r.members = rm.now
		r.members.refs++
		r.owed = int32(rm.now.bits.Len())
		for crew, n := range rm.now.byCrew {
			s.Sheet.cells[r.cell+crew].Owed += int64(n)
		}
		if slot := l.slot(s.Sender, s.Room); s.Audience == ToOthers && slot >= 0 && rm.now.bits.Has(slot) {
			r.except = int32(slot)
			r.owed--
			s.Sheet.cells[r.cell+int(l.seats[s.Sender].crew)].Owed--
		}
	}
	r.also, r.say.Also = append(r.also[:0], s.Also...), nil
	if r.narrow = r.members == nil; !r.narrow {
		r.latency = zeroed(r.latency, len(rm.seats))
		if l.cfg.Order == SameOrder && s.Kind == Notice && !s.Unmarked {
			r.nth = zeroed(r.nth, len(rm.seats))
		}
	}
	l.live.Push(r)
	if !s.Kind.Said() {
		l.announced[announcement{s.Room, s.Sender, s.Kind}] = number
	}
	if l.was(s.Sender, excuse.Of(excuse.ChangedUp), s.Sent) || !s.Kind.Said() && l.CutOff(s.Sender, s.Sent) {
		l.garble(r)
	}
	return true
}

func zeroed(s []uint32, n int) []uint32 {
	if cap(s) < n {
		return make([]uint32, n, n+n/4)
	}
	s = s[:n]
	clear(s)
	return s
}

// An Arrival is one message that a client received.
type Arrival struct {
	To    Client
	Mark  mark.Mark
	At    mono.Time // when it was in the recipient's kernel, at the latest
	Since mono.Time // and at the earliest; 0 if At is known exactly
	Past  bool      // it came as history
	Sum   uint64    // the digest of its payload
	// Apart is by how much the clocks of the sender's and the recipient's machine may differ.
	Apart time.Duration
	Sheet *Sheet // of the second of At, for what belongs to no row
}

// A Verdict is what an arrival was.
type Verdict struct {
	Fate    Fate
	Sheet   *Sheet        // where it was booked
	Owed    int           // the size of the audience
	Latency time.Duration // from the due time, where Fate is Delivered or Late, at the most
	Least   time.Duration // and at the least
	Kind    Kind
	Own     bool    // it piled up while its recipient read slowly on purpose: the latency says nothing
	Defects [3]bool // Reordered, Disagreed (known only when it is settled), Altered
}

// Arrive books an arrival.
func (l *Ledger) Arrive(a Arrival) Verdict {
	crew := int(l.seats[a.To].crew)
	if a.Mark.Run != l.cfg.Run || !l.Knows(a.Mark.Number) || int(a.Mark.Room) >= len(l.rooms) {
		a.Sheet.Foreign++
		return Verdict{Fate: Foreign, Sheet: a.Sheet}
	}
	r := l.rowOf(a.Mark.Number)
	if r == nil {
		c := &a.Sheet.cells[a.Sheet.group(Room(a.Mark.Room), Notice, l.cfg.Crews)+crew]
		if v, is := l.caughtUp(a); is {
			return v
		}
		if v, is := l.comesOfBacklog(a); is {
			return v
		}
		if a.Past || l.cfg.PastIsLive && l.enteredLately(a) {
			c.Past++
			return Verdict{Fate: Past, Sheet: a.Sheet}
		}
		if l.hadSettled(a) {
			c.Duplicate++
			return Verdict{Fate: Duplicate, Sheet: a.Sheet}
		}
		c.Overdue++
		return l.overdue(a)
	}
	cell := &r.say.Sheet.cells[r.cell+crew]
	v := Verdict{Sheet: r.say.Sheet, Owed: int(r.owed), Latency: max(0, a.At.Sub(r.say.Due)), Kind: r.say.Kind}
	v.Least = v.Latency
	if a.Since != 0 {
		v.Least = max(0, min(a.At, max(a.Since, r.say.Sent)).Sub(r.say.Due))
	}
	piled, away := l.Unread(a.To, r.say.Sent), l.missed(a.To, r.say.Sent)
	v.Own = piled || away
	v.Fate = l.judge(r, a, v.Latency, v.Least, piled, away)
	*cell.Of(v.Fate)++
	if v.Fate == Late && v.Least <= l.cfg.Prompt {
		cell.MaybeLate++
	}
	if r.say.Kind.Said() {
		v.Defects = l.defects(r, a, v)
		for i, has := range v.Defects {
			if has {
				*cell.Of(Reordered + Fate(i))++
				r.note(a.To, Reordered+Fate(i), v.Latency)
			}
		}
	}
	return v
}

// saidBefore reports whether a message was said before its recipient asked to enter the room, or was back.
func (l *Ledger) saidBefore(r *row, slot int, to Client) bool {
	w, was := l.excuses.Last(to, excuse.Away)
	return r.say.Sent < l.rooms[r.say.Room].seats[slot].asked || was && r.say.Sent <= w.To
}

// enteredLately reports whether a client asked within the grace time to enter the room that a message is of,
// or was back within it: what was settled by then was said before that.
func (l *Ledger) enteredLately(a Arrival) bool {
	slot, since := l.slot(a.To, Room(a.Mark.Room)), a.At.Add(-l.cfg.Grace)
	w, was := l.excuses.Last(a.To, excuse.Away)
	return slot >= 0 && l.rooms[a.Mark.Room].seats[slot].asked > since || was && w.To > since
}

// mayBeAnything reports whether what arrives may have been changed on its way, from its sender or to
// its recipient.
func (l *Ledger) mayBeAnything(r *row, a *Arrival) bool { return r.garbled || l.Garbled(a.To, a.At) }

func (l *Ledger) judge(r *row, a Arrival, latency, least time.Duration, piled, away bool) Fate {
	slot := l.ensureSlot(a.To, r.say.Room)
	if l.mayBeAnything(r, &a) && (!r.owes(slot) || r.has(slot)) {
		r.add(slot)
		r.note(a.To, Allowed, latency)
		return Allowed
	}
	if a.Past || l.cfg.PastIsLive && r.say.Kind == Notice && l.saidBefore(r, slot, a.To) {
		return l.judgePast(r, slot, a, latency)
	}
	switch {
	case !r.add(slot):
		again := Duplicate
		if r.allTwice || r.twice.Has(slot) {
			again = Allowed
		}
		r.note(a.To, again, latency)
		return again
	case r.owes(slot):
		return l.deliver(r, slot, a.At, latency, least, piled || away, away)
	case r.past.Has(slot):
		r.note(a.To, Duplicate, latency)
		return Duplicate
	case l.mayHave(r, slot, a.Apart), l.keptFor(r, slot, a.To):
		r.note(a.To, Allowed, latency)
		return Allowed
	}
	r.note(a.To, Stray, latency)
	return Stray
}

// deliver books an owed delivery. One that its recipient caught up on, and one
// that piled up, has no latency.
func (l *Ledger) deliver(r *row, slot int, at mono.Time, latency, least time.Duration, own, away bool) Fate {
	if !own {
		r.setLatency(slot, toTick(latency))
		if least < latency {
			r.loosen(slot, toTick(least))
		}
	}
	rm := &l.rooms[r.say.Room]
	if r.reached == 0 && r.say.Kind == Notice {
		rm.spoken++
	}
	if away {
		r.caughtUp++
	} else {
		rm.seats[slot].newest = max(rm.seats[slot].newest, r.say.Sent)
		l.passesBacklog(rm.seats[slot].client, r.say.Sent)
		if r.reached == r.caughtUp || at < r.firstAt {
			r.firstAt = at
		}
	}
	r.reached++
	fate := Delivered
	switch {
	case away:
		fate = CaughtUp
	case latency > l.cfg.Prompt && !own:
		fate = Late
		r.late++
	}
	if r.reached == r.owed {
		l.spread(r)
	}
	return fate
}

// mayHave reports whether a client that was not owed a message was at the edge
// of its room: entering, or leaving, while the message was on its way.
func (l *Ledger) mayHave(r *row, slot int, apart time.Duration) bool {
	s := &l.rooms[r.say.Room].seats[slot]
	switch r.say.Audience {
	case ToMember, ToSender:
		if s.client != r.say.To && !slices.Contains(r.also, s.client) {
			return false // it is for somebody else
		}
	case ToNobody:
		return false
	case ToOthers:
		if s.client == r.say.Sender {
			return false
		}
	}
	return s.inside() || s.over >= r.say.Sent.Add(-apart)
}

// keptFor reports whether a server may have kept a message for a client that was on its way from one route
// to the next: it knows the client by something else than its connection.
func (l *Ledger) keptFor(r *row, slot int, c Client) bool {
	x, was := l.excuses.Last(c, excuse.BetweenRoutes)
	return was && r.say.Audience != ToNobody && l.rooms[r.say.Room].seats[slot].over >= x.From && r.say.Sent <= x.To
}

// Open is the number of rows that are not settled.
func (l *Ledger) Open() int { return l.live.Len() }

// NextSettlement is when the oldest open row is to be settled.
func (l *Ledger) NextSettlement() mono.Time {
	quiet := l.nextQuiet()
	if l.returned.Len() > 0 {
		quiet = min(quiet, l.returned.At(0).at.Add(l.cfg.Grace))
	}
	quiet = min(quiet, l.backlogs.Next())
	if l.live.Len() == 0 {
		return quiet
	}
	return min(quiet, (*l.live.At(0)).say.Sent.Add(l.cfg.Grace))
}

// Settle closes the rows that have had their grace time by now, the oldest first:
// what is owed and has not come is lost, or excused.
func (l *Ledger) Settle(now mono.Time) {
	l.excuses.Horizon = l.oldest(now).Add(-l.lingers())
	l.recountFreed(l.excuses.Horizon) // later ones as they are asked about
	l.judgeQuiet(now)
	for l.live.Len() > 0 && (*l.live.At(0)).say.Sent.Add(l.cfg.Grace) <= now {
		r := *l.live.At(0)
		l.settle(r)
		l.remember(r)
		l.live.Pop()
		l.free = append(l.free, r)
	}
	l.settleClaims(now)
	l.settleBacklogs(now)
	l.settleJoinings(now)
}

// cameToIt reports whether the server had come to a message long enough before it is settled, as somebody had it by
// then. That others' later messages have come says nothing of it: a server that is behind, which may be by its
// machine, reads its clients in any order.
func (l *Ledger) cameToIt(r *row) bool {
	return r.reached > r.caughtUp && r.firstAt.Add(l.cfg.Prompt) <= r.say.Sent.Add(l.cfg.Grace)
}

func (l *Ledger) settle(r *row) {
	l.judgeOrder(r)
	r.eachOwed(func(slot int) {
		if r.has(slot) {
			return
		}
		seat := &l.rooms[r.say.Room].seats[slot]
		fate, by := l.missing(r, slot)
		overtaken := seat.newest > r.say.Sent && l.cameToIt(r) && !r.say.Unmarked
		if fate == Excused && !r.say.Unmarked && l.isLeftOut(r, slot) {
			fate, overtaken = Lost, true
		}
		if fate == Lost && l.mayCatchUp(seat.client, r.say.Sent, r.say.Sent.Add(l.cfg.Grace)) {
			// Without a mark it is not recognised once it is settled.
			if !r.say.Unmarked && l.claim(r, seat.client) {
				return
			}
			fate = Excused
		}
		if fate == Excused && by == excuse.SlowReader && l.putsOff(r, slot) {
			return
		}
		if fate == Lost {
			r.lost++
			if l.cfg.Lost != nil {
				l.cfg.Lost(r.number, r.say, seat.client)
			}
		}
		cell := &r.say.Sheet.cells[r.cell+int(l.seats[seat.client].crew)]
		*cell.Of(fate)++
		if fate == Lost && overtaken {
			cell.Overtaken++
		}
	})
	l.joins(r)
	if r.reached < r.owed && r.reached > 0 {
		l.spread(r)
	}
	l.keep(r)
	l.disown(r)
	if key := (announcement{r.say.Room, r.say.Sender, r.say.Kind}); !r.say.Kind.Said() && l.announced[key] == r.number {
		delete(l.announced, key)
	}
	r.say.Sheet.live--
}

// oldest is when the oldest message that is not settled was sent; now if there is
// none.
func (l *Ledger) oldest(now mono.Time) mono.Time {
	if l.live.Len() == 0 {
		return now
	}
	return (*l.live.At(0)).say.Sent
}

// disown gives back the membership that a row was owed to.
func (l *Ledger) disown(r *row) {
	if m := r.members; m != nil {
		if m.refs--; m.refs == 0 && m != l.rooms[r.say.Room].now {
			l.spare = append(l.spare, m)
		}
	}
	r.members = nil
}

// ReadUpTo says up to when what came was read, if the tool is too far behind to be waited
// for: whether what was to come later has come is not known. Never: it is not.
func (l *Ledger) ReadUpTo(t mono.Time) { l.read = t }

func (l *Ledger) spread(r *row) {
	if l.cfg.Spread == nil || !r.say.Kind.Said() {
		return
	}
	l.scratch = l.scratch[:0]
	if r.narrow && r.only >= 0 && r.alone != 0 {
		l.scratch = append(l.scratch, r.alone)
	}
	for _, t := range r.latency {
		if t != 0 {
			l.scratch = append(l.scratch, t)
		}
	}
	if len(l.scratch) == 0 {
		return // nothing but what piled up at slow readers
	}
	s := Spread{Sheet: r.say.Sheet, Owed: int(r.owed), Reached: int(r.reached)}
	s.First, s.Median, s.Last = firstMedianLast(l.scratch)
	switch {
	case r.aloneLeast != 0:
		s.Loose = true
		s.FirstLeast = fromTick(r.aloneLeast)
		s.MedianLeast, s.LastLeast = s.FirstLeast, s.FirstLeast
	case len(r.least) > 0:
		l.scratch = l.scratch[:0]
		for slot, t := range r.latency {
			if t != 0 && r.least[slot] != 0 {
				t = r.least[slot]
			}
			if t != 0 {
				l.scratch = append(l.scratch, t)
			}
		}
		s.Loose = true
		s.FirstLeast, s.MedianLeast, s.LastLeast = firstMedianLast(l.scratch)
	}
	l.cfg.Spread(s)
}
