package sim_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
	"tidepull/internal/trial/language"
)

// tides is a trial of clients that come, go and come back, and are pushed readings without a number.
func tides(seed uint64, feed string) string {
	return fmt.Sprintf(`
trial "tides" {
  seed  = %d
  grace = "2s"
}
target "board" { websocket = "ws://127.0.0.1:7411/live" }
feed "gauges" {
  when  = msg.kind == "reading"
  %s
}
session "s" {
  connect {}
  repeat {
    every  = "4s"
    jitter = "50%%"
    enter { room = "gauge-${n %% 2 + 1}" }
    pause {
      lasts = "1s"
      most  = "3s"
    }
    leave {}
  }
}
session "stays" {
  connect {}
  enter { room = "gauge-1" }
  when {
    that = n %% 5 == 0
    read_slowly { bytes_per_second = 100 }
  }
  stay {}
}
crew "pilots" {
  clients = 12
  session = session.s
}
crew "keepers" {
  clients = 12
  session = session.stays
}
tide {
  flood "100%%" { over = "3s" }
  slack { lasts = "12s" }
  ebb { over = "2s" }
}`, seed, feed)
}

// TestSame: all who follow a feed without numbers must be given the same. Nothing is held against one that gives
// the same to all, whoever comes, goes, or reads slowly; what some are not given, or are given otherwise, is found.
func TestSame(t *testing.T) {
	t.Parallel()
	gauges := standin.Config{Gauge: 300 * time.Millisecond}
	feeds := map[string]string{
		"a value":         "key   = msg.gauge\n  value = msg.level\n  same  = true",
		"numbers":         "key   = msg.gauge\n  seq = msg.seq\n  value = msg.level\n  same  = true",
		"a constant":      "key   = msg.gauge\n  value = \"high\"\n  same  = true",
		"few of them":     "key   = msg.gauge\n  value = floor(msg.level / 50)\n  same  = true",
		"whole, no value": "key   = msg.gauge\n  same  = true",
	}
	for name, feed := range feeds {
		for seed := range uint64(seeds(3)) {
			for _, shares := range []int{1, 3} {
				tr, err := language.Parse([]byte(tides(seed, feed)), "sim.trial.hcl", language.Options{})
				if err != nil {
					t.Fatal(err)
				}
				p := playShared(t, tr, gauges,
					board.Switches{Hold: time.Duration(seed%3) * 300 * time.Millisecond}, 0, shares)
				if n := p.window.ChecksFailed(); n > 0 || p.window.Counts.Readings < 300 {
					t.Errorf("%s, seed %d, %d shares: %d failed of %d: %v", name, seed, shares, n,
						p.window.Counts.Readings,
						p.reasons)
				}
				told := 0.0
				for _, e := range p.entries {
					for _, v := range e.Told {
						told = max(told, v.Most)
					}
				}
				if strings.Contains(feed, "msg.level\n") != (told > 300) {
					t.Errorf("%s: the highest value is %v", name, told)
				}
			}
		}
	}
	for _, name := range []string{"a value", "whole, no value"} {
		p := playWith(t, tides(4, feeds[name]), gauges, board.Switches{Seed: 2, Lose: 0.02})
		if held, failed := p.window.ChecksHeld(), p.window.ChecksFailed(); failed == 0 || failed > held/10 {
			t.Errorf("%s, one in fifty is not given: %d held, %d failed: %v", name, held, failed, p.reasons)
		}
	}
}
