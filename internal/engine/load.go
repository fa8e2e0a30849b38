package engine

import (
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
)

// A load accounts for how much of the planned load a share's clients make. It is told of a
// client whenever something may have happened to it, and reads the clock only if that changed
// anything.
type load struct {
	open       int         // clients that are connected
	booked     mono.Time   // up to here their time is booked
	opened     []bool      // by client: it is one of them
	connecting []mono.Time // by client: since when it connects; 0: it does not
}

func newLoad(clients int, start mono.Time) load {
	return load{booked: start, opened: make([]bool, clients), connecting: make([]mono.Time, clients)}
}

// book books the connected time up to an instant on a second's page.
func (l *load) book(c *logbook.LoadCounts, to mono.Time) {
	if to > l.booked {
		c.Open += time.Duration(l.open) * to.Sub(l.booked)
		l.booked = to
	}
}

// counts are those of the current second.
func (s *share) loadCounts() *logbook.LoadCounts { return &s.book.Now().Counts.Load }

// seesLoad looks whether a client is connected now, or connects.
func (s *share) seesLoad(i int32) {
	c, l := &s.clients[i], &s.load
	open := c.Open()
	if open == l.opened[i] && (open || c.Connecting() == (l.connecting[i] != 0)) {
		return
	}
	now := s.drv.Now()
	s.book.Advance(now)
	if open != l.opened[i] {
		l.book(s.loadCounts(), now)
		l.opened[i] = open
		if open {
			l.open++
		} else {
			l.open--
		}
	}
	switch connecting := !open && c.Connecting(); {
	case connecting == (l.connecting[i] != 0):
	case connecting:
		l.connecting[i] = now
	default:
		s.loadCounts().Waited += max(0, now.Sub(l.connecting[i])-logbook.ConnectsWithin)
		l.connecting[i] = 0
	}
}

// A lateStart is a client that should have set out and has not.
type lateStart struct {
	id       ledger.Client
	due      mono.Time
	together bool // with others, at one moment
}

// setsOut books that a client sets out.
func (s *share) setsOut(l *lateStart, now mono.Time) {
	s.book.Advance(now)
	behind := max(0, now.Sub(l.due))
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
