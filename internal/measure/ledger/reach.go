package ledger

import (
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/mark"
)

// A Reach is a message that is on its way, for booking that it came to one client after another: what there is to know
// of the message is looked up once.
type Reach struct {
	l     *Ledger
	row   *row
	Sheet *Sheet // of the second of its due time
	Owed  int    // the size of its audience
}

// Reach gives the message of a mark, the payload of which has a digest; not ok if what comes of it has to be looked at
// one by one (Arrive), as it is settled or unknown, or came otherwise than it was said.
func (l *Ledger) Reach(m mark.Mark, sum uint64) (Reach, bool) {
	if m.Run != l.cfg.Run || !l.Knows(m.Number) || int(m.Room) >= len(l.rooms) || l.cfg.PastIsLive ||
		l.cfg.Order == SameOrder {
		return Reach{}, false
	}
	r := l.rowOf(m.Number)
	if r == nil || r.garbled || r.narrow || !r.say.Kind.Said() || r.say.Sum != 0 && r.say.Sum != sum {
		return Reach{}, false
	}
	return Reach{l, r, r.say.Sheet, int(r.owed)}, true
}

// To books that it came to a client, at a time that is known exactly, if that is as it should be, or late; not ok, and
// nothing is booked, if it has to be looked at more closely (Arrive).
func (a *Reach) To(c Client, at mono.Time) (latency time.Duration, f Fate, ok bool) {
	l, r := a.l, a.row
	slot := l.slot(c, r.say.Room)
	if slot < 0 || !r.owes(slot) || r.got.Has(slot) ||
		l.excuses.Ever(c) && (l.Unread(c, r.say.Sent) || l.missed(c, r.say.Sent)) {
		return 0, 0, false
	}
	if l.cfg.Order != AnyOrder && r.say.Kind == Notice && !r.say.Unmarked && l.overtaken(r, slot) {
		return 0, 0, false
	}
	r.got.Add(slot)
	latency = max(0, at.Sub(r.say.Due))
	f = l.deliver(r, slot, at, latency, latency, false, false)
	*r.say.Sheet.cells[r.cell+int(l.seats[c].crew)].Of(f)++
	return latency, f, true
}
