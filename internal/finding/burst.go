package finding

import (
	"fmt"
	"math"
	"time"

	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
)

var burstLoss = Weakness{Number: 32, Question: WhatItBears, Title: "burst loss",
	Usually: "A queue in the relay has a size, and what does not fit is dropped: a channel that is not waited " +
		"for, the send buffer of a connection, a broker's subscription. Look at each queue, and at what happens " +
		"when it is full.",
	Experiment: "bursts that double, of one sender and of many, until something gives"}

// Bounds of a burst: how much more is said in seconds with losses than in others, and how many of those there must be.
const (
	burstTimes  = 1.5
	leastCalm   = 5
	leastBursts = 2
)

// burst finds that messages are lost only in seconds in which many are said.
func burst(s *search) []Finding {
	if found := s.endOfBurst(); found != nil {
		return found
	}
	said := func(d delivery) bool { return d.m.Kind.Said() }
	lost := s.those(ledger.Lost, said)
	if len(lost) == 0 {
		return nil
	}
	in := map[int]int{}
	for _, d := range lost {
		in[int(d.sent().Seconds())]++
	}
	least, most, calm, calmed := int64(math.MaxInt64), int64(0), 0, int64(0)
	for _, e := range s.Seconds {
		switch n := due(e); {
		case in[e.At] > 0:
			least = min(least, n)
		case e.Merged == 0 && n > 0:
			most, calm, calmed = max(most, n), calm+1, calmed+n
		}
	}
	// As likely by chance as that so many fall into the seconds that have the most messages.
	all := s.Total.Counts.Sent
	if len(in) < leastBursts || calm < leastCalm || !s.whole() || float64(least) < burstTimes*float64(most) ||
		chance(len(lost), len(lost), 1-float64(calmed)/float64(max(1, all))) >= unlikely {
		return nil
	}
	s.explain(ledger.Lost, said)
	return []Finding{{Weakness: burstLoss.Number, Severity: Loss, Figures: []string{"ledger.lost"},
		Share: shareOf(int64(messages(lost)), max(all, int64(messages(lost)))),
		Says: fmt.Sprintf("%s deliveries were lost, all of them in %s with %s messages or more; in %s with up to %s "+
			"nothing was", units.Count(int64(len(lost))), units.Plural(len(in), "second"), units.Count(least),
			units.Plural(calm, "second"), units.Count(most)),
		Evidence: s.evidence(lost, s.missed)}}
}

// endOfBurst finds that of messages said in a room at nearly one time the first arrive, and the rest reach nobody.
func (s *search) endOfBurst() []Finding {
	type place struct {
		room ledger.Room
		at   time.Duration
	}
	gone, arrived := map[place][]uint64{}, map[place][]uint64{}
	told := map[uint64]bool{}
	note := func(into map[place][]uint64, d delivery) {
		if !told[d.m.Number] {
			told[d.m.Number] = true
			where := place{d.m.Room, d.sent() / burstWithin}
			into[where] = append(into[where], d.m.Number)
		}
	}
	whole := func(d delivery) bool { return d.m.Kind == ledger.Notice && d.m.Reached == 0 }
	lost := s.those(ledger.Lost, whole)
	for _, d := range lost {
		note(gone, d)
	}
	if len(told) < leastTooLarge {
		return nil
	}
	for _, d := range s.fine {
		note(arrived, d)
	}
	// Those that are lost come behind the others, in each burst: by how many standard deviations of their ranks?
	n, later, spread := 0, 0.0, 0.0
	for where, all := range gone {
		first := arrived[where]
		if len(first) == 0 || len(first)+len(all) < leastAtOnce {
			return nil
		}
		n += len(all)
		late, off := behind(first, all)
		later, spread = later+late, spread+off
	}
	if later < surely*math.Sqrt(spread) {
		return nil
	}
	s.explain(ledger.Lost, whole)
	return []Finding{{Weakness: burstLoss.Number, Severity: Loss, Figures: []string{"ledger.lost"},
		Share: shareOf(int64(n), max(int64(n), s.Total.Counts.Sent)),
		Says: fmt.Sprintf("of messages that were said in a room within %s the first arrived, and the rest, %s, "+
			"reached nobody", units.Duration(burstWithin), units.Count(int64(n))),
		Evidence: s.evidence(lost, s.missed)}}
}

// leastAtOnce is how many messages make a burst.
const leastAtOnce = 4

// burstWithin is how near in time messages are said in a burst.
const burstWithin = 50 * time.Millisecond

// behind says how many more pairs there are in which the second is later than the first than there would be by chance,
// and the square of by how much that may be off.
func behind(first, second []uint64) (more, variance float64) {
	n, m := float64(len(first)), float64(len(second))
	for _, a := range first {
		for _, b := range second {
			if b > a {
				more++
			}
		}
	}
	return more - n*m/2, n * m * (n + m + 1) / 12
}

// due is how many messages were said in a second.
func due(e *logbook.Entry) int64 { return e.Each(e.Counts.Sent) }
