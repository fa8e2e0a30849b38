package engine

import (
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/logbook"
)

// A trouble is what kept the share from its work in one second.
type trouble struct {
	second int // of the run, and 1; 0: none
	halts  logbook.Overload
	lag    time.Duration // the longest that it came late to what had arrived, or to a timer
}

// troubles are those of the last seconds, by second.
type troubles [128]trouble

func (t *troubles) of(second int) *trouble {
	at := &t[second%len(t)]
	if at.second != second+1 {
		*at = trouble{second: second + 1}
	}
	return at
}

// second is the second of the run at an instant.
func (s *share) second(t mono.Time) int { return int(max(0, s.since(t)) / time.Second) }

// lags notes that the share came late to a timer, or that it comes to an end of a second in
// which it came late to what had arrived.
func (s *share) lags(second int, by time.Duration) {
	t := s.troubles.of(second)
	t.lag = max(t.lag, by)
}

// mark marks the seconds from one instant to another, with a reason for which nothing in them
// may be the server's doing.
func (s *share) mark(from, to mono.Time, why logbook.Overload) {
	s.book.Mark(from, to, why)
	for n := max(s.second(from), s.second(to)-len(s.troubles)+1); n <= s.second(to); n++ {
		s.troubles.of(n).halts |= why & logbook.Halts
	}
}

// doubtful reports whether the tool, or its machine, can be why something did not happen from
// one instant to another: nothing could be done for some of the time, the tool came later to
// something than a quarter of what is at stake, a program was kept from a core for so long at
// a time, or starved for half of it. margin is what is at stake: how much later everything
// would have to have been.
func (s *share) doubtful(from, now mono.Time, margin time.Duration) bool {
	lag := s.book.Now().Times[logbook.ReadingLag].Max()
	for n := max(s.second(from), s.second(now)-len(s.troubles)+1); n <= s.second(now); n++ {
		t := s.troubles.of(n)
		if t.halts != 0 {
			return true
		}
		lag = max(lag, t.lag)
	}
	if lag > margin/4 {
		return true
	}
	p := s.cfg.Pressure(from, now)
	return p.Longest > margin/4 || p.Starved > margin/2 || p.Stood > margin/4
}
