package run

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tidepull/internal/measure/logbook"
	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
	"tidepull/internal/trial"
	"tidepull/internal/trial/expr"
	"tidepull/internal/trial/language"
	"tidepull/internal/wire"
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
		"ledger.lost == 0": Broken, "ledger.lost == msg.lost": NotProven,
		// The server counts only what it has come to.
		"messages.sent == msg.lost": NotProven} {
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
		got, why := holdsFinally(tr, k, s, []byte(`{"lost": 2}`), total, 0)
		if got != verdict || (why == nil) != (verdict == Holds) {
			t.Errorf("%s: %v, %v", wanted, got, why)
		}
		// The same if nothing is lost, and some deliveries were excused as this machine was behind.
		total = &logbook.Window{}
		for behind, verdict := range map[int64]Verdict{0: Broken, 3: NotProven} {
			s.Figures = nil
			if got, why := holdsFinally(tr, k, s, []byte(`{"lost": 2}`), total, behind); wanted == "ledger.lost == 5" &&
				got != verdict {
				t.Errorf("%s with %d behind: %v, %v", wanted, behind, got, why)
			}
		}
	}
}

// TestCommands: a command that cannot be run, or takes too long, says nothing of the server.
func TestCommands(t *testing.T) {
	t.Setenv("TIDEPULL_TEST_PASSWORD", "high-water")
	tr, err := language.Parse([]byte(kept), "t.trial.hcl", language.Options{Target: "ws://127.0.0.1:7411/live"})
	if err != nil {
		t.Fatal(err)
	}
	k := tr.FinalChecks[2]
	for _, tc := range []struct {
		command []string
		verdict Verdict
		why     string
	}{
		{[]string{"echo", "0"}, Holds, ""},
		{[]string{"echo", "1"}, Broken, "it does not hold"},
		{[]string{"sh", "-c", "echo no berth >&2; exit 3"}, Broken, "no berth"},
		{[]string{"no-such-command-anywhere"}, NotProven, "cannot be run"},
		{[]string{"sleep", "60"}, NotProven, "was not done within"},
	} {
		if k.Command, k.Within = tc.command, 10*time.Second; tc.command[0] == "sleep" {
			k.Within = 50 * time.Millisecond
		}
		verdict, err := finalCheck(tr, &k, &logbook.Window{}, 0)
		if verdict != tc.verdict || (err == nil) != (tc.why == "") ||
			err != nil && !strings.Contains(err.Error(), tc.why) {
			t.Errorf("%q: %v, %v", tc.command, verdict, err)
		}
	}
}

// TestStaysThere: what is asked of a server is not asked of another one that it names, and a name that
// leads to another machine by now is not connected to.
func TestStaysThere(t *testing.T) {
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		t.Errorf("the other host is asked, with %v", r.Header)
	}))
	defer other.Close()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/away":
			http.Redirect(w, r, other.URL, http.StatusFound)
		case "/here":
			http.Redirect(w, r, "/", http.StatusFound)
		}
	}))
	defer server.Close()
	target := &trial.Target{Address: server.URL}
	for path, want := range map[string]string{"/here": "", "/away": "leads to another host"} {
		resp, err := webClient(target).Get(server.URL + path)
		if err == nil {
			resp.Body.Close()
		}
		if (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", path, err)
		}
	}
	var elsewhere *trial.Elsewhere
	if _, err := dialling(target)(context.Background(), "tcp", "192.0.2.7:80"); !errors.As(err, &elsewhere) {
		t.Errorf("it connects to another machine, or tries to: %v", err)
	}
	p := &places{known: map[string][]wire.Endpoint{}, lookup: func(context.Context, string) ([]netip.Addr, error) {
		return target.Reachable("quay.test", []netip.Addr{netip.MustParseAddr("192.0.2.7")}, nil)
	}}
	if err := p.find(context.Background(), &trial.Target{Address: "ws://quay.test/"}); !errors.As(err, &elsewhere) {
		t.Errorf("a name that leads elsewhere by now: %v", err)
	}
}
