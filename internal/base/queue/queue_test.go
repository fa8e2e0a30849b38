package queue

import (
	"math/rand/v2"
	"testing"
)

// TestQueue pushes and pops at random, and compares with a plain list.
func TestQueue(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	var q Queue[int]
	var want []int
	for i := range 200_000 {
		if more := i/20_000%2 == 0; r.IntN(10) < 5 == more || len(want) == 0 {
			q.Push(i)
			want = append(want, i)
		} else {
			if got := q.Pop(); got != want[0] {
				t.Fatalf("popped %d, want %d", got, want[0])
			}
			want = want[1:]
		}
		if q.Len() != len(want) {
			t.Fatalf("%d items, want %d", q.Len(), len(want))
		}
		if n := len(want); n > 0 {
			if at := r.IntN(n); *q.At(at) != want[at] {
				t.Fatalf("item %d is %d, want %d", at, *q.At(at), want[at])
			}
		}
	}
}
