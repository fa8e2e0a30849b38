package replay

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"tidepull/internal/trial/language"
)

// A meeting is a place where two clients of a recording wait for each other, so
// that what one did after something of the other's is done after it again.
type meeting struct {
	name   string
	within time.Duration
}

// maxMeetings bounds the barriers that are written; what comes after that many
// keeps its order by its pauses alone.
const maxMeetings = 1000

// A Deed is something that a client did, not what it heard.
type Deed struct {
	Actor *Actor
	Step  int
	At    time.Duration // since the recording began
}

// Deeds lists what the clients of a recording did, in the order of time.
func (p *Plan) Deeds() []Deed {
	var deeds []Deed
	for _, a := range p.Actors {
		for i := range a.Steps {
			if !a.Steps[i].IsHeard() {
				deeds = append(deeds, Deed{a, i, a.Steps[i].At})
			}
		}
	}
	slices.SortStableFunc(deeds, func(x, y Deed) int { return cmp.Compare(x.At, y.At) })
	return deeds
}

// meetings finds where the clients of a plan have to wait for each other: before
// each deed that follows one of another client. The barriers of every session
// stand in the order of time, so that they cannot wait for each other in a ring.
func meetings(p *Plan) map[*Actor]map[int][]meeting {
	deeds := p.Deeds()
	all := map[*Actor]map[int][]meeting{}
	put := func(a *Actor, step int, m meeting) {
		if all[a] == nil {
			all[a] = map[int][]meeting{}
		}
		all[a][step] = append(all[a][step], m)
	}
	n := 0
	for i := 1; i < len(deeds) && n < maxMeetings; i++ {
		before, d := deeds[i-1], deeds[i]
		if before.Actor == d.Actor {
			continue
		}
		n++
		m := meeting{fmt.Sprintf("turn %d", n), 2*(d.At-before.At) + 10*time.Second}
		put(d.Actor, d.Step, m)
		// The other has heard by then what had come to it.
		after := before.Step + 1
		for after < len(before.Actor.Steps) && before.Actor.Steps[after].At <= d.At {
			after++
		}
		put(before.Actor, after, m)
	}
	return all
}

// barriers writes those that stand before a step.
func (w *writer) barriers(a *Actor, step int) {
	for _, m := range w.meet[a][step] {
		w.p("barrier %s {\n within = %q\n}", language.Quote(m.name), m.within.Round(time.Second).String())
	}
}
