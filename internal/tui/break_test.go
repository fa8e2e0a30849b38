package tui_test

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"tidepull/internal/testkit/port"
)

const toBreak = `
trial "break it" {}
target "board" {
  websocket = "ws://127.0.0.1:PORT/live"
  promise {
    every    = "1s"
    deadline = "8s"
  }
}
server {
  command = ["BINARY", "standin", "--listen", "127.0.0.1:PORT", "--ping-every", "1s", "--pong-within", "8s"]
  ready   = "serving"
}
session "watch" {
  connect {}
  enter { room = "lock-${n % 4}" }
  repeat {
    every = "2s"
    say { body = { kind = "notice", room = room, text = "berth ${n} ${mark}" } }
  }
}
crew "pilots" {
  clients = 40
  session = session.watch
  reconnect {
    first = "100ms"
    most  = "500ms"
  }
}
tide {
  flood "100%" { over = "500ms" }
  slack { lasts = "2m" }
  ebb { over = "1s" }
}
`

// TestBreak: things are broken by hand during a run, and what goes on is ended by the same
// key; Recovery and Pulse show what came of it, and their exports are written.
func TestBreak(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	file := filepath.Join(dir, "break.trial.hcl")
	source := strings.NewReplacer("PORT", port.Free(t), "BINARY", binary).Replace(toBreak)
	if err := os.WriteFile(file, []byte(source), 0o600); err != nil {
		t.Fatal(err)
	}
	s := open(t, 160, 47, "bash --norc -i")
	s.keys("cd "+dir+" && XDG_DATA_HOME="+dir+" "+binary+" run break.trial.hcl", "Enter")
	s.until(`open 40`, 20*time.Second)

	s.keys("f")
	s.until(`b  cut everybody +the connections of all clients break`, 5*time.Second)
	s.keys("f") // closes it: nothing is broken by a key that is pressed twice
	s.until(`── how soon`, 5*time.Second)
	s.keys("f", "b")
	s.until(`enter: hits 40 of the 40 clients that are connected, once`, 5*time.Second)
	s.keys("Enter")
	s.until(`thrown: cut everybody`, 5*time.Second)
	s.keys("Escape")
	s.until(`── how soon`, 5*time.Second)
	s.keys("6")
	s.until(`cut everybody  40 broke, 40 of them are back: p50`, 10*time.Second)
	s.until(`came back \.+ +40`, 5*time.Second)

	s.keys("f")
	s.until(`[A-Za-z]  pause the server`, 5*time.Second)
	s.keys("Up", "Up", "Up", "Right", "Right") // what is broken is picked, and for how many
	s.until(`> a  cut 33 % +the connections of 33 % of the clients break`, 5*time.Second)
	s.keys("Left", "Down", "Down", "Down", "Down", "+", "+")
	s.until(`> e  delay everybody 400ms +everything takes 400ms longer, give or take 120ms`, 5*time.Second)
	s.keys("Right")
	s.until(`nothing was changed: nothing more can be changed that way`, 5*time.Second)
	s.keys("Enter")
	s.until(`delay everybody 400ms +goes on since`, 5*time.Second)
	s.keys("Enter")
	s.until(`ended: delay everybody 400ms`, 5*time.Second)
	time.Sleep(2500 * time.Millisecond) // heartbeats from before its end are not judged
	pause := regexp.MustCompile(`([A-Za-z])  pause the server`).FindStringSubmatch(s.look())[1]
	s.keys(pause, "Enter")
	s.until(`  pause the server +goes on since 0:\d+, enter ends it`, 5*time.Second)
	time.Sleep(2500 * time.Millisecond) // the server misses two heartbeats of each client meanwhile
	s.keys("Enter")
	s.until(`ended: pause the server`, 5*time.Second)
	s.keys("Escape")
	s.until(`pause +pause the server`, 5*time.Second)

	s.keys("7")
	s.until(`heartbeats of some clients`, 5*time.Second)
	s.until(`late \.+ +[1-9]`, 5*time.Second)
	s.keys("e")
	s.until(`written: .*pulse.*svg`, 10*time.Second)
	s.keys("6")
	s.until(`── coming back`, 5*time.Second)
	s.keys("e")
	s.until(`written: .*recovery.*svg`, 10*time.Second)
	s.keys("s")
	s.until(`tide, over after`, 30*time.Second)
	s.keys("f") // nothing can be broken any more
	s.until(`tide, over after`, time.Second)
	if strings.Contains(s.look(), "break something") {
		t.Errorf("a run that is over can be broken:\n%s", s.look())
	}
	found, err := filepath.Glob(filepath.Join(dir, "*recovery*.csv"))
	if err != nil || len(found) != 1 {
		t.Fatal(found, err)
	}
	b, err := os.ReadFile(found[0])
	if err != nil || !strings.Contains(string(b), "cut everybody") || !strings.Contains(string(b),
		"server_memory_bytes") {
		t.Errorf("%v\n%s", err, b)
	}
}
