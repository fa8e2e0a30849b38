package tui_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
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

// TestSurvey looks at a survey as it goes on, at what it found, at the run that shows it, and at a small screen.
func TestSurvey(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	trial, err := filepath.Abs("../../trials/morning-tide.trial.hcl")
	if err != nil {
		t.Fatal(err)
	}
	s := open(t, 150, 44, binary+" survey "+trial+" --only steady --store - --out "+dir+
		" --target "+startStandin(t, standin.Config{Switches: board.Switches{WrongEcho: 0.2}}).URL())
	s.until(`a survey of ws://127.0.0.1`, 10*time.Second)
	s.until(`it begins in a moment`, 5*time.Second)
	s.until(`does +1 experiment, of some 20 s each; clients connect`, 5*time.Second)
	s.until(`experiment 1 of \d+`, 10*time.Second)
	s.until(`Who gets it\?.*How soon\?.*What happens when it breaks\?`, 5*time.Second)
	s.until(`● +2 wrong echo`, 5*time.Second)
	s.until(`now: steady`, 10*time.Second)
	s.keys("?")
	s.until(`A survey answers: what is wrong with this server`, 5*time.Second)
	s.keys("Escape")
	s.until(`the survey is over`, 150*time.Second) // what says nothing as the machine was busy is done again, twice
	if strings.Contains(s.look(), "weaknesses 0 found") {
		t.Skip("it proves nothing: this machine was busy with something else")
	}
	s.until(`(?s)■ +2 wrong echo.*of 42 weaknesses 1 found|of 42 weaknesses 1 found.*■ +2 wrong echo`, 5*time.Second)
	s.until(`▲ 14 reordering +< 1 in \d+|▲ 14 reordering`, 5*time.Second)
	s.keys("n")
	s.until(`■ 2 wrong echo +found`, 5*time.Second)
	s.until(`usually +The relay leaves out the connection`, 5*time.Second)
	s.keys("Enter")
	s.until(`no\. 2 wrong echo, in the experiment 'steady'`, 5*time.Second)
	s.keys("Escape")
	s.keys("Down")
	s.until(`▲ 3 room leak +not found`, 5*time.Second)
	s.until(`fewer than 1 in [\d,]+ deliveries`, 5*time.Second)
	s.tmux("resize-window", "-t", "s", "-x", "80", "-y", "24")
	s.until(`3 room leak`, 5*time.Second)
	s.keys("e")
	s.until(`written to `, 10*time.Second)
	s.keys("q")
	s.until(`(?s)of 42 weaknesses 1 were found.*status 1`, 10*time.Second)
	for _, name := range []string{"survey.json", "survey.pdf", "survey-1.svg", "survey.md"} {
		if _, err := os.Stat(filepath.Join(dir, name)); err != nil {
			t.Error(err)
		}
	}
}
