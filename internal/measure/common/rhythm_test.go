package common

import (
	"math"
	"math/rand/v2"
	"testing"
)

// TestRhythm finds what comes every so often, and none in what comes at random.
func TestRhythm(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 9))
	for _, c := range []struct {
		every, jitter, long float64
		n                   int
		want                bool
	}{
		{20, 0.004, 0.9, 3, true}, {20, 0.2, 0.9, 3, false}, {20, 0.2, 0.9, 4, true}, {7, 0.2, 0.2, 8, true},
		{7, 2, 0.2, 8, false}, {20, 0, 0.9, 2, false},
	} {
		var times []float64
		for k := range c.n {
			begin := 16 + c.every*float64(k) + c.jitter*(r.Float64()-0.5)
			for i := range 6 {
				times = append(times, begin+c.long*float64(i)/6)
			}
		}
		r.Shuffle(len(times), func(i, k int) { times[i], times[k] = times[k], times[i] })
		var well []float64
		for range 400 {
			well = append(well, 60*r.Float64())
		}
		got, found := RhythmOf(times, well)
		if found != c.want || found && (math.Abs(got.Every-c.every) > 0.3 || len(got.Begins) != c.n) {
			t.Errorf("%+v: %+v, %v", c, got, found)
		}
	}
	if _, found := RhythmOf(nil, []float64{1}); found {
		t.Error("nothing has a rhythm")
	}
	all := []float64{10, 10.1, 30, 30.1, 50, 50.1, 70, 70.1}
	if _, found := RhythmOf(all, []float64{10.05, 30.05, 50.05, 70.05}); found {
		t.Error("what went well has the same rhythm")
	}
	for range 1000 {
		var times []float64
		for range 1 + r.IntN(8) { // spells at random
			begin := 60 * r.Float64()
			for range 1 + r.IntN(8) {
				times = append(times, begin+0.5*r.Float64())
			}
		}
		if got, found := RhythmOf(times, []float64{r.Float64()}); found {
			t.Errorf("%v: %+v", times, got)
		}
	}
}
