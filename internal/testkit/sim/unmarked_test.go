package sim_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
)

// unmarkedTrial is a trial in which everybody says the same words, without a mark.
func unmarkedTrial(seed uint64, knownFrom, first string) string {
	return fmt.Sprintf(`
trial "unmarked" {
  seed   = %d
  prompt = "500ms"
  grace  = "3s"
}
target "board" {
  websocket = "ws://127.0.0.1:7411/live"
  http      = "http://127.0.0.1:7411"
}
session "s" {
  connect {}
  enter { room = "lock-${n %% 3}" }
  pause {
    lasts = "%s"
    most  = "9s"
  }
  repeat {
    every  = "4s"
    jitter = "80%%"
    times  = 4
    say {
      body     = { kind = "notice", room = room, text = "gate turning" }
      known_by = msg.kind == "notice" && msg.room == room
      %s
    }
  }
  stay {}
}
crew "pilots" {
  clients = 18
  session = session.s
  name    = "pilot-${n}"
}
tide {
  flood "100%%" { over = "2s" }
  slack { lasts = "50s" }
  ebb { over = "1s" }
}`, seed, first, knownFrom)
}

// TestUnmarked: deliveries without a mark are counted as exactly as those with one, if there is but one at a time
// of each sender, and of many at a time as to their number: nothing is held against a server that is slow.
func TestUnmarked(t *testing.T) {
	t.Parallel()
	const from = "known_from = msg.from"
	for seed := range uint64(seeds(4)) {
		clean(t, playWith(t, unmarkedTrial(seed, from, "5s"), standin.Config{}, board.Switches{}))
		clean(t, playWith(t, unmarkedTrial(seed, "", "10ms"), standin.Config{}, board.Switches{}))
		many := playWith(t, unmarkedTrial(seed, "", "10ms"), standin.Config{},
			board.Switches{Hold: 450 * time.Millisecond})
		clean(t, many)
		// What could be another one's is within bounds, and these hold the truth.
		if p50 := figure(t, many.window, "fanout.p50"); p50 < 450e3 {
			t.Errorf("seed %d: held for 450 ms, and half took less than %v us", seed, p50)
		}
		if least := many.window.FanoutEarly().Quantile(0.99); least > 470*time.Millisecond {
			t.Errorf("seed %d: held for 450 ms, and p99 is %v or more", seed, least)
		}
		for name, tc := range map[string]struct {
			switches board.Switches
			got      func(*played) int64
			want     func(board.Totals) int64
		}{
			"lost": {board.Switches{Seed: seed, Lose: 0.05}, func(p *played) int64 { return p.window.Total.Lost },
				func(b board.Totals) int64 { return b.Lost }},
			"doubled": {board.Switches{Seed: seed, Double: 0.05},
				func(p *played) int64 { return p.window.Total.Duplicate },
				func(b board.Totals) int64 { return b.Doubled }},
		} {
			for _, known := range []string{from, ""} {
				if name == "doubled" && known == "" {
					continue // one that comes twice may be the next one
				}
				p := playWith(t, unmarkedTrial(seed, known, "5s"), standin.Config{}, tc.switches)
				if got, want := tc.got(&p), tc.want(p.truth); got != want || want == 0 {
					t.Errorf("seed %d, %s, %q: %d, and in truth %d: %+v", seed, name, known, got, want, p.window.Total)
				}
			}
		}
	}
}

// TestMarkInAddress: a request whose message stands in its address is accounted for.
func TestMarkInAddress(t *testing.T) {
	t.Parallel()
	for _, with := range []string{`path = "/publish?room=lock-1&text=${mark}"`,
		"path = \"/publish\"\n query = { room = \"lock-1\", text = mark }",
		"path = \"/publish?room=lock-1&text=turn\"\n known_by = msg.kind == \"notice\" && msg.text == \"turn\""} {
		source := strings.Replace(harbour("  repeat {\n every = \"3s\"\n times = 2\n request \"call\" {\n "+with+
			"\n reaches = \"room\"\n }\n }\n stay {}"), `{ websocket = "ws://127.0.0.1:7411/live" }`,
			"{\n websocket = \"ws://127.0.0.1:7411/live\"\n http = \"http://127.0.0.1:7411\"\n}", 1)
		p := playWith(t, source, standin.Config{}, board.Switches{})
		clean(t, p)
		if p.window.Total.Delivered < 100 {
			t.Errorf("%s: too little was delivered: %+v", with, p.window.Total)
		}
	}
}
