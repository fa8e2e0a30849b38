package ledger

import (
	"time"

	"tidepull/internal/base/mono"
)

// A Count is a number of members that the server said to a client.
type Count struct {
	To    Client
	Room  Room
	Said  int // -1: none was
	Least int // what it may be
	Most  int
	At    mono.Time
	Final bool // the room has been quiet, so that the number must be right
}

// Right reports whether the number may be right.
func (c *Count) Right() bool { return c.Said >= c.Least && c.Said <= c.Most }

// counting follows the number of a room's members: at least those confirmed, at
// most those who asked as well, and what both were within Config.Settle.
type counting struct {
	inside  int // who asked to enter, and is not out for certain
	away    int // with a broken connection: the server may count them, or not
	unsure  int // confirmed members that may not know that they are none any more
	changed mono.Time
	lows    []extreme // rising
	highs   []extreme // falling
}

// An extreme is a value that held until an instant.
type extreme struct {
	until mono.Time
	n     int
}

// counts reports whether servers say how many members a room has.
func (l *Ledger) counts(r Room) bool {
	return l.cfg.Presence != nil && (r == Everyone) == l.cfg.CountAll
}

// counted books a change of the members confirmed, or of those inside.
func (l *Ledger) counted(r Room, now mono.Time, confirmed, inside int) {
	rm := &l.rooms[r]
	c := &rm.count
	if !l.counts(r) {
		return
	}
	low, high := rm.now.bits.Len()-confirmed-c.away, c.inside
	c.inside += inside
	oldest := now.Add(-l.cfg.Settle)
	c.lows = push(c.lows, extreme{now, low}, oldest, func(a, b int) bool { return a >= b })
	c.highs = push(c.highs, extreme{now, high}, oldest, func(a, b int) bool { return a <= b })
	c.changed = now
	l.restless.Push(unquiet{r, now})
}

// countsAway books that a client's connection is broken, or is no more.
func (l *Ledger) countsAway(c Client, now mono.Time, by int) {
	l.seats[c].each(func(s seat) {
		if rm := &l.rooms[s.room]; rm.now.bits.Has(int(s.slot)) {
			l.counted(s.room, now, 0, 0)
			rm.count.away += by
		}
	})
}

// An unquiet room changed at an instant. One that changes again has a further
// entry behind it.
type unquiet struct {
	room Room
	at   mono.Time
}

// push adds a value to a queue in which each is more extreme than those behind
// it, and takes off those that are too old.
func push(q []extreme, e extreme, oldest mono.Time, gives func(a, b int) bool) []extreme {
	for len(q) > 0 && gives(q[len(q)-1].n, e.n) {
		q = q[:len(q)-1]
	}
	return trim(append(q, e), oldest)
}

func trim(q []extreme, oldest mono.Time) []extreme {
	n := 0
	for n < len(q) && q[n].until < oldest {
		n++
	}
	if n > 0 {
		q = q[:copy(q, q[n:])]
	}
	return q
}

// MembersSaid books how many members the server told a client that a room has.
func (l *Ledger) MembersSaid(c Client, r Room, n int, at mono.Time) {
	slot := l.slot(c, r)
	if !l.counts(r) || slot < 0 || l.was(c, unsure, at) {
		return // one that did not read hears what was true long ago
	}
	l.numbers = true
	// Some servers tell the number to nobody but who enters: of the others it is judged only if they are told.
	s := &l.rooms[r].seats[slot]
	if s.entered != mono.Never && s.entered.Add(l.cfg.Settle) < at {
		l.updates = true
	}
	// And some tell it to those who were there alone.
	if s.entered != mono.Never && l.rooms[r].count.changed <= s.entered {
		l.welcomes = true
	}
	l.recountFreed(at)
	rm := &l.rooms[r]
	rm.seats[slot].members = int32(min(max(n, 0), 1<<30))
	count := Count{To: c, Room: r, Said: n, Least: rm.now.bits.Len() - rm.count.away, Most: rm.count.inside, At: at}
	oldest := at.Add(-l.cfg.Settle)
	rm.count.lows, rm.count.highs = trim(rm.count.lows, oldest), trim(rm.count.highs, oldest)
	if q := rm.count.lows; len(q) > 0 {
		count.Least = min(count.Least, q[0].n)
	}
	if q := rm.count.highs; len(q) > 0 {
		count.Most = max(count.Most, q[0].n)
	}
	l.forgive(&count)
	if !count.Right() && l.cfg.Settle > 0 {
		// The server may know of a break or a close that is on its way to here.
		l.doubted.Push(doubtedCount{count, at.Add(min(l.cfg.Settle, knownWithin))})
		return
	}
	l.cfg.Presence(count)
}

