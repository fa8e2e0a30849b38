// Package due is a queue of things that are due at times.
package due

import (
	"container/heap"

	"tidepull/internal/base/mono"
)

// A Queue gives what was put into it in the order of time. Its zero value is empty.
type Queue[T any] struct{ all entries[T] }

type entry[T any] struct {
	at    mono.Time
	thing T
}

type entries[T any] []entry[T]

func (e entries[T]) Len() int           { return len(e) }
func (e entries[T]) Less(i, j int) bool { return e[i].at < e[j].at }
func (e entries[T]) Swap(i, j int)      { e[i], e[j] = e[j], e[i] }
func (e *entries[T]) Push(x any)        { *e = append(*e, x.(entry[T])) }
func (e *entries[T]) Pop() any {
	last := (*e)[len(*e)-1]
	*e = (*e)[:len(*e)-1]
	return last
}

// Put puts something into the queue that is due at a time.
func (q *Queue[T]) Put(at mono.Time, thing T) { heap.Push(&q.all, entry[T]{at, thing}) }

// Next is when the first thing is due; mono.Never if there is none.
func (q *Queue[T]) Next() mono.Time {
	if len(q.all) == 0 {
		return mono.Never
	}
	return q.all[0].at
}

// Take takes the first thing out that is due at a time; false if none is.
func (q *Queue[T]) Take(now mono.Time) (at mono.Time, thing T, ok bool) {
	if len(q.all) == 0 || q.all[0].at > now {
		return 0, thing, false
	}
	e := heap.Pop(&q.all).(entry[T])
	return e.at, e.thing, true
}
