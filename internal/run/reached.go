package run

import (
	"errors"
	"slices"
	"strings"

	"tidepull/internal/engine"
)

// nobodyGotIn reports whether every client of a run that is over was refused: it says nothing of what the
// server does for its clients.
func (s *Snapshot) nobodyGotIn() bool {
	c := &s.Total.Counts
	return c.Opened == 0 && c.Requests == 0 && c.Refused > 0 && c.Refused >= c.Started
}

// refusals are the reasons for which connections were refused.
func (s *Snapshot) refusals() (all []string) {
	for text := range s.Reasons {
		if why, is := strings.CutPrefix(text, "refused: "); is {
			all = append(all, why)
		}
	}
	slices.Sort(all)
	return all
}

// provesNothing has the judgements of a run in which nothing could be reached say so: what was not there
// has broken nothing.
func (s *Snapshot) provesNothing() {
	var unreachable *engine.Unreachable
	if !errors.As(s.Err, &unreachable) {
		return
	}
	s.Judgements = slices.Clone(s.Judgements) // earlier snapshots share them
	for i := range s.Judgements {
		if j := &s.Judgements[i]; j.Verdict == Broken {
			j.Verdict, j.Why = NotProven, "no connection could be opened"
		}
	}
}
