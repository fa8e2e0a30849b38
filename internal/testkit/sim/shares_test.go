package sim_test

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"tidepull/internal/engine"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/meter"
	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
	"tidepull/internal/testkit/sim"
	"tidepull/internal/trial"
	"tidepull/internal/trial/language"
)

// factsOf is everything settled that came of a run, in a form in which neither the
// numbers of rooms and messages nor the order of what is of one instant show.
func factsOf(t *testing.T, p played) []byte {
	t.Helper()
	type second struct {
		At      int
		Cells   map[string]ledger.Tally
		Latency []logbook.Series
		Hists   []meter.Packed
		Foreign int64
		Counts  logbook.Counts
		Checks  []logbook.CheckCount
	}
	room := func(r ledger.Room) string {
		if r < 0 {
			return ""
		}
		return p.last.Rooms[r]
	}
	var seconds []second
	for _, e := range p.entries {
		s := second{At: e.At, Cells: map[string]ledger.Tally{}, Latency: e.Latency, Foreign: e.Foreign,
			Counts: e.Counts,
			Checks: e.Checks, Hists: append(e.Times[:], e.First, e.Median, e.Last)}
		for _, c := range e.Cells {
			s.Cells[fmt.Sprint(room(c.Cell.Room), " ", c.Cell.Kind, " ", c.Cell.Crew)] = c.Tally
		}
		seconds = append(seconds, s)
	}
	type message struct {
		Room string
		ledger.Message
	}
	var kept []message
	for _, m := range p.last.Kept {
		k := message{room(m.Room), m}
		k.Number, k.Message.Room = 0, 0
		k.Outcomes = slices.Clone(m.Outcomes)
		slices.SortFunc(k.Outcomes, func(a, b ledger.Outcome) int {
			return cmp.Or(cmp.Compare(a.Client, b.Client), cmp.Compare(a.Fate, b.Fate),
				cmp.Compare(a.Latency, b.Latency))
		})
		kept = append(kept, k)
	}
	slices.SortStableFunc(kept, func(a, b message) int {
		return cmp.Or(cmp.Compare(a.Sent, b.Sent), cmp.Compare(a.Sender, b.Sender), cmp.Compare(a.Kind, b.Kind),
			cmp.Compare(a.Room, b.Room))
	})
	var events []string
	for _, e := range p.events {
		events = append(events, fmt.Sprintf("%12d %4d %s %s %s", e.At, e.Client, e.What, room(e.Room), e.Detail))
	}
	slices.Sort(events)
	b, err := json.MarshalIndent([]any{seconds, kept, events, p.last.Sent, p.last.Got, p.last.Reasons, p.last.Unkept},
		"", " ")
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// restless is a session in which clients do all that takes several shares to judge:
// they speak and whisper, at rates of their own, of their crew and of their room, wait
// for each other, leave, vanish and come back, and are given histories.
const restless = `
  connect {}
  enter { room = "lock-${n % 3}" }
  barrier "all there" { within = "3s" }
  repeat {
    rate  = "30/s"
    per   = "crew"
    times = 5
    say {
      payload = "${awkward(round)}"
      body    = { kind = "notice", room = room, ref = mark, text = payload }
    }
  }
  choose {
    option {
      leave {}
      enter {
        room    = "quay-${n % 2}"
        history = 5
      }
    }
    option {
      vanish {}
      connect {}
      enter { room = "lock-${n % 2}" }
    }
    option {
      close {}
      connect {}
      enter { room = "lock-${(n + 1) % 3}" }
    }
    option {
      pause {
        lasts = "100ms"
        most  = "2s"
      }
    }
  }
  repeat {
    rate    = "6/s"
    per     = "room"
    pattern = "poisson"
    times   = 4
    say { body = { kind = "notice", room = room, text = "${name} lies off ${mark}" } }
    whisper {
      to   = "pilot-${(n * 7 + round) % 17}"
      body = { kind = "whisper", to = to, text = "come in ${mark}" }
    }
  }
  pause { lasts = "2s" }
`

// seeds is how many seeds are played.
func seeds(n int) int {
	switch all := os.Getenv("TIDEPULL_SEEDS"); { // 1000 in make soak
	case all != "":
		n, _ = strconv.Atoi(all)
	case underRace:
		n = max(4, n/12) // the same code, ten times as slow
	}
	return n
}

// cuts and slows are faults whose effect follows from the time alone. Cuts end a long poll and not
// the session behind it, so they do not go with routes.
const cuts = `
fault "cut" {
  do    = "cut"
  at    = "2500ms"
  share = "40%"
}
fault "unplugged" {
  do    = "unplug"
  at    = "4500ms"
  lasts = "700ms"
  share = "20%"
}
`
const slows = `
fault "frozen" {
  do    = "freeze"
  at    = "3s"
  lasts = "800ms"
  share = "30%"
}
fault "far" {
  do    = "delay"
  by    = "20ms"
  at    = "4s"
  lasts = "1s"
  share = "50%"
}
`

// restlessTrials are trials in which clients move between rooms, speak at rates and tell each other of it; and such
// ones with faults, from which they return, or with routes, which they climb.
func restlessTrials() (moving, returning, climbing string, config standin.Config) {
	w := weakness{config: standin.Config{Notices: true, Gauge: 300 * time.Millisecond}, session: restless, top: feed}
	moving = strings.NewReplacer("clients = 20", "clients = 17", `"3s" }`, `"700ms" }`, `"20s" }`, `"5s" }`).
		Replace(w.trial("restless"))
	beating := strings.Replace(moving, `websocket = "ws://127.0.0.1:7411/live"`,
		`websocket = "ws://127.0.0.1:7411/live?client=${name}"
  route "polling" {
    polling  = "http://127.0.0.1:7411/poll?client=${name}"
    post_end = true
  }
  promise {
    from     = "server"
    every    = "500ms"
    deadline = "3s"
  }`, 1)
	crew := func(with string) string {
		return strings.Replace(beating, "  session = session.s\n", "  session = session.s\n"+with, 1) + slows
	}
	returning = crew(`  routes = ["websocket"]
  reconnect {
    first = "100ms"
    most  = "1s"
  }
`) + cuts
	climbing = strings.Replace(crew(`  routes  = ["websocket", "polling"]
  promote = true
`), "  joined {", `  switch {
    send      = { kind = "probe" }
    confirmed = msg.kind == "ready"
    then      = { kind = "switch" }
  }
  joined {`, 1)
	return moving, returning, climbing, w.config
}

// TestShares plays trials of random seeds, with and without faults, returns, routes and heartbeats, in one share that
// tells each arrival by itself, and in one and in several that tell them together, with everything that passes between
// shares in its encoding: what is settled is the same to the last byte, and if nobody comes or goes while others
// speak it equals the stand-in's truth.
func TestShares(t *testing.T) {
	seeds := seeds(12)
	crowded := strings.NewReplacer("clients = 40", "clients = 13", "clients = 20", "clients = 8", "% 20", "% 8",
		`"12s"`, `"6s"`).Replace(speakInSlack)
	moving, returning, climbing, config := restlessTrials()
	const workers = 4
	for worker := range workers {
		t.Run(fmt.Sprint(worker), func(t *testing.T) {
			t.Parallel()
			for seed := uint64(worker); seed < uint64(seeds) && !t.Failed(); seed += workers {
				source, cfg, exact := moving, config, seed%2 == 0
				if exact {
					source, cfg = crowded, standin.Config{}
				}
				if seed%3 == 2 {
					source, cfg, exact = []string{returning, climbing}[seed%2], config, false
					cfg.PingEvery, cfg.History = 500*time.Millisecond, -1
				}
				if seed/6%2 == 1 { // arrivals are told together
					source = strings.ReplaceAll(source, "        history = 5\n", "")
				}
				tr, err := language.Parse([]byte(source), "shares.trial.hcl", language.Options{})
				if err != nil {
					t.Fatal(err)
				}
				tr.Seed = seed
				join := time.Duration(0)
				if seed%5 == 4 {
					join = 7 * time.Millisecond // the tool is behind, and reads several messages at once
				}
				switches := faults(seed, exact)
				if seed%3 == 2 {
					// What comes over a bad path at one instant comes in any order, and a share that is
					// behind reads when something of its own paths is due, too.
					switches, join = board.Switches{}, 0
				}
				w := compareShares(t, tr, cfg, switches, join, exact)
				if c := &w.Counts; seed%3 == 2 && (c.Returns.Back+c.Routes.Up == 0 || c.Pulse.Heard == 0 ||
					c.Path.Delayed == 0) {
					t.Errorf("seed %d: there was no trouble: %+v", seed, *c)
				}
			}
		})
	}
}

// faults are none for each fourth seed, and else all switches, or all those whose
// truth the stand-in counts one by one.
func faults(seed uint64, exact bool) board.Switches {
	switch {
	case seed%8 < 2:
		return board.Switches{}
	case exact:
		return board.Switches{Seed: seed, Hold: 40 * time.Millisecond, Lose: 0.02, Double: 0.02, Misdirect: 0.02}
	}
	return board.Switches{Seed: seed, Hold: 10 * time.Millisecond, Lose: 0.02, Double: 0.02, Misdirect: 0.01,
		WrongEcho: 0.02, Leak: 0.02, Overhear: 0.05, History: 0.3, Reorder: 0.03, Disorder: 0.02, Alter: 0.02,
		TooBig: 5000, OpenDoor: 0.1, Presence: 0.03, Clash: 0.05, Forget: 0.02}
}

func compareShares(t *testing.T, tr *trial.Trial, cfg standin.Config, switches board.Switches,
	join time.Duration, exact bool) *logbook.Window {
	t.Helper()
	var one []byte
	var w *logbook.Window
	var elapsed time.Duration
	for n, shares := range []int{1, 1, 2, 3, 7} {
		listening, dialling := sim.NewShared(3*time.Millisecond, join, shares)
		cfg.Switches = switches
		p := playOn(t, tr, cfg, listening, dialling, func(c *engine.Config) { c.OneByOne = n == 0 })
		if why := p.window.Imbalance(); why != "" || p.window.Total.Open() != 0 {
			t.Errorf("seed %d, %d shares: %s, %d open", tr.Seed, shares, why, p.window.Total.Open())
		}
		l, truth := p.window.Total, p.truth
		if exact && (l.Owed != truth.Due || l.Delivered+l.Late != truth.Written || l.Lost != truth.Lost ||
			l.Duplicate+l.Stray != truth.Doubled+truth.Misdirected || l.Said == 0) {
			t.Errorf("seed %d, %d shares: ledger %+v\ntruth %+v", tr.Seed, shares, l, truth)
		}
		facts := factsOf(t, p)
		if n == 0 {
			one, w, elapsed = facts, p.window, p.last.Elapsed
			continue
		}
		// A client that waits for the server looks once more, if its share has not read all yet.
		if off := (p.last.Elapsed - elapsed).Abs(); off > 4*time.Millisecond {
			t.Errorf("seed %d, %d shares: it ended %v apart", tr.Seed, shares, off)
		}
		if !bytes.Equal(facts, one) {
			t.Fatalf("seed %d, %d shares: %s", tr.Seed, shares, firstDifference(one, facts))
		}
	}
	return w
}

// firstDifference shows where two texts part, with the lines around it.
func firstDifference(a, b []byte) string {
	x, y := strings.Split(string(a), "\n"), strings.Split(string(b), "\n")
	for i := range x {
		if i >= len(y) || x[i] != y[i] {
			return fmt.Sprintf("line %d:\n%s\n--- with one share that tells each arrival by itself, and\n%s", i,
				strings.Join(x[max(0, i-25):min(len(x), i+4)], "\n"),
				strings.Join(y[max(0, min(len(y), i-3)):min(len(y), i+4)], "\n"))
		}
	}
	return "one is longer"
}
