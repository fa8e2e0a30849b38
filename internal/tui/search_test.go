package tui_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"tidepull/internal/standin"
)

// TestSearch looks at a search for a capacity, and ends it: not by one key, and with what is known.
func TestSearch(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "bears.trial.hcl")
	if err := os.WriteFile(file, []byte(`
trial "bears" { grace = "300ms" }
target "board" { websocket = "ws://127.0.0.1:7411/live" }
session "s" {
  connect {}
  enter { room = "lock-1" }
  repeat {
    every = "20ms"
    say { body = { kind = "notice", room = room, text = mark } }
  }
}
crew "pilots" {
  clients = 16
  session = session.s
}
tide {
  slack { lasts = "1m" }
}
limit "few arrive" {
  of    = ledger.delivered
  below = 1000
}
`), 0o666); err != nil {
		t.Fatal(err)
	}
	s := open(t, 100, 30, binary+" capacity "+file+" --target "+startStandin(t, standin.Config{}).URL()+
		" --from 4 --most 200 --window 2s")
	s.until(`capacity of ws://127.0.0.1`, 10*time.Second)
	s.until(`window 1: 4 clients`, 20*time.Second)
	s.until(`(?m)^▸ +1 +4 +(▲ held|■ broke|╳ not proven)`, 20*time.Second)
	s.keys("?")
	s.until(`Capacity answers: how much does the server bear`, 5*time.Second)
	s.keys("Escape")
	s.until(`(?m)^ +1 +4 +(▲ held|■ broke|╳ not proven)`, 40*time.Second) // a second one is above it
	s.keys("q")
	s.until(`q again ends it`, 5*time.Second)
	s.keys("q")
	s.until(`the search is over`, 20*time.Second)
	s.until(`not known any further: it was stopped`, 5*time.Second)
	s.keys("q")
	s.until(`(?s)(bears|none of \d+ windows? proved).*status 0`, 5*time.Second)
}
