package main

import (
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
)

// TestSelfcheck says what the machine allows, and drives a trial in the words of another server, at its own pace and
// at twice that.
func TestSelfcheck(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "own.trial.hcl")
	if err := os.WriteFile(file, []byte(`
trial "own words" { grace = "300ms" }
target "server" {
  websocket = "ws://127.0.0.1:1/"
  dialect   = "own"
}
dialect "own" {
  enter {
    send      = { do = "come", where = room }
    confirmed = msg.did == "come"
  }
  heard {
    when = msg.did == "say"
    room = msg.where
  }
}
session "s" {
  connect {}
  enter { room = "lock-${n % 2}" }
  pause { lasts = "1s" }
  repeat {
    every = "500ms"
    times = 100
    say { body = { do = "say", where = room, text = mark } }
  }
  stay {}
}
crew "pilots" {
  clients = 20
  session = session.s
}
tide {
  slack { lasts = "1m" }
}
`), 0o666); err != nil {
		t.Fatal(err)
	}
	out, status := outcome(t, tool(t, "selfcheck", file, "--most", "2", "--window", "3s"))
	m := regexp.MustCompile(`this machine proves (up to )?([\d,]+) deliveries a second of this trial(.*); ` +
		`it plans ([\d,]+)\n`).
		FindStringSubmatch(out)
	if m == nil && status == exitNotProven && strings.Contains(out, "not proven") {
		t.Skipf("this machine proves nothing of so little:\n%s", out)
	}
	// 20 clients say 2 messages a second each, which 9 others in their room get, and they themselves.
	if m == nil || status != exitHolds && status != exitNotProven || !strings.Contains(out,
		`does not speak the dialect "own"`) {
		t.Fatalf("status %d\n%s", status, out)
	}
	if plans := parseCount(t, m[4]); plans < 330 || plans > 430 {
		t.Errorf("it plans %d deliveries a second\n%s", plans, out)
	}
	if !regexp.MustCompile(`(?m)^files +(ok|narrow|short) +a process may have \d+ open`).MatchString(out) ||
		!regexp.MustCompile(`(?m)^cores +(ok|narrow) +\d+, of which others use`).MatchString(out) {
		t.Errorf("nothing is said of the machine:\n%s", out)
	}
}

func parseCount(t *testing.T, s string) int {
	t.Helper()
	n, err := strconv.Atoi(strings.ReplaceAll(s, ",", ""))
	if err != nil {
		t.Fatal(err)
	}
	return n
}
