package common

import (
	"math"
	"slices"
	"sort"
)

// A Rhythm is that things go wrong in spells, each as long after the one before.
type Rhythm struct {
	Begins []float64 // of the spells, in seconds
	Every  float64   // from one to the next, in seconds
}

// Bounds on what is a rhythm: quiet between two spells, in seconds; how many times that quiet is as long as a spell at
// least; how many things make a spell; and how likely it may be that spells at random are as even. With three spells
// that is two distances, and they must be the same to a four-thousandth.
const (
	betweenSpells = 1.0
	quietTimes    = 2
	leastInSpell  = 2
	evenByChance  = 5e-4
	mostUneven    = 0.08
)

// RhythmOf finds the rhythm of when things went wrong, in seconds and any order; false if they have none, or if what
// went well, at some other times, has the same.
func RhythmOf(times, well []float64) (r Rhythm, found bool) {
	times = slices.Clone(times)
	slices.Sort(times)
	in, longest, from := 0, 0.0, 0
	var ends []float64
	for i, t := range times {
		if i == 0 || t-times[i-1] > betweenSpells {
			if i > 0 && in < leastInSpell {
				return r, false
			}
			r.Begins, ends = append(r.Begins, t), append(ends, t)
			in, from = 0, i
		}
		in++
		ends[len(ends)-1] = t
		longest = max(longest, t-times[from])
	}
	n := len(r.Begins)
	if n < 3 || in < leastInSpell || 5*during(r.Begins, ends, well) >= len(well) {
		return r, false
	}
	var apart []float64
	for i := 1; i < n; i++ {
		apart = append(apart, r.Begins[i]-r.Begins[i-1])
	}
	slices.Sort(apart)
	r.Every = apart[len(apart)/2]
	uneven := max(r.Every-apart[0], apart[len(apart)-1]-r.Every) / r.Every
	return r, r.Every > quietTimes*longest && uneven < mostUneven && math.Pow(2*uneven, float64(n-2)) < evenByChance
}

// during is how many of some times are within spells.
func during(begins, ends, times []float64) (n int) {
	const edge = betweenSpells / 10
	for _, t := range times {
		i := sort.Search(len(ends), func(i int) bool { return ends[i]+edge >= t })
		if i < len(ends) && begins[i]-edge <= t {
			n++
		}
	}
	return n
}
