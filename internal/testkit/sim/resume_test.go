package sim_test

import (
	"fmt"
	"testing"
	"time"

	"tidepull/internal/measure/logbook"
	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
	"tidepull/internal/trial/language"
)

const resuming = `
trial "t" {
  seed  = %d
  grace = "3s"
}
target "board" {
  websocket = "ws://127.0.0.1:7411/live"
  dialect   = "board"
}
dialect "board" {
  name {
    send      = { kind = "name", name = name }
    confirmed = msg.kind == "named"
  }
  enter {
    send      = { kind = "enter", room = room }
    confirmed = msg.kind == "entered" && msg.room == room
  }
  past {
    when = msg.kind == "past"
    seq  = msg.seq
  }
  heard {
    when = msg.kind == "notice"
    room = msg.room
    seq  = msg.seq
  }
}
session "watch" {
  connect {}
  expect "a token" {
    already = true
    when    = msg.kind == "named"
    capture = { token = msg.token }
  }
  enter { room = "basin" }
  repeat {
    every = "400ms"
    times = 34
    say { body = { kind = "notice", room = room, text = "berth ${n} ${mark}" } }
  }
  pause { lasts = "1m" }
}
crew "pilots" {
  clients = 20
  session = session.watch
  reconnect {
    first    = "700ms"
    jitter   = "none"
    within   = "1s"
    catch_up = true
    resume   = { kind = "resume", token = my.token, after = last }
    resumed  = msg.kind == "resumed"
  }
}
tide {
  flood "100%%" { over = "1s" }
  slack { lasts = "22s" }
  ebb { over = "1s" }
}
fault "a quay loses power" {
  do    = "cut"
  at    = "3s"
  every = "5s"
  times = 2
  share = "40%%"
}`

// TestResume: clients come back by a token and the number of what they heard last, and get
// what they missed, each message once; from a server that has forgotten them they come back by
// their names. How long that took is counted up to the last of it.
func TestResume(t *testing.T) {
	t.Parallel()
	for seed := range seeds(5) {
		tr, err := language.Parse(fmt.Appendf(nil, resuming, seed), "t.trial.hcl", language.Options{})
		if err != nil {
			t.Fatal(err)
		}
		forgets := seed%3 == 2
		cfg := standin.Config{History: 500, Resume: time.Minute}
		if forgets {
			cfg.Resume = time.Millisecond
		}
		p := playShared(t, tr, cfg, board.Switches{Seed: uint64(seed)}, 0, 1+seed%2)
		l, r, w := p.window.Total, &p.window.Counts.Returns, p.window
		if w.Imbalance() != "" || l.Open() != 0 || r.Broke != 16 || r.Back != 16 || l.CaughtUp < 16*10 ||
			l.Lost+l.Stray+l.Duplicate != 0 || l.Owed != l.Delivered+l.CaughtUp+l.Excused+l.Late {
			t.Errorf("seed %d: %s %+v\n%+v; %v", seed, w.Imbalance(), l, *r, p.reasons)
		}
		least, most := 700*time.Millisecond, 760*time.Millisecond
		if forgets { // it waits for an answer, and tries again by name
			least, most = 2*time.Second, 4*time.Second
		}
		if n := w.Times[logbook.ToCatchUp].Count(); n != 16 || w.Times[logbook.ToCatchUp].Min() < least ||
			w.Times[logbook.ToCatchUp].Max() > most {
			t.Errorf("seed %d: %d caught up in %v to %v", seed, n, w.Times[logbook.ToCatchUp].Min(),
				w.Times[logbook.ToCatchUp].Max())
		}
		bad := playShared(t, tr, cfg, board.Switches{Seed: uint64(seed), Load: board.Load{NoReturn: 0.9}}, 0, 1)
		if n := bad.window.Total.Lost; n == 0 {
			t.Errorf("seed %d: a server that gives nothing on return loses %d", seed, n)
		}
	}
}

// TestForgets: a board that restarts on request, politely or rudely, has forgotten how far its
// rooms were numbered: that shows after the return, and does not after a cut alone.
func TestForgets(t *testing.T) {
	t.Parallel()
	for name, ask := range map[string]string{"politely": "/restart?down=500ms", "rudely": "/restart?down=500ms&rude=1",
		"not at all": ""} {
		source := fmt.Sprintf(resuming, 1)
		if ask != "" {
			source += fmt.Sprintf(`
session "deploy" {
  pause { lasts = "7s" }
  request "deployed" {
    method = "POST"
    path   = %q
  }
}
crew "harbour master" {
  clients = 1
  session = session.deploy
}
`, ask)
		}
		p := playWith(t, source, standin.Config{History: 500}, board.Switches{})
		c := &p.window.Counts
		if r := &c.Returns; r.Back != r.Broke || r.Broke < 16 || (r.Renumbered > 0) != (ask != "") ||
			(p.truth.Restarts > 0) != (ask != "") || c.Broken+c.Malformed != 0 || p.window.Imbalance() != "" {
			t.Errorf("%s: %+v\n%+v; %v", name, *r, p.truth, p.reasons)
		}
	}
}
