package ledger

import (
	"slices"

	"tidepull/internal/base/bitset"
	"tidepull/internal/base/mono"
	"tidepull/internal/base/queue"
)

// A settledRow is who got a settled message: what comes of it afterwards is a
// duplicate to them, and overdue to the others.
type settledRow struct {
	room Room
	due  mono.Time
	sent mono.Time
	owed int32
	got  bitset.Set
	few  []int32
}

// A memory is how far back settled messages are remembered: the same number of them however many shares
// there are. What clients said has one, and the ledger's own announcements another.
type memory struct {
	of    queue.Queue[*stream] // of each that is remembered, in the order in which they were settled
	words int                  // that they take
}

// Bounds on a memory.
const (
	maxSettled      = 1 << 12
	maxSettledWords = 1 << 20 // of 8 bytes
)

// remember keeps who got a settled message, and forgets the oldest if that
// is too much. The row gets the memory of one that was forgotten.
func (l *Ledger) remember(r *row) {
	kept := settledRow{room: r.say.Room, due: r.say.Due, sent: r.say.Sent, owed: r.owed, few: r.few}
	if r.few = nil; r.got.Len() > 0 {
		kept.got, r.got = r.got, bitset.Set{}
	}
	from, place := l.streamOf(r.number)
	m := &l.memories[0]
	if !r.say.Kind.Said() {
		m = &l.memories[1]
	}
	before := from.words
	from.settle(place, kept)
	m.of.Push(from)
	m.words += from.words - before
	for m.of.Len() > maxSettled || m.words > maxSettledWords {
		oldest := m.of.Pop()
		if oldest.settled.Len() == 0 {
			continue
		}
		before := oldest.words
		old := oldest.forget()
		m.words -= before - oldest.words
		if old.got.Words() > r.got.Words() {
			r.got = old.got
		}
		if cap(old.few) > cap(r.few) {
			r.few = old.few[:0]
		}
	}
}

// overdue is the verdict on what comes after its grace time, for the first time. How long it took is known if
// the message is remembered.
func (l *Ledger) overdue(a Arrival) Verdict {
	v := Verdict{Fate: Overdue, Sheet: a.Sheet}
	from, place := l.streamOf(a.Mark.Number)
	if m := from.remembered(place); m != nil {
		v.Owed, v.Latency = int(m.owed), max(0, a.At.Sub(m.due))
		v.Least = v.Latency
		v.Own = l.Unread(a.To, m.sent) || l.missed(a.To, m.sent)
	}
	return v
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
	l.memories[0].words += m.got.Words() - before // announcements have no numbers that a server could repeat
	return again
}