// knownWithin is how much later than the server the tool may learn who is gone.
const knownWithin = 250 * time.Millisecond

// A doubtedCount is a number of members that was wrong when it came. It is judged again
// later, by how few members there were until then: a server knows sooner who is gone, but
// nobody enters before it has asked to.
type doubtedCount struct {
	count Count
	at    mono.Time
}

// judgeDoubted judges numbers of members again.
func (l *Ledger) judgeDoubted(now mono.Time) {
	for l.doubted.Len() > 0 && l.doubted.At(0).at <= now {
		d := l.doubted.Pop()
		c, rm := d.count, &l.rooms[d.count.Room]
		c.Least = min(c.Least, rm.now.bits.Len()-rm.count.away)
		for _, e := range rm.count.lows {
			if e.until >= c.At {
				c.Least = min(c.Least, e.n)
			}
		}
		l.forgive(&c)
		l.cfg.Presence(c)
	}
}

// forgive lets a number of members be too low by those who do not read on purpose, or have
// their bytes changed by the trial: the server may have closed them, and they have yet to find out. It may be too
// high by the latter: whoever asks for one room may have got into another.
func (l *Ledger) forgive(c *Count) {
	if c.Right() {
		return
	}
	c.Least -= l.rooms[c.Room].count.unsure
	c.Most += l.garbling
}

// unsureIs counts a client that becomes a member of a room, or is one no more.
func (l *Ledger) unsureIs(c Client, rm *room, by int) {
	if l.seats[c].unsure {
		rm.count.unsure += by
	}
}

// awayIs counts a client that becomes a member of a room, or is one no more, while its connection is broken.
func (l *Ledger) awayIs(c Client, rm *room, by int) {
	if a, was := l.absence(c); was && a.To == mono.Never {
		rm.count.away += by
	}
}

// nextQuiet is when the next room may have been quiet for long enough, or the next
// number of members is judged again.
func (l *Ledger) nextQuiet() mono.Time {
	next := mono.Never
	if l.doubted.Len() > 0 {
		next = l.doubted.At(0).at
	}
	if l.lacking.Len() > 0 {
		next = min(next, l.lacking.At(0).until)
	}
	if l.restless.Len() > 0 {
		next = min(next, l.restless.At(0).at.Add(l.cfg.Settle))
	}
	return next
}

// judgeQuiet judges what the members of rooms that have been quiet heard
// last.
func (l *Ledger) judgeQuiet(now mono.Time) {
	l.judgeDoubted(now)
	l.judgeLacking(now)
	for l.restless.Len() > 0 && l.restless.At(0).at.Add(l.cfg.Settle) <= now && now < mono.Never-1 {
		first := l.restless.Pop()
		r, rm := first.room, &l.rooms[first.room]
		if rm.count.changed != first.at {
			continue // it changed again
		}
		rm.count.changed = -1 // judged once
		l.recountFreed(first.at.Add(l.cfg.Settle))
		n := rm.now.bits.Len()
		if n != rm.count.inside || rm.count.away > 0 || !l.numbers || rm.count.unsure > 0 {
			continue // somebody is at the edge; or it is a server that never says numbers
		}
		for slot := range rm.seats {
			s := &rm.seats[slot]
			told := l.updates || l.cfg.Updates || s.entered >= first.at
			if s.members < 0 { // it was told nothing at all
				told = l.welcomes || l.cfg.Updates
			}
			if rm.now.bits.Has(slot) && told {
				l.cfg.Presence(Count{To: s.client, Room: r, Said: int(s.members), Least: n, Most: n,
					At: first.at.Add(l.cfg.Settle), Final: true})
			}
		}
	}
}
