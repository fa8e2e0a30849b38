package ledger

import (
	"slices"

	"tidepull/internal/base/bitset"
)

// A settledRow is who got a settled message: what comes of it afterwards is a
// duplicate to them, and overdue to the others.
type settledRow struct {
	room Room
	got  bitset.Set
	few  []int32
}

// Bounds on how far back the settled messages of all shares are remembered.
const (
	maxSettled      = 1 << 12
	maxSettledWords = 1 << 20 // of 8 bytes
)

// remember keeps who got a settled message, and forgets the oldest if that
// is too much. The row gets the memory of one that was forgotten.
func (l *Ledger) remember(r *row) {
	kept := settledRow{room: r.say.Room, few: r.few}
	if r.few = nil; r.got.Len() > 0 {
		kept.got, r.got = r.got, bitset.Set{}
	}
	from, place := l.streamOf(r.number)
	from.settle(place, kept)
	for from.settled.Len() > maxSettled/l.cfg.Shares || from.words > maxSettledWords/l.cfg.Shares {
		old := from.forget()
		if old.got.Words() > r.got.Words() {
			r.got = old.got
		}
		if cap(old.few) > cap(r.few) {
			r.few = old.few[:0]
		}
	}
}

// hadSettled reports whether the recipient has got a settled message already,
// and books that it has now.
func (l *Ledger) hadSettled(a Arrival) bool {
	from, place := l.streamOf(a.Mark.Number)
	m := from.remembered(place)
	if m == nil {
		return false
	}
	slot := l.ensureSlot(a.To, m.room)
	if slices.Contains(m.few, int32(slot)) {
		return true
	}
	before := m.got.Words()
	again := !m.got.Add(slot)
	from.words += m.got.Words() - before
	return again
}
