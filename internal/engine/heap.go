package engine

import "tidepull/internal/base/mono"

// A timers is a heap of clients by their deadlines, in which each client
// stands exactly once and can be moved.
type timers struct {
	heap []int32     // clients, the earliest first
	at   []int32     // by client: where it stands in heap
	when []mono.Time // by client
}

func newTimers(n int) *timers {
	t := &timers{heap: make([]int32, n), at: make([]int32, n), when: make([]mono.Time, n)}
	for i := range t.heap {
		t.heap[i], t.at[i], t.when[i] = int32(i), int32(i), mono.Never
	}
	return t
}

// first is the client with the earliest deadline, and that deadline.
func (t *timers) first() (int32, mono.Time) {
	if len(t.heap) == 0 {
		return -1, mono.Never
	}
	return t.heap[0], t.when[t.heap[0]]
}

// set moves a client to its new deadline.
func (t *timers) set(client int32, when mono.Time) {
	old := t.when[client]
	t.when[client] = when
	switch i := int(t.at[client]); {
	case when < old:
		t.up(i)
	case when > old:
		t.down(i)
	}
}

func (t *timers) up(i int) {
	c := t.heap[i]
	for i > 0 {
		parent := (i - 1) / 4
		if t.when[t.heap[parent]] <= t.when[c] {
			break
		}
		t.place(i, t.heap[parent])
		i = parent
	}
	t.place(i, c)
}

func (t *timers) down(i int) {
	c := t.heap[i]
	for {
		least := -1
		for child := 4*i + 1; child <= 4*i+4 && child < len(t.heap); child++ {
			if least < 0 || t.when[t.heap[child]] < t.when[t.heap[least]] {
				least = child
			}
		}
		if least < 0 || t.when[t.heap[least]] >= t.when[c] {
			break
		}
		t.place(i, t.heap[least])
		i = least
	}
	t.place(i, c)
}

func (t *timers) place(i int, client int32) {
	t.heap[i] = client
	t.at[client] = int32(i)
}
