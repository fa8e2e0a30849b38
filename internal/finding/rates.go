package finding

import (
	"maps"
	"math"
	"slices"

	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/meter"
)

// Bounds on comparing rates: how many seconds there must be of each, and by which part the audience of messages may
// differ from what is common: where rooms fill meanwhile, latency may grow with them.
const (
	leastOfRate  = 2
	sameAudience = 0.25
)

// rates is the scale of how much is said in one second, all in all, of seconds in which the tool kept up. A server that
// is near what it can bear is slower then, and does nothing wrong: it is told, and found is what of it is (ceiling).
func (s *search) rates() scale {
	type second struct {
		entry    *logbook.Entry
		sent     int64
		audience float64
	}
	var said []second
	var audiences []float64
	for _, e := range s.Seconds {
		if sent := e.Counts.Sent; sent > 0 && e.KeptUp() {
			said = append(said, second{e, sent, float64(e.Owed()) / float64(sent)})
			audiences = append(audiences, said[len(said)-1].audience)
		}
	}
	c := scale{of: "of the rate", in: "at %d to %d messages a second"}
	if len(said) == 0 {
		return c
	}
	slices.Sort(audiences)
	common := audiences[len(audiences)/2]
	byClass := map[int][]second{}
	for _, at := range said {
		if math.Abs(at.audience-common) <= sameAudience*common {
			class := int(math.Round(math.Log2(float64(at.sent))))
			byClass[class] = append(byClass[class], at)
		}
	}
	for _, class := range slices.Sorted(maps.Keys(byClass)) {
		g := grade{class: class, from: math.MaxInt}
		var all meter.Hist
		for _, at := range byClass[class] {
			h, err := at.entry.Fanout()
			if err != nil {
				return scale{}
			}
			all.Merge(h)
			g.from, g.to = min(g.from, int(at.sent)), max(g.to, int(at.sent))
		}
		if len(byClass[class]) >= leastOfRate && all.Count() > 0 {
			g.half = logbook.Micros(all.Quantile(0.5))
			c.grades = append(c.grades, g)
		}
	}
	return c
}
