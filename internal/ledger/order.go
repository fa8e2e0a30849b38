package ledger

import "time"

// chain lets a message know its sender's next one in the room.
func (l *Ledger) chain(r *row) {
	slot := l.sit(r.say.Sender, r.say.Room)
	seat := &l.rooms[r.say.Room].seats[slot]
	if seat.lastSaid > 0 {
		if before := l.rowOf(seat.lastSaid - 1); before != nil {
			before.next = r.number
		}
	}
	seat.lastSaid = r.number + 1
}

// chainedLook bounds how many later messages of a sender are looked at.
const chainedLook = 8

// defects tells what is wrong with a delivery besides its fate: it is overtaken
// by a later message of its sender, the recipient disagrees with the others on
// the order, or the payload is another.
//
// The order of a room is the one in which its messages were first read off any
// member's connection. Where all members get the same order, each message is
// read after those before it, on the very connection on which it is first read;
// so one that is read off some connection after a later one proves that this
// member got another order.
func (l *Ledger) defects(r *row, a Arrival, v Verdict) (d [3]bool) {
	if v.Fate > Late && v.Fate != Allowed {
		return d
	}
	d[2] = r.say.Sum != 0 && a.Sum != r.say.Sum
	if l.cfg.Order == AnyOrder || r.say.Kind != Notice {
		return d
	}
	rm := &l.rooms[r.say.Room]
	slot := l.slot(a.To, r.say.Room)
	for n, later := 0, r.next; n < chainedLook && later != 0; n++ {
		next := l.rowOf(later)
		if next == nil {
			break
		}
		if next.got.Has(slot) {
			d[0] = true
			break
		}
		later = next.next
	}
	if l.cfg.Order != SameOrder {
		return d
	}
	if r.rank == 0 {
		rm.rank++
		r.rank = rm.rank
	}
	seat := &rm.seats[slot]
	if d[1] = r.rank < seat.rank && !d[0]; !d[1] {
		seat.rank = max(seat.rank, r.rank)
	}
	return d
}

// judgePast judges a message that comes as history: once for each stay, and not
// besides the live one.
func (l *Ledger) judgePast(r *row, slot int, a Arrival, latency time.Duration) Fate {
	seat := &l.rooms[r.say.Room].seats[slot]
	again := !r.past.Add(slot) && r.say.Sent >= seat.asked
	if r.got.Has(slot) {
		// It was here live already: in an earlier stay, or in this one?
		if r.owes(slot) {
			again = again || r.say.Due.Add(fromTick(r.latency[slot])) >= seat.asked
		} else {
			again = again || r.say.Sent >= seat.asked
		}
	}
	if again {
		r.note(a.To, Duplicate, latency)
		return Duplicate
	}
	return Past
}
