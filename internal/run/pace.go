package run

import (
	"fmt"

	"tidepull/internal/base/units"
)

// paceOver is over how many seconds in a row a pace counts: what comes at once is worked through in the seconds after.
const paceOver = 3

// A Pace is how many deliveries a second a run had.
type Pace struct {
	// Proven is the most over seconds in each of which this machine had time for all, and said all that was planned.
	Proven  float64
	Planned float64 // the most that there should have been over as many seconds
	Seconds int     // that Proven could be of
}

// Pace is the pace of the seconds from one up to another.
func (s *Snapshot) Pace(from, to int) (p Pace) {
	var owed, planned [paceOver]float64
	good, n := 0, 0
	for _, e := range s.Entries {
		if e.At < from || e.At >= to ||
			e.Merged > 0 { // what became of a second of an old minute is not known by itself
			continue
		}
		share, known := e.Counts.Load.Offered()
		if !known {
			share = 1
		}
		now := float64(e.Owed())
		owed[n%paceOver], planned[n%paceOver] = now, now/max(share, 0.01)
		n++
		good++
		if e.Health.Overload != 0 || e.HasLate() || 100*share < leastLoad {
			good = 0
		}
		if n >= paceOver {
			p.Planned = max(p.Planned, mean(planned))
		}
		if good >= paceOver {
			p.Proven, p.Seconds = max(p.Proven, mean(owed)), p.Seconds+1
		}
	}
	return p
}

func mean(all [paceOver]float64) (m float64) {
	for _, v := range all {
		m += v / paceOver
	}
	return m
}

// Says is the pace in a sentence; "" if nothing was owed.
func (p Pace) Says() string {
	switch {
	case p.Planned < 1:
		return ""
	case p.Proven < 1:
		return fmt.Sprintf("this machine proved nothing of the %s deliveries a second that this trial plans",
			units.Count(int64(p.Planned)))
	case p.Proven >= 0.97*p.Planned:
		return fmt.Sprintf("this machine proved up to %s deliveries a second of this trial, and it plans no more: "+
			"what "+
			"took its time came and went", units.Count(int64(p.Proven)))
	}
	return fmt.Sprintf("this machine proved up to %s deliveries a second of this trial; it plans up to %s",
		units.Count(int64(p.Proven)), units.Count(int64(p.Planned)))
}
