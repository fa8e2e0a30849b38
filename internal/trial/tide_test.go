package trial

import (
	"math/rand/v2"
	"testing"
	"time"
)

// TestTide walks random tides: at the end of each leg the tide is where the leg
// goes, between the ends it stays between them and never jumps, and it is over
// when its length is.
func TestTide(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	for range 200 {
		var tide Tide
		for range 1 + r.IntN(6) {
			tide.Legs = append(tide.Legs, Leg{Word: "slack", To: float64(r.IntN(101)) / 100,
				Over: time.Duration(1+r.IntN(20)) * time.Second})
		}
		at, level := time.Duration(0), 0.0
		for i, leg := range tide.Legs {
			low, high := min(level, leg.To), max(level, leg.To)
			last := level
			for k := range 50 {
				v := tide.At(at + time.Duration(k)*leg.Over/50)
				if v < low-1e-9 || v > high+1e-9 {
					t.Fatalf("leg %d: %v is not between %v and %v", i, v, low, high)
				}
				if d := v - last; d > (high-low)/50+1e-9 || d < -(high-low)/50-1e-9 {
					t.Fatalf("leg %d jumps from %v to %v", i, last, v)
				}
				last = v
			}
			at, level = at+leg.Over, leg.To
			if end := tide.At(at - 1); end-level > 1e-6 || level-end > 1e-6 {
				t.Fatalf("leg %d ends at %v, want %v", i, end, level)
			}
		}
		if tide.Length() != at || tide.At(at) != 0 || tide.Leg(at) != "" || tide.Clients(at, 1000) != 0 {
			t.Fatalf("after its length the tide is not over: %v", tide)
		}
	}
}
