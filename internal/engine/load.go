package engine

import (
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
)

// A load accounts for how much of the planned load a share's clients make.
type load struct {
	planned    int         // clients that are to be there
	booked     mono.Time   // up to here their time is booked
	connecting []mono.Time // by client: since when it connects; 0: it does not
}

// book books the planned time of clients up to an instant on a second's page.
func (l *load) book(c *logbook.LoadCounts, to mono.Time) {
	if to > l.booked {
		c.Planned += time.Duration(l.planned) * to.Sub(l.booked)
		l.booked = to
	}
}

// loadCounts are those of the current second.
func (s *share) loadCounts() *logbook.LoadCounts { return &s.book.Now().Counts.Load }

// plans books that one more client is to be there from now on, or one less.
func (s *share) plans(by int, now mono.Time) {
	s.book.Advance(now)
	s.load.book(s.loadCounts(), now)
	s.load.planned += by
}

// seesLoad looks whether a client connects. It is called whenever something may have happened
// to it, and reads the clock only if that changed.
func (s *share) seesLoad(i int32) {
	since := &s.load.connecting[i]
	if s.clients[i].Connecting(s.env) == (*since != 0) {
		return
	}
	now := s.drv.Now()
	if *since == 0 {
		*since = max(1, now)
		return
	}
	s.book.Advance(now)
	s.loadCounts().Waited += max(0, now.Sub(*since)-logbook.ConnectsWithin)
	*since = 0
}

// A lateStart is a client that should have set out and has not.
type lateStart struct {
	id       ledger.Client
	due      mono.Time
	together bool // with others, at one moment
}

// setsOut books that a client sets out.
func (s *share) setsOut(l *lateStart, now mono.Time) {
	s.plans(1, now)
	behind := max(0, now.Sub(l.due))
	s.loadCounts().Planned += behind
	s.loadCounts().Behind += behind
	if l.together {
		s.loadCounts().Together(behind)
	}
}

// maxOwed bounds what a client does at once of what it was to do before an instant.
const maxOwed = 1000

// before has a client do what it was to do before an instant to which the share comes late:
// what is said late is less harm than what is not said.
func (s *share) before(i int32, at mono.Time) {
	c := &s.clients[i]
	for n := 0; n < maxOwed && c.Next() < at && !c.AwaitsServer(); n++ {
		c.Tick(s.env, s.drv.Now())
		s.after(i)
	}
}
