package engine

import (
	"math/rand/v2"
	"testing"

	"tidepull/internal/base/mono"
	"tidepull/internal/trial"
)

// TestTimers moves random deadlines in the heap and compares the first with
// that of a plain search.
func TestTimers(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	for _, n := range []int{1, 2, 5, 64, 333} {
		h := newTimers(n)
		when := make([]mono.Time, n)
		for i := range when {
			when[i] = mono.Never
		}
		for step := range 5000 {
			c := int32(r.IntN(n))
			at := mono.Time(r.IntN(1000))
			if r.IntN(8) == 0 {
				at = mono.Never
			}
			h.set(c, at)
			when[c] = at
			first, deadline := h.first()
			least := mono.Never
			for _, w := range when {
				least = min(least, w)
			}
			if deadline != least || when[first] != least {
				t.Fatalf("%d clients, step %d: first is %d at %v, want %v", n, step, first, deadline, least)
			}
		}
		for last := mono.Time(-1); ; { // taken out one by one they come in order
			c, at := h.first()
			if at == mono.Never {
				break
			}
			if at < last {
				t.Fatalf("%v comes after %v", at, last)
			}
			last = at
			h.set(c, mono.Never)
		}
	}
	if _, at := newTimers(0).first(); at != mono.Never {
		t.Error("nobody has a deadline")
	}
}

// TestInterleave: at any point of the order each crew has its share, to within
// one client, and everybody is in it once.
func TestInterleave(t *testing.T) {
	crews := []trial.Crew{{Clients: 240}, {Clients: 136}, {Clients: 24}, {Clients: 1}}
	order := interleave(crews, map[int]bool{0: true, 1: true, 2: true, 3: true})
	crewOf := func(id int32) int {
		for i, c := range crews {
			if int(id) < c.Clients {
				return i
			}
			id -= int32(c.Clients)
		}
		return -1
	}
	seen, had := map[int32]bool{}, make([]int, len(crews))
	for i, id := range order {
		seen[id] = true
		had[crewOf(id)]++
		for k, c := range crews {
			fair := float64(c.Clients) * float64(i+1) / float64(len(order))
			if d := float64(had[k]) - fair; d < -1.6 || d > 1.6 {
				t.Fatalf("after %d clients crew %d has %d, its share is %.1f", i+1, k, had[k], fair)
			}
		}
	}
	if len(seen) != 401 {
		t.Errorf("%d clients in the order", len(seen))
	}
}
