package ledger

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
