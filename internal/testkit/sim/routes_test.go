package sim_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
)

// manyRoutes is a target that can be reached in four ways.
const manyRoutes = `{
  websocket = "ws://127.0.0.1:7411/live?client=${name}"
  route "events" {
    events       = "http://127.0.0.1:7411/events?client=${name}"
    first_within = "300ms"
  }
  route "polling" {
    polling  = "http://127.0.0.1:7411/poll?client=${name}"
    post_end = true
  }
  route "asking" {
    polling  = "http://127.0.0.1:7411/poll?client=${name}&wait=0"
    every    = "200ms"
    post_end = true
  }
}`

// TestRoutes: whatever stands in the clients' way, and however they change their routes,
// the ledger is the truth.
func TestRoutes(t *testing.T) {
	var down, up, failed, none int64
	for seed := range seeds(6) {
		r := rand.New(rand.NewPCG(uint64(seed), 11))
		pick := func(of ...string) string { return of[r.IntN(len(of))] }
		source := strings.Replace(speakInSlack, `{ websocket = "ws://127.0.0.1:7411/live" }`, manyRoutes, 1)
		source = strings.Replace(source, "pause { lasts = \"2s\" }", "pause { lasts = \"4s\" }", 1)
		source = strings.Replace(source, "crew \"pilots\" {", fmt.Sprintf("crew \"pilots\" {\n  settle = %q\n  "+
			"promote = %s\n%s",
			pick("1s", "3s"), pick("true", "false"), pick("", "  retry = \"700ms\"\n",
				"  retry = \"1s\"\n  without \"websocket\" { share = \"33%\" }\n")), 1)
		source = strings.Replace(source, "crew \"tugs\" {", fmt.Sprintf("crew \"tugs\" {\n  routes = [%s]\n  promote "+
			"= %s\n",
			pick(`"events", "polling"`, `"websocket", "asking"`, `"websocket", "events", "polling"`,
				`"websocket", "events"`), pick("true", "false")), 1)
		part := func() float64 { return pick2(r, 0, 0.3, 0.7) }
		s := board.Switches{Seed: uint64(seed), Lose: 0.03, Double: 0.03, Misdirect: 0.03, Ways: board.Ways{
			RefuseUpgrade: part(), StripUpgrade: part(), RefuseStream: part(), BufferStream: part()}}
		if r.IntN(3) == 0 {
			s.EndStreams = 1500 * time.Millisecond
		}
		if r.IntN(4) == 0 {
			s.Stall = 200 * time.Millisecond
		}
		p := playWith(t, source, standin.Config{}, s)
		l, c := p.window.Total, p.window.Counts
		// What is misdirected twice to the same outsider is stray and then there twice.
		if p.window.Imbalance() != "" || l.Open() != 0 || l.Lost != p.truth.Lost ||
			l.Duplicate+l.Stray != p.truth.Doubled+p.truth.Misdirected || l.Delivered+l.Late != l.Owed-l.Lost ||
			l.Reordered != 0 {
			t.Errorf("seed %d, %s: %+v\nin truth %+v; %v", seed, p.window.Imbalance(), l, p.truth, p.reasons)
		}
		if c.Denied+c.Malformed+c.Unsent != 0 || c.Opened < c.Finished ||
			c.Refused+c.Broken != c.Routes.NoneLeft {
			t.Errorf("seed %d: %+v; %v", seed, c, p.reasons)
		}
		down, up, failed, none = down+c.Routes.Down, up+c.Routes.Up, failed+c.Routes.UpFailed, none+c.Routes.NoneLeft
		if t.Failed() {
			break
		}
	}
	if down == 0 || up == 0 || failed == 0 || none == 0 {
		t.Errorf("%d steps down, %d up, %d failed, %d without a route: too few to say anything", down, up, failed, none)
	}
}

func pick2(r *rand.Rand, of ...float64) float64 { return of[r.IntN(len(of))] }
