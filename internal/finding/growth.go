package finding

import (
	"fmt"
	"math"
	"time"

	"tidepull/internal/base/units"
	"tidepull/internal/measure/logbook"
)

var crookedGrowth = Weakness{Number: 26, Question: HowSoon, Title: "crooked growth",
	Usually: "For each recipient something is done that itself grows with the room: a search through the " +
		"members, a new encoding of the message, a list that is copied. Look at what is inside the loop over the " +
		"members. Or it is near what it can bear: then half the rate takes it away.",
	Experiment: "rooms of 10, 50, 200 and 500 at the same rate, by turns"}

// Bounds on growth: how many steps from one size of rooms to twice that it takes, how many deliveries in each
// size; which part of the latency a step must add at least to say anything; from which exponent on growth is
// crooked, and how slow the largest rooms must be for that to matter.
const (
	leastSteps    = 3
	leastInSize   = 500
	leastStep     = 0.1
	crookedFrom   = 1.25
	leastSlowness = 5 * time.Millisecond
)

// growth finds that latency grows faster than the room. What each doubling of the room adds to it grows with the
// same power, whatever a message takes besides.
func growth(s *search) []Finding {
	var x, y []float64
	var before, size logbook.Size
	for _, size = range s.Total.BySize() {
		if size.From < 4 || size.Latency.Count() < leastInSize {
			continue
		}
		if before.Latency != nil && size.Class == before.Class+1 {
			a, b := half(before), half(size)
			if added := b - a; added > leastStep*a {
				x, y = append(x, math.Log(float64(size.From))), append(y, math.Log(added))
			} else {
				x, y = nil, nil // it begins to grow only after that
			}
		}
		before = size
	}
	if len(x) < leastSteps || before.Latency.Quantile(0.5) < leastSlowness {
		return nil
	}
	power, off := slope(x, y)
	if power-off < crookedFrom {
		return nil
	}
	return []Finding{{Weakness: crookedGrowth.Number, Severity: Slow, Figures: []string{"spread.last.p99"},
		Says: fmt.Sprintf("latency grows with the power %.1f of the size of the room (between %.1f and %.1f, with 95 "+
			"%% certainty): in rooms of %d to %d half of the deliveries take longer than %s", power, power-off,
			power+off, before.From, before.To, units.Duration(before.Latency.Quantile(0.5)))}}
}

// half is what half of the deliveries take longer than, in microseconds: where rooms fill, the slowest are those of
// other sizes.
func half(s logbook.Size) float64 { return logbook.Micros(s.Latency.Quantile(0.5)) }

// slope is that of the line through some points by least squares, with half of its 95 % interval.
func slope(x, y []float64) (b, off float64) {
	n, mx, my := float64(len(x)), 0.0, 0.0
	for i := range x {
		mx, my = mx+x[i]/n, my+y[i]/n
	}
	sxx, sxy, rest := 0.0, 0.0, 0.0
	for i := range x {
		sxx, sxy = sxx+(x[i]-mx)*(x[i]-mx), sxy+(x[i]-mx)*(y[i]-my)
	}
	b = sxy / sxx
	for i := range x {
		d := y[i] - my - b*(x[i]-mx)
		rest += d * d
	}
	return b, students(len(x)-2) * math.Sqrt(rest/(n-2)/sxx)
}

// students is the 97.5 % point of Student's distribution for so many degrees of freedom.
func students(n int) float64 {
	few := []float64{math.Inf(1), 12.71, 4.30, 3.18, 2.78, 2.57, 2.45, 2.36, 2.31, 2.26, 2.23}
	if n < len(few) {
		return few[max(0, n)]
	}
	return 1.96 + 2.5/float64(n)
}
