package ledger

import (
	"slices"

	"tidepull/internal/base/bitset"
)

// remains are who got a settled message: what comes of it afterwards is a
// duplicate to them, and overdue to the others.
type remains struct {
	number uint64
	room   Room
	got    bitset.Set
	few    []int32
}

// Bounds on how far back settled messages are remembered.
const (
	maxSettled      = 1 << 12
	maxSettledWords = 1 << 20 // of 8 bytes
)

// remember keeps who got a settled message, and forgets the oldest if that
// is too much. The row gets the memory of one that was forgotten.
func (l *Ledger) remember(r *row) {
	kept := remains{number: r.number, room: r.say.Room, few: r.few}
	if r.few = nil; r.got.Len() > 0 {
		kept.got, r.got = r.got, bitset.Set{}
	}
	l.settled.push(kept)
	l.settledBy += kept.got.Words() + len(kept.few)
	for l.settled.len() > maxSettled || l.settledBy > maxSettledWords {
		old := l.settled.pop()
		l.settledBy -= old.got.Words() + len(old.few)
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
	if l.settled.len() == 0 || a.Mark.Number < l.settled.at(0).number {
		return false
	}
	m := l.settled.at(int(a.Mark.Number - l.settled.at(0).number))
	slot := l.ensureSlot(a.To, m.room)
	if slices.Contains(m.few, int32(slot)) {
		return true
	}
	before := m.got.Words()
	again := !m.got.Add(slot)
	l.settledBy += m.got.Words() - before
	return again
}

// A queue is a first-in-first-out list that uses its memory again.
type queue[T any] struct {
	items []T
	head  int
}

func (q *queue[T]) len() int    { return len(q.items) - q.head }
func (q *queue[T]) at(i int) *T { return &q.items[q.head+i] }
func (q *queue[T]) push(t T)    { q.items = append(q.items, t) }

func (q *queue[T]) pop() T {
	t := q.items[q.head]
	clear(q.items[q.head : q.head+1])
	if q.head++; q.head > 64 && q.head > len(q.items)/2 {
		n := copy(q.items, q.items[q.head:])
		clear(q.items[n:])
		q.items, q.head = q.items[:n], 0
	}
	return t
}
