package run

import (
	"encoding/json"
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"tidepull/internal/measure/logbook"
	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
	"tidepull/internal/trial/expr"
	"tidepull/internal/trial/language"
	"tidepull/internal/wire/jsonscan"
)

// kept is a trial that logs in with a secret, speaks over both wires, in base64
// too, and asks at the end what the server has kept.
const kept = `
trial "what is kept" {
  prompt = "2500ms"
  grace  = "3s"
}
secret "password" { env = "TIDEPULL_TEST_PASSWORD" }
target "board" {
  dialect = "coded"
  order   = "same"
}
dialect "coded" {
  name {
    send      = { kind = "name", name = name }
    confirmed = msg.kind == "named"
  }
  enter {
    send      = { kind = "enter", room = room }
    confirmed = msg.kind == "entered"
  }
  heard {
    when    = msg.kind == "notice"
    room    = msg.room
    seq     = msg.seq
    payload = msg.text
    decoded = unbase64(msg.text)
  }
  presence {
    when    = msg.kind == "presence"
    room    = msg.room
    members = msg.members
  }
}
session "speak" {
  request "log in" {
    path = "/login"
    form = { user = "harbour-master", password = secret.password }
  }
  connect {}
  enter { room = "harbour-office" }
  barrier "all there" { within = "20s" }
  repeat {
    every = "400ms"
    times = 5
    choose {
      option {
        say { body = { kind = "notice", room = room, text = base64("${secret.password} coded ${mark}") } }
      }
      option {
        say {
          payload = "${awkward(round)} ${mark}"
          body    = { kind = "notice", room = room, text = payload }
        }
      }
      option {
        request "publish" {
          path    = "/publish"
          json    = { room = room, text = "published ${mark}" }
          reaches = "room"
        }
      }
    }
  }
  pause { lasts = "1m" }
}
crew "masters" {
  clients = 16
  session = session.speak
  name    = "master-${n}-${secret.password}"
}
tide {
  flood "100%" { over = "500ms" }
  slack { lasts = "5s" }
}
final_check "what is kept" {
  holds = msg.notices == messages.notices && msg.members == 0 && ledger.lost == 0
  request { path = "/counters" }
}
final_check "the history" {
  holds = contains(text, "published") && status == 200
  request { path = "/history?room=harbour-office" }
}
final_check "a command" {
  holds   = number(text) == messages.sent
  command = ["echo", "80"]
}
`

// TestFinalChecks runs it over real sockets, with both drivers, against a board
// that keeps notices in SQLite and one that forgets some.
func TestFinalChecks(t *testing.T) {
	const secret = "high-water" // the stand-in's own password
	t.Setenv("TIDEPULL_TEST_PASSWORD", secret)
	for name, tc := range map[string]struct {
		portable bool
		forget   float64
		verdict  Verdict
	}{"good": {verdict: Holds}, "good, portable": {portable: true, verdict: Holds},
		"forgets": {forget: 0.1, verdict: Broken}} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			snap, sum, truth := carryOut(t, kept, standin.Config{Login: true,
				Store: filepath.Join(t.TempDir(), "board.db"), Switches: board.Switches{Forget: tc.forget}},
				tc.portable)
			verdict := sum.Verdict
			if verdict == NotProven && snap.Total.Overloaded > 0 {
				verdict = Holds // this machine had too little for it
			}
			l := sum.Ledger
			// It is a closed loop that ends with the tide: on a full machine less is said.
			if tooFull(t, snap) || l.Said < 80 {
				return
			}
			if verdict != tc.verdict || len(sum.FinalChecks) != 3 ||
				(sum.FinalChecks[0].Verdict == Broken) != (tc.forget > 0) {
				t.Errorf("%s: %+v\n%+v\n%v", sum.Verdict, sum.FinalChecks, sum.Ledger.Tally, sum.Reasons)
			}
			if l.Lost != 0 || l.Stray != 0 || l.Altered != 0 || l.Disagreed != 0 || !l.Balanced || l.Said != 80 ||
				l.Delivered+l.Late+l.Excused != 80*16 || truth.Totals.Notices != 80 {
				t.Errorf("%+v\n%v", l, sum.Reasons)
			}
			for _, c := range sum.Checks {
				if c.Failed > 0 || c.Held == 0 {
					t.Errorf("check %+v", c)
				}
			}
			// The secret was said and used, and nothing of it is left.
			bodies := ""
			for _, b := range snap.Bodies {
				bodies += string(b.Text) + "\n"
			}
			all, err := json.Marshal([]any{sum, snap.Names, snap.Rooms, snap.Events, snap.FinalResults})
			if err != nil {
				t.Fatal(err)
			}
			if text := string(all) + bodies; strings.Contains(text, secret) ||
				!strings.Contains(fmt.Sprint(snap.Names), "•••") || len(snap.Bodies) == 0 {
				t.Errorf("the secret is in what is kept, or nothing is: %d bodies, %.200s", len(snap.Bodies), text)
			}
		})
	}
}

// TestFinalCheckInDoubt: losses that may be this machine's doing break no final check.
func TestFinalCheckInDoubt(t *testing.T) {
	t.Setenv("TIDEPULL_TEST_PASSWORD", "high-water")
	for wanted, verdict := range map[string]Verdict{"ledger.lost == 5": Holds, "ledger.lost <= 2": NotProven,
		"ledger.lost == 0": Broken, "ledger.lost == msg.lost": NotProven} {
		tr, err := language.Parse([]byte(strings.Replace(strings.Replace(kept, "ledger.lost == 0", wanted, 1),
			"msg.notices == messages.notices && msg.members == 0 && ", "", 1)), "t.trial.hcl",
			language.Options{Target: "ws://127.0.0.1:7411/live"})
		if err != nil {
			t.Fatal(err)
		}
		k := &tr.FinalChecks[0]
		s := &expr.Scope{Fields: make([]jsonscan.Value, tr.Fields.Len())}
		total := &logbook.Window{SurelyLost: 2}
		total.Total.Owed, total.Total.Lost = 100, 5
		got, why := holdsFinally(tr, k, s, []byte(`{"lost": 2}`), total)
		if got != verdict || (why == nil) != (verdict == Holds) {
			t.Errorf("%s: %v, %v", wanted, got, why)
		}
	}
}
