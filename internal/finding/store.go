package finding

import (
	"fmt"
	"slices"
	"time"

	"tidepull/internal/base/units"
	"tidepull/internal/measure/logbook"
)

var slowStore = Weakness{Number: 10, Question: HowSoon, Title: "slow store in the relay path",
	Usually: "The server stores a message, or asks another service, before it relays it, one message after " +
		"another. Look at what is awaited between reading a message and writing it to the others. If it gathers " +
		"messages on purpose before it sends them, or limits their rate, this is that.",
	Experiment: "messages said at once in a small room and in a large one, by turns: how much later each comes than " +
		"the one before it"}

// Bounds on a floor: how soon the quickest messages must come to their first recipient, alone and against what
// the server needs to let a client into a room; and of how many.
const (
	leastFloor  = 10 * time.Millisecond
	floorTimes  = 5
	enoughFloor = 50
	// smallForFloor is up to which size, in bytes, most messages must be: what is larger takes a server some time by
	// itself, to compress for each recipient, say, and what lets a client in is small.
	smallForFloor = 4096
)

// store finds that messages wait for something before they are relayed: those that are said at once come one after
// another (ceiling), or even the quickest takes long (floor).
func store(s *search) []Finding {
	if s.usualSize() > smallForFloor {
		return nil
	}
	if found := ceiling(s); found != nil {
		return found
	}
	return floor(s)
}

// floor finds that even the quickest message takes long to its first recipient, though the server answers soon. One
// that gathers messages for a while sends some of them at once, and of those that are said together the first is
// quick.
func floor(s *search) []Finding {
	entered := &s.Total.Times[logbook.ToEnter]
	first := s.Total.FirstEarly()
	if first.Count() < enoughFloor || entered.Count() == 0 {
		return nil
	}
	quick, answers := first.Min(), entered.Quantile(0.5)
	if quick < leastFloor || quick < floorTimes*answers {
		return nil
	}
	return []Finding{{Weakness: slowStore.Number, Severity: Slow, Figures: []string{"spread.first.p50"},
		Says: fmt.Sprintf("even the quickest of %s messages took %s to its first recipient, though the server let "+
			"clients into rooms within %s", units.Count(int64(first.Count())), units.Duration(quick),
			units.Duration(answers))}}
}

// usualSize is the median size of the messages that are kept whole, in bytes; 0 if none has one.
func (s *search) usualSize() int {
	var sizes []int
	for m := range s.messages {
		if m.Size > 0 {
			sizes = append(sizes, m.Size)
		}
	}
	if len(sizes) == 0 {
		return 0
	}
	slices.Sort(sizes)
	return sizes[len(sizes)/2]
}
