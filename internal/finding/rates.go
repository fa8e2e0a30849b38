package finding

import (
	"maps"
	"math"
	"slices"

	"tidepull/internal/measure/logbook"
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
	c := scale{of: "of the rate", in: "at %d to %d messages a second"}
	var said []*logbook.Entry
	var audiences []float64
	for _, e := range s.Seconds {
		if e.Counts.Sent > 0 && e.KeptUp() {
			said, audiences = append(said, e), append(audiences, audience(e))
		}
	}
	if len(said) == 0 {
		return c
	}
	slices.Sort(audiences)
	common := audiences[len(audiences)/2]
	grades, windows := map[int]*grade{}, map[int]*logbook.Window{}
	for _, e := range said {
		if math.Abs(audience(e)-common) > sameAudience*common {
			continue
		}
		class, sent := int(math.Round(math.Log2(float64(e.Counts.Sent)))), int(e.Counts.Sent)
		if grades[class] == nil {
			grades[class], windows[class] = &grade{class: class, from: sent, to: sent}, &logbook.Window{}
		}
		g := grades[class]
		g.from, g.to = min(g.from, sent), max(g.to, sent)
		if windows[class].Add(e) != nil {
			return scale{}
		}
	}
	for _, class := range slices.Sorted(maps.Keys(grades)) {
		w := windows[class]
		if all := w.Fanout(); w.Seconds >= leastOfRate && all.Count() > 0 {
			grades[class].half = logbook.Micros(all.Quantile(0.5))
			c.grades = append(c.grades, *grades[class])
		}
	}
	return c
}

// audience is how many recipients a message of a second had, on average.
func audience(e *logbook.Entry) float64 { return float64(e.Owed()) / float64(e.Counts.Sent) }
