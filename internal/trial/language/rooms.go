package language

import (
	"maps"
	"slices"

	"tidepull/internal/measure/ledger"
	"tidepull/internal/trial"
)

// checkRooms looks at what sessions say to the members of a room without having entered one, which
// could never be said. In a trial without rooms "the others" are all clients but the one that speaks.
func (r *reader) checkRooms() {
	rooms := false
	for _, s := range r.sessions {
		rooms = rooms || entersRoom(s.Session)
	}
	for _, name := range slices.Sorted(maps.Keys(r.sessions)) {
		s := r.sessions[name]
		if entersRoom(s.Session) {
			continue
		}
		for i := range s.Steps {
			st := &s.Steps[i]
			says := st.Do == trial.Say || st.Do == trial.Ask && st.Request != nil && st.Request.Publishes
			switch {
			case !says || st.All || st.Room != nil:
			case st.Reaches == ledger.ToOthers && !rooms:
				st.All = true
			case st.Reaches == ledger.ToOthers || st.Reaches == ledger.ToRoom:
				r.missing(s.names, "the session says something to the members of a room, and enters none: write "+
					"enter {} before it, or say with reaches = \"everyone\"")
				return // for the first of them
			}
		}
	}
}

// entersRoom reports whether a session enters a room.
func entersRoom(s *trial.Session) bool {
	return slices.ContainsFunc(s.Steps, func(st trial.Step) bool { return st.Do == trial.Enter })
}
