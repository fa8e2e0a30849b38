package trial

import (
	"fmt"
	"time"
)

// ForGood is how long a client stays that listens until the tide falls: longer than any trial.
const ForGood = 100 * 365 * 24 * time.Hour

// Warnings say what of a trial is no mistake, and perhaps not what is meant.
func (t *Trial) Warnings() (all []string) {
	said := map[*Session]bool{}
	for _, c := range t.Crews {
		if s := c.Session; s != nil && !said[s] && s.endsAtOnce() {
			said[s] = true
			all = append(all, fmt.Sprintf("session %q closes its clients' connections after its last step; stay {} at "+
				"its end has them listen until the tide falls", s.Name))
		}
	}
	return all
}

// endsAtOnce reports whether a session that has connected ends without having waited for anything, and
// without a goodbye of its own.
func (s *Session) endsAtOnce() bool {
	connects := false
	for i := range s.Steps {
		connects = connects || s.Steps[i].Do == Connect
	}
	if !connects {
		return false
	}
	switch last := &s.Steps[len(s.Steps)-1]; last.Do {
	case Pause, Close, Closed, Vanish, Leave, Malform, Again, Jump:
		return false
	default:
		return last.Dial == nil || !last.Dial.Refused
	}
}
