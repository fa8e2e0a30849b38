package ledger

import (
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/excuse"
)

// What the ledger asks about what was in the way of a client.
var (
	// unread: what is told to it waits, by its own doing or the trial's, or may be anything.
	unread = excuse.Of(excuse.SlowReader, excuse.NotReading, excuse.HeldDown, excuse.ChangedDown)
	// workerLost: nothing is known of it any more.
	workerLost = excuse.Of(excuse.WorkerLost)
	// unsure: it may not know what the server has done with it.
	unsure = unread | excuse.Of(excuse.HeldUp)
	// counted: whom these were in the way of is counted, for as long as numbers may be wrong by it.
	counted = unsure | excuse.Of(excuse.ChangedUp)
)

// Hinder books that something is in the way of what a client says or hears, from a time on. What
// it does not read is neither late nor lost; what it says is owed to nobody if a byte of it may
// have been changed. HungUp ends by itself, with the connection.
func (l *Ledger) Hinder(c Client, by excuse.Cause, from mono.Time) {
	if l.excuses.Begin(c, by, from) && counted.Has(by) {
		l.recount(c, from)
	}
}

// Free books that something is in the way until a time, and no longer.
func (l *Ledger) Free(c Client, by excuse.Cause, until mono.Time) {
	if l.excuses.End(c, by, until) && counted.Has(by) {
		l.freed.Put(until.Add(l.lingers()+1), c)
	}
	if b := l.seats[c].backlog; by == excuse.SlowReader && b != nil {
		b.judged = false // it was to be later
		l.judgesBacklog(c, until.Add(l.cfg.Grace))
	}
}

// lingers is for how long after something was in the way of a client the server's numbers may
// still be wrong by it.
func (l *Ledger) lingers() time.Duration { return l.cfg.Grace + l.cfg.Settle + knownWithin }

// recount keeps how many members of rooms are unsure, and how many clients at all may have been
// taken for others.
func (l *Ledger) recount(c Client, at mono.Time) {
	s := &l.seats[c]
	since := at.Add(-l.lingers())
	if _, was := l.excuses.Since(c, unsure, since); was != s.unsure {
		s.unsure = was
		s.each(func(in seat) {
			if rm := &l.rooms[in.room]; rm.now.bits.Has(int(in.slot)) {
				rm.count.unsure += by(was)
			}
		})
	}
	if _, was := l.excuses.Since(c, excuse.Of(excuse.ChangedUp), since); was != s.garbled {
		s.garbled = was
		l.garbling += by(was)
	}
}

func by(more bool) int {
	if more {
		return 1
	}
	return -1
}

// recountFreed is recount for those of whom enough time has passed since something was in their
// way.
func (l *Ledger) recountFreed(now mono.Time) {
	for _, c, is := l.freed.Take(now); is; _, c, is = l.freed.Take(now) {
		l.recount(c, now)
	}
}

// Unread reports whether what a client is told at a time may reach it later, changed or not at all
// by its own doing or the trial's.
func (l *Ledger) Unread(c Client, at mono.Time) bool { return l.was(c, unread, at) }

// HeldUp reports whether a fault keeps back what a client says at a time, or is about to give it out.
func (l *Ledger) HeldUp(c Client, at mono.Time) bool { return l.was(c, excuse.Of(excuse.HeldUp), at) }

// Garbled reports whether what comes to a client at a time may have been changed on its way.
func (l *Ledger) Garbled(c Client, at mono.Time) bool {
	return l.was(c, excuse.Of(excuse.ChangedDown), at)
}

// CutOff reports whether a fault keeps a client and its server from hearing each other, or did so
// within the grace time: the server may close it without its knowing, and let it in again, so
// that what it tells the others of it is not judged.
func (l *Ledger) CutOff(c Client, at mono.Time) bool {
	return l.was(c, excuse.Of(excuse.HeldUp, excuse.ChangedDown), at.Add(-l.cfg.Grace))
}

// Garbling reports whether what any client says may be changed on its way, or was lately: it may
// have been taken for another.
func (l *Ledger) Garbling(at mono.Time) bool {
	l.recountFreed(at)
	return l.garbling > 0
}

func (l *Ledger) was(c Client, of excuse.Set, since mono.Time) bool {
	_, was := l.excuses.Since(c, of, since)
	return was
}

// A Pardon is what the trial has done to one message on its way.
type Pardon uint8

// The pardons.
const (
	LostOnPath Pardon = iota // it was lost on its way to a client
	Doubled                  // it comes to a client once more
	DoubledUp                // it came to the server twice: whoever gets it may get it again
	ChangedUp                // it may have been changed on its way to the server
	NumPardons
)

// Pardon books what the trial has done to a message that a client was to hear, or has said: nobody
// is to blame for what comes of it.
func (l *Ledger) Pardon(number uint64, c Client, p Pardon) {
	if !l.Knows(number) {
		return
	}
	r := l.rowOf(number)
	if r == nil {
		return
	}
	switch p {
	case LostOnPath:
		r.lostOnPath.Add(l.ensureSlot(c, r.say.Room))
	case Doubled:
		r.twice.Add(l.ensureSlot(c, r.say.Room))
	case DoubledUp:
		r.allTwice = true
	case ChangedUp:
		l.garble(r)
	}
}

// garble books that a message may be anything by the time that the server has it.
func (l *Ledger) garble(r *row) {
	if !r.garbled {
		l.Cancel(r.number)
		r.garbled = true
	}
}
