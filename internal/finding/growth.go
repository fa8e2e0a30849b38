package finding

import (
	"fmt"
	"maps"
	"math"
	"math/bits"
	"slices"
	"time"

	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
)

var crookedGrowth = Weakness{Number: 26, Question: HowSoon, Title: "crooked growth",
	Usually: "For each recipient something is done that itself grows with the room: a search through the " +
		"members, a new encoding of the message, a list that is copied. Look at what is inside the loop over the " +
		"members. Or it is near what it can bear: then half the rate takes it away. If it is the text that it " +
		"grows with, look at what goes through the text again for each part of it: a search, or a text that is " +
		"put together bit by bit.",
	Experiment: "rooms of 10, 50, 200 and 500 at the same rate, and texts that double, by turns"}

// Bounds on growth: how many steps from one size to twice that it takes, how many deliveries in each size of rooms and
// messages in each of texts; which part of the latency a step must add at least to say anything; from which exponent
// on growth is crooked, and how slow the largest must be for that to matter.
const (
	leastSteps    = 3
	leastInSize   = 500
	leastOfSize   = 10
	leastStep     = 0.1
	crookedFrom   = 1.25
	leastSlowness = 5 * time.Millisecond
)

// A grade is what half of the deliveries take longer than, in microseconds, of all that have nearly one size: the next
// grade is twice as large. It counts as of the size from.
type grade struct {
	class    int
	from, to int
	half     float64
}

// A scale is what latency may grow with.
type scale struct {
	grades []grade
	of     string // "of the size of the room"
	in     string // "in rooms of %d to %d"
}

// rooms is the scale of rooms by their members.
func (s *search) rooms() scale {
	c := scale{of: "of the size of the room", in: "in rooms of %d to %d"}
	for _, size := range s.Total.BySize() {
		if size.From >= 4 && size.Latency.Count() >= leastInSize {
			// Where rooms fill, the slowest are those of other sizes.
			c.grades = append(c.grades, grade{int(size.Class), size.From, size.To,
				logbook.Micros(size.Latency.Quantile(0.5))})
		}
	}
	return c
}

// texts is the scale of what one client says, by its bytes: what others say may go elsewhere, and at another rate.
func (s *search) texts() scale {
	c := scale{of: "of the size of the message", in: "of messages of %d to %d bytes"}
	byClient := map[ledger.Client]map[int][]*ledger.Message{} // and by class
	for m := range s.messages {
		if m.Size > 0 {
			if byClient[m.Sender] == nil {
				byClient[m.Sender] = map[int][]*ledger.Message{}
			}
			class := bits.Len(uint(m.Size))
			byClient[m.Sender][class] = append(byClient[m.Sender][class], m)
		}
	}
	for _, client := range slices.Sorted(maps.Keys(byClient)) {
		classes := byClient[client]
		maps.DeleteFunc(classes, func(_ int, said []*ledger.Message) bool { return len(said) < leastOfSize })
		if len(classes) <= max(leastSteps, len(c.grades)) { // looking at each recipient of most clients would take long
			continue
		}
		c.grades = nil
		for _, class := range slices.Sorted(maps.Keys(classes)) {
			if all := s.halves(classes[class]); len(all) >= leastOfSize {
				slices.Sort(all)
				c.grades = append(c.grades, grade{class, 1 << class >> 1, 1<<class - 1, all[len(all)/2]})
			}
		}
	}
	return c
}

// halves is what half of the recipients of each message got it later than, in microseconds; of those on whose way the
// tool kept up.
func (s *search) halves(said []*ledger.Message) (all []float64) {
	for _, m := range said {
		took := latencies(m)
		if half := len(took) / 2; len(took) > 0 && s.keptUp(time.Duration(m.Due), took[half]) {
			all = append(all, logbook.Micros(took[half]))
		}
	}
	return all
}

// growth finds that latency grows faster than the room, or than the text.
func growth(s *search) []Finding {
	for _, c := range []scale{s.rooms(), s.texts()} {
		if l := c.steps(); l != nil && l.slope-l.off >= crookedFrom {
			return []Finding{{Weakness: crookedGrowth.Number, Severity: Slow, Figures: []string{"spread.last.p99"},
				Says: c.says(l)}}
		}
	}
	return nil
}

// steps is the line through what each doubling adds to the latency, which grows with the same power as what is
// behind it, whatever a message takes besides; nil if there are too few, or the largest is quick.
func (c *scale) steps() *line {
	var x, y []float64
	for i, g := range c.grades {
		if i == 0 || g.class != c.grades[i-1].class+1 {
			continue
		}
		if added := g.half - c.grades[i-1].half; added > leastStep*c.grades[i-1].half {
			x, y = append(x, math.Log(float64(g.from))), append(y, math.Log(added))
		} else {
			x, y = nil, nil // it begins to grow only after that
		}
	}
	if len(x) < leastSteps || c.last().half < logbook.Micros(leastSlowness) {
		return nil
	}
	l := fit(x, y)
	return &l
}

// all is the line through the latencies themselves; nil if there are too few.
func (c *scale) all() *line {
	var x, y []float64
	for _, g := range c.grades {
		if g.half > 0 {
			x, y = append(x, math.Log(float64(g.from))), append(y, math.Log(g.half))
		}
	}
	if len(x) < leastSteps {
		return nil
	}
	l := fit(x, y)
	return &l
}

func (c *scale) last() grade { return c.grades[len(c.grades)-1] }

// says is how latency grows along a line.
func (c *scale) says(l *line) string {
	first, last := c.grades[0], c.last()
	return fmt.Sprintf("latency grows with the power %.1f %s (between %.1f and %.1f, with 95 %% certainty): %s half "+
		"of the deliveries take longer than %s, %s than %s", l.slope, c.of, l.slope-l.off, l.slope+l.off,
		fmt.Sprintf(c.in, last.from, last.to), units.Micros(last.half), fmt.Sprintf(c.in, first.from, first.to),
		units.Micros(first.half))
}
