package run

import (
	"fmt"
	"testing"

	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
	"tidepull/internal/trial/language"
)

const leaving = `
trial "leaving" { grace = "1s" }
target "board" { websocket = "ws://ADDRESS/live" }
server {
  metrics     = "http://%v/metrics"
  connections = "harbour_connections"
  members     = "harbour_members"
  presence    = "%s"
}
session "watch" {
  connect {}
  enter { room = "lock-${n %% 4}" }
  pause { lasts = "1m" }
}
crew "pilots" {
  clients = 40
  session = session.watch
}
tide {
  flood "100%%" { over = "300ms" }
  slack { lasts = "1200ms" }
  ebb { over = "300ms" }
}
`

// TestLeftovers: what a server says of itself is compared with what it said before the clients
// came: nothing is left of a good one's, its ghosts stay announced, and what it does not say is
// not taken for nothing.
func TestLeftovers(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name, metric string
		ghost        float64
		verdict      Verdict
	}{
		{"nothing is left", "harbour_present", 0, Holds},
		{"ghosts", "harbour_present", 0.5, Broken},
		{"a metric that is not there", "harbour_boats", 0, NotProven},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			s, err := standin.Start(standin.Config{Switches: board.Switches{Beats: board.Beats{Ghost: c.ghost}}})
			if err != nil {
				t.Fatal(err)
			}
			defer s.Stop()
			r := begin(t, fmt.Sprintf(leaving, s.Addr, c.metric), language.Options{Target: s.URL()}, Options{})
			snap := r.Wait()
			if snap.Err != nil {
				t.Fatal(snap.Err)
			}
			s.Stop()
			ghosts, found := float64(s.Summary().Totals.Ghosts), 0
			if tooFull(t, snap) {
				return
			}
			for _, j := range snap.Judgements {
				switch j.Limit.Figure {
				case "server.presence_left":
					found++
					if j.Verdict != c.verdict || c.verdict != NotProven && j.Measured != ghosts ||
						c.verdict == Broken && ghosts == 0 {
						t.Errorf("%s: %v, %v of %v", j.Limit.Name, j.Verdict, j.Measured, ghosts)
					}
				case "server.connections_left", "server.members_left":
					if found++; j.Verdict != Holds || j.Measured != 0 {
						t.Errorf("%s: %v, %v: %s", j.Limit.Name, j.Verdict, j.Measured, j.Why)
					}
				}
			}
			if says := Summarise(snap).Server.Says; found != 3 || says["connections"].Most != 40 ||
				says["members"].Most != 40 || says["members"].Last != 0 {
				t.Errorf("%d limits; %+v", found, says)
			}
		})
	}
}
