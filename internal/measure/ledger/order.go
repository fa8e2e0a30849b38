package ledger

import (
	"time"

	"tidepull/internal/base/maybe"
	"tidepull/internal/base/mono"
	"tidepull/internal/measure/excuse"
)

// chain lets a message know its sender's next one in the room, of those on the
// same connection.
func (l *Ledger) chain(r *row) {
	slot := l.ensureSlot(r.say.Sender, r.say.Room)
	seat := &l.rooms[r.say.Room].seats[slot]
	last := &seat.lastSaid[0]
	if r.say.Apart {
		last = &seat.lastSaid[1]
	}
	if number, ok := last.Get(); ok {
		if before := l.rowOf(number); before != nil {
			before.next = r.number
		}
	}
	*last = maybe.Of(r.number)
}

// chainedLook bounds how many later messages of a sender are looked at.
const chainedLook = 8

// defects says what is wrong with a delivery, beyond its fate: it is overtaken
// by a later message of its sender, the recipient disagrees with the others on
// the order, or the payload is another.
//
// The order of a room is the one in which its messages were first read off any
// member's connection. Where all members get the same order, each message is
// read after those before it, on the very connection on which it is first read;
// so one that is read off some connection after a later one proves that this
// member may have got another order; whether it did is judged when both are
// settled (judgeOrder).
func (l *Ledger) defects(r *row, a Arrival, v Verdict) (d [3]bool) {
	if v.Fate > Late && v.Fate != Allowed || l.mayBeAnything(r, &a) {
		return d
	}
	d[2] = r.say.Sum != 0 && a.Sum != r.say.Sum
	if l.cfg.Order == AnyOrder || r.say.Kind != Notice || r.say.Unmarked {
		return d
	}
	rm := &l.rooms[r.say.Room]
	slot := l.slot(a.To, r.say.Room)
	d[0] = l.overtaken(r, slot)
	if l.cfg.Order != SameOrder {
		return d
	}
	if rm.seats[slot].order == nil {
		rm.seats[slot].order = new(orderSeat)
	}
	seat := rm.seats[slot].order
	seat.nth++
	if slot < len(r.nth) {
		r.nth[slot] = seat.nth
	}
	if r.rank == 0 {
		rm.rank++
		r.rank = rm.rank
	}
	switch {
	case r.rank >= seat.rank:
		seat.rank, seat.ranked = r.rank, maybe.Of(r.number)
	case !d[0]:
		first, _ := seat.ranked.Get() // it has a rank, so there is one
		l.doubt(r, slot, first)
	}
	return d
}

// overtaken reports whether a later message of its sender has come to a slot before it.
func (l *Ledger) overtaken(r *row, slot int) bool {
	for n, later := 0, r.next; n < chainedLook && later != 0; n++ {
		next := l.rowOf(later)
		if next == nil {
			break
		}
		if next.has(slot) {
			return true
		}
		later = next.next
	}
	return false
}

// A doubt is a delivery that came after one that others may have got later.
type doubt struct {
	slot  int32
	first uint64 // the message that the delivery came after
	of    uint64 // the message of the delivery
}

// doubt keeps that a delivery may be out of the others' order: until the older
// of the two messages is settled, when everybody has what they get.
func (l *Ledger) doubt(r *row, slot int, first uint64) {
	at := r
	if other := l.rowOf(first); other == nil {
		return
	} else if other.opened < r.opened {
		at = other
	}
	at.doubted = append(at.doubted, doubt{int32(slot), first, r.number})
}

// judgeOrder judges the doubts that a row holds: a delivery is out of order if
// some other member got both messages, and in the other order. Who was not a
// member for both says nothing about their order.
func (l *Ledger) judgeOrder(r *row) {
	for _, d := range r.doubted {
		first, second := l.rowOf(d.first), l.rowOf(d.of)
		if first == nil || second == nil {
			continue
		}
		for slot, nth := range second.nth {
			if slot != int(d.slot) && slot < len(first.nth) && nth != 0 && first.nth[slot] > nth {
				seat := &l.rooms[second.say.Room].seats[d.slot]
				second.say.Sheet.cells[second.cell+int(l.seats[seat.client].crew)].Disagreed++
				second.note(seat.client, Disagreed, fromTick(second.latencyOf(int(d.slot))))
				if l.cfg.Disagreed != nil {
					l.cfg.Disagreed(second.number, second.say, seat.client)
				}
				break
			}
		}
	}
}

// judgePast judges a message that comes as history: once for each stay, and not
// as well as the live one.
func (l *Ledger) judgePast(r *row, slot int, a Arrival, latency time.Duration) Fate {
	seat := &l.rooms[r.say.Room].seats[slot]
	again := !r.past.Add(slot) && r.say.Sent >= seat.asked
	if r.has(slot) {
		// It was here live already: in an earlier stay, or in this one? Who was inside when it asked went on
		// to get what was said until the server answered, and all of that is history by then.
		since := seat.asked
		if seat.still {
			since = mono.Never
			if seat.entered > seat.asked {
				since = seat.entered
			}
		}
		if ticks := r.latencyOf(slot); r.owes(slot) && ticks != 0 { // 0: it piled up, and has no latency
			again = again || r.say.Due.Add(fromTick(ticks)) >= since
		} else {
			again = again || r.say.Sent >= since
		}
	}
	// Who comes back is given what it had before, too: that is what history is.
	if w, was := l.excuses.Last(a.To, excuse.Away); was && r.say.Sent <= w.From {
		again = false
	}
	switch {
	case again:
		r.note(a.To, Duplicate, latency)
		return Duplicate
	case r.owes(slot) && !r.has(slot) && l.missed(a.To, r.say.Sent):
		r.add(slot)
		return l.deliver(r, slot, a.At, latency, latency, true, true)
	}
	return Past
}
