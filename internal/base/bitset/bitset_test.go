package bitset

import (
	"math/rand/v2"
	"testing"
)

// TestAgainstMap runs random operations on a Set and on a plain map.
func TestAgainstMap(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	var s, other Set
	m, o := map[int]bool{}, map[int]bool{}
	for step := range 20000 {
		i := r.IntN(300)
		switch r.IntN(6) {
		case 0, 1:
			if s.Add(i) == m[i] {
				t.Fatalf("step %d: Add(%d) disagrees", step, i)
			}
			m[i] = true
		case 2:
			if s.Remove(i) != m[i] {
				t.Fatalf("step %d: Remove(%d) disagrees", step, i)
			}
			delete(m, i)
		case 3:
			other.Add(i)
			o[i] = true
		case 4:
			if r.IntN(200) == 0 {
				other.CopyFrom(&s)
				clear(o)
				for k := range m {
					o[k] = true
				}
			}
		case 5:
			last, n := -1, 0
			s.Minus(&other, func(k int) {
				if k <= last || !m[k] || o[k] {
					t.Fatalf("step %d: Minus gave %d", step, k)
				}
				last, n = k, n+1
			})
			for k := range m {
				if !o[k] {
					n--
				}
			}
			if n != 0 {
				t.Fatalf("step %d: Minus missed %d", step, -n)
			}
		}
		if s.Len() != len(m) || s.Has(i) != m[i] || s.Has(-1) {
			t.Fatalf("step %d: Len %d, want %d", step, s.Len(), len(m))
		}
	}
}
