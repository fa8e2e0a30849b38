// Package queue holds a first-in-first-out list that uses its memory again.
package queue

// A Queue is a first-in-first-out list. The zero value is empty and ready.
type Queue[T any] struct {
	items []T
	head  int
}

// Len is how many items there are.
func (q *Queue[T]) Len() int { return len(q.items) - q.head }

// At gives the item at a place, 0 being the oldest. It is valid until the next Push or
// Pop.
func (q *Queue[T]) At(i int) *T { return &q.items[q.head+i] }

// Push adds an item behind the others.
func (q *Queue[T]) Push(t T) { q.items = append(q.items, t) }

// most is the capacity that an empty queue may keep, in items: what a flood took is given
// back.
const most = 1 << 16

// Pop takes the oldest item. There must be one.
func (q *Queue[T]) Pop() T {
	t := q.items[q.head]
	clear(q.items[q.head : q.head+1]) // so that what it points to can go
	q.head++
	switch {
	case q.head == len(q.items):
		if q.items, q.head = q.items[:0], 0; cap(q.items) > most {
			q.items = nil
		}
	case q.head > 64 && q.head > len(q.items)/2:
		n := copy(q.items, q.items[q.head:])
		clear(q.items[n:])
		q.items, q.head = q.items[:n], 0
	}
	return t
}
