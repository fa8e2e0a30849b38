package finding

import (
	"slices"
	"time"

	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
)

// Bounds on what is a fall of the whole server: within how long how many of the open connections end, and for how long
// it may be down after that.
const (
	fallsWithin = time.Second
	leastFallen = 3
	mostFallen  = 0.8
	downFor     = 10 * time.Second
)

// falls are when nearly all open connections ended at once: the server as a whole went down.
func (s *search) falls() []time.Duration {
	if s.fallen == nil {
		s.fallen = append([]time.Duration{}, fallsIn(s.Events)...)
	}
	return s.fallen
}

func fallsIn(events []logbook.Event) (all []time.Duration) {
	open := map[ledger.Client]bool{}
	var ends []time.Duration // of the last second, and how many were open before the first of them
	before := 0
	for i := range events {
		e := &events[i]
		switch e.What {
		case logbook.Opened, logbook.Entered, logbook.CameBack:
			open[e.Client] = true
		case logbook.Broke, logbook.Evicted, logbook.SteppedDown, logbook.Closed:
			if !open[e.Client] {
				continue
			}
			if len(ends) == 0 || e.At > ends[0]+fallsWithin {
				ends, before = ends[:0], len(open)
			}
			delete(open, e.Client)
			if e.What == logbook.Closed {
				continue
			}
			ends = append(ends, e.At)
			if n := len(ends); n >= leastFallen && float64(n) >= mostFallen*float64(before) &&
				(len(all) == 0 || all[len(all)-1] != ends[0]) {
				all = append(all, ends[0])
			}
		}
	}
	return all
}

// inFall reports whether something happened as the server as a whole went down, or while it may have been down.
func (s *search) inFall(at, after time.Duration) bool {
	return slices.ContainsFunc(s.falls(), func(from time.Duration) bool { return at >= from && at <= from+after })
}

// restarts reports whether the trial has the server begin anew by a request of that name.
func (s *search) restarts() bool {
	for _, session := range s.Trial.Sessions() {
		if slices.ContainsFunc(session.Steps, func(st trial.Step) bool {
			return st.Do == trial.Ask && st.Label == "restart"
		}) {
			return true
		}
	}
	return false
}

// sharesName reports whether another client of the run has the name of this one: servers may let one of them go.
func (s *search) sharesName(c ledger.Client) bool {
	if s.named == nil {
		s.named = map[string]int{}
		for _, name := range s.Names {
			s.named[name]++
		}
	}
	return int(c) < len(s.Names) && s.named[s.Names[c]] > 1
}
