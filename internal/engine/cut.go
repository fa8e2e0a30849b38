package engine

import (
	"tidepull/internal/base/mono"
	"tidepull/internal/trial"
)

// cutClients breaks the connections of the clients that a fault of the trial's cuts: each
// share does so for its own.
func (s *share) cutClients(now mono.Time) {
	for len(s.cuts) > 0 && s.cuts[0].At <= s.since(now) && !s.stopped.Load() {
		f := s.cuts[0].Fault
		s.cuts = s.cuts[1:]
		for i := range s.clients {
			if c := &s.clients[i]; trial.InShare(f.Share, int(c.ID())) {
				c.CutOff(s.env, s.drv.Now(), f.Name, f.Lasts)
				s.after(int32(i))
			}
		}
	}
}
