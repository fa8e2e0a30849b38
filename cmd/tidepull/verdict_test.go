package main

import (
	"bufio"
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// harbour is a trial of a few clients with a session of its own.
func harbour(t *testing.T, name, steps, slack, limit string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "harbour.trial.hcl")
	source := `trial "short" {}
target "board" { websocket = "ws://127.0.0.1:1/live" }
session "watch" {
  connect {}
` + steps + `
}
crew "pilots" {
  clients = 20
  session = session.watch
  name    = "` + name + `"
}
tide {
  flood "100%" { over = "200ms" }
  slack { lasts = "` + slack + `" }
  ebb { over = "200ms" }
}
` + limit
	if err := os.WriteFile(path, []byte(source), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

const (
	speaking = `
  enter { room = "lock-1" }
  repeat {
    every = "200ms"
    say { body = { kind = "notice", room = room, text = "turning ${mark}" } }
  }`
	noneLost = `
limit "none lost" {
  of     = ledger.lost
  equals = 0
}
`
	noneLate = `
limit "none late" {
  of     = ledger.late
  equals = 0
}
`
)

// TestVerdicts: what a developer must know of breaks a run even if no limit asks
// for it, and a short healthy run passes.
func TestVerdicts(t *testing.T) {
	t.Parallel()
	for name, tc := range map[string]struct {
		trial  string
		status int
		says   []string
	}{
		"healthy and short": {harbour(t, "pilot-${n}", speaking, "1500ms", noneLost), 0,
			[]string{"verdict: holds (all "}},
		"all denied": {harbour(t, "${filler(201)}", speaking, "1s", noneLost), 1,
			[]string{"clients.denied is 20, wanted at most 0", "denied: its name was refused; the server said 'a " +
				"name is a string of 1 to 200 bytes'"}},
		"said in no room": {harbour(t, "pilot-${n}", strings.Replace(speaking, `enter { room = "lock-1" }`, "", 1),
			"1s", ""), 2, []string{"the session says something to the members of a room, and enters none"}},
		"said to nobody": {harbour(t, "pilot-${n}", strings.Replace(strings.Replace(speaking, "say { ",
			"whisper {\n to = \"nobody\"\n", 1), " }\n  }", "\n}\n  }", 1), "1s", ""), 3,
			[]string{"messages could not be said", "no client has the name"}},
		"never said": {harbour(t, "pilot-${n}", "", "1s", noneLost), 3,
			[]string{"none lost: nothing was measured"}},
		"a failed expect": {harbour(t, "pilot-${n}", "  expect \"a pilot boat\" {\n    when = msg.kind == "+
			"\"boat\"\n    within = \"300ms\"\n  }\n", "1s", ""), 1,
			[]string{"expectations.missed is 20, wanted at most 0 ",
				`(limit "every expectation is met"); all 20 missed: `}},
		"not recognised": {harbour(t, "pilot-${n}", "  send { body = { kind = \"boat\" } }\n", "1s", ""), 0,
			[]string{`not recognised: '{"kind":"refused","what":"message","why":"no such kind"}'`}},
		"refused by a 404": {harbour(t, "pilot-${n}", speaking, "1s", noneLost), 4, []string{"404"}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			target := serveBoard(t)
			if tc.status == 4 {
				target = strings.Replace(target, "/live", "/nowhere", 1)
			}
			text, status := outcome(t, tool(t, "run", tc.trial, "--headless", "--target", target))
			if status == 3 && (tc.status < 2 || tc.status == 3) && byTheMachine(text) {
				return // it says what was missing of the load instead
			}
			if status != tc.status {
				t.Errorf("status %d, want %d:\n%s", status, tc.status, text)
			}
			for _, says := range tc.says {
				if !strings.Contains(text, says) {
					t.Errorf("it does not say %q:\n%s", says, text)
				}
			}
		})
	}
}

// TestStopped: what a run measures while its own process does not run is not the
// server's, and the run says so.
func TestStopped(t *testing.T) {
	t.Parallel()
	cmd := tool(t, "run", harbour(t, "pilot-${n}", speaking, "5s", noneLate), "--headless", "--target", serveBoard(t))
	var out, wrong bytes.Buffer
	said, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	cmd.Stderr = &wrong
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	lines := bufio.NewScanner(said)
	for lines.Scan() && !strings.Contains(out.String(), "1s slack") { // it is in the middle of things
		fmt.Fprintln(&out, lines.Text())
	}
	for _, s := range []syscall.Signal{syscall.SIGSTOP, syscall.SIGCONT} {
		if err := cmd.Process.Signal(s); err != nil {
			t.Fatal(err)
		}
		time.Sleep(2500 * time.Millisecond)
	}
	for lines.Scan() {
		fmt.Fprintln(&out, lines.Text())
	}
	cmd.Wait()
	// On a machine that is starved as well that may be all that is said.
	starved := strings.Contains(out.String(), "kept programs waiting for a core")
	if status := cmd.ProcessState.ExitCode(); status != exitNotProven ||
		!strings.Contains(out.String(), "the process was stopped") && !starved {
		t.Errorf("status %d\n%s%s", status, out.String(), wrong.String())
	}
}
