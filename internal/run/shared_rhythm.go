package run

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"tidepull/internal/base/units"
	"tidepull/internal/measure/common"
	"tidepull/internal/measure/ledger"
)

// mostBegins bounds the spells that are named.
const mostBegins = 5

// rhythmOf says what some have in common: that they come every so often, with what was found besides; "" if neither.
// when gives the time of one, and how long it took.
func rhythmOf[T askable](what string, wrong, well []T, when func(T) (at, took time.Duration), f *common.Finding,
	found bool) string {

	other := make([]float64, len(well))
	for i := range well {
		other[i] = well[i].time()
	}
	times, longest := make([]float64, len(wrong)), time.Duration(0)
	for i := range wrong {
		at, took := when(wrong[i])
		times[i], longest = at.Seconds(), max(longest, took)
	}
	r, is := common.RhythmOf(times, other)
	if from, to := slices.Min(times), slices.Max(times); len(times) >= leastAtOnce && to-from <= atOnceWithin {
		r, is, longest = common.Rhythm{Begins: []float64{from}}, true, 0
	}
	if !is {
		if !found {
			return ""
		}
		return f.Says(what)
	}
	rest := *f
	if !found {
		rest = common.Finding{Covers: len(wrong), Of: len(wrong)}
	}
	rest.Words = append([]string{spells(&r, longest)}, f.Words...)
	says := rest.Says(what)
	if !found {
		*f = rest
	}
	return says
}

// What is at once: how many there must be, within how many seconds.
const (
	leastAtOnce  = 5
	atOnceWithin = 0.25
)

func spells(r *common.Rhythm, longest time.Duration) string {
	if len(r.Begins) == 1 {
		return "at once, at " + units.Instant(time.Duration(r.Begins[0]*float64(time.Second)))
	}
	var begins []string
	for i, at := range r.Begins {
		if i == mostBegins {
			begins = append(begins, fmt.Sprintf("%d more", len(r.Begins)-i))
			break
		}
		begins = append(begins, units.Clock(time.Duration(at*float64(time.Second))))
	}
	text := fmt.Sprintf("every %s, at %s", units.Duration(time.Duration(r.Every*float64(time.Second))),
		strings.Join(begins, ", "))
	if longest > 0 {
		text += fmt.Sprintf(", for up to %s", units.Duration(longest))
	}
	return text
}

// cameAt is when a delivery came, and how long it took; of one that did not come, when it was said.
func cameAt(d delivery) (at, took time.Duration) {
	if d.o.Fate == ledger.Late {
		return time.Duration(d.m.Due) + d.o.Latency, d.o.Latency
	}
	return time.Duration(d.m.Sent), 0
}
