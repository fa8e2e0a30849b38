package logbook

import (
	"math"
	"slices"
)

// A Told is what the readings of one feed told within a second, if it is numbers: at all clients.
type Told struct {
	N           int64
	Least, Most float64
}

// Tells books what a reading of a feed tells. What is no number of any use is left out.
func (p *Page) Tells(feed int, v float64) {
	if math.IsNaN(v) || math.IsInf(v, 0) {
		return
	}
	for len(p.Told) <= feed {
		p.Told = append(p.Told, Told{})
	}
	p.Told[feed].add(Told{1, v, v})
}

func (t *Told) add(u Told) {
	switch {
	case u.N == 0:
	case t.N == 0:
		*t = u
	default:
		*t = Told{t.N + u.N, min(t.Least, u.Least), max(t.Most, u.Most)}
	}
}

// addTold adds up what two parts of a second were told.
func addTold(into, more []Told) []Told {
	into = slices.Clone(into)
	for i, t := range more {
		if i == len(into) {
			into = append(into, Told{})
		}
		into[i].add(t)
	}
	return into
}

// SumTold is what a feed told in all of some seconds.
func SumTold(entries []*Entry, feed int) (t Told) {
	for _, e := range entries {
		if feed < len(e.Told) {
			t.add(e.Told[feed])
		}
	}
	return t
}
