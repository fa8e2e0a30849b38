package main

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"tidepull/internal/testkit/port"
)

const byKernel = `
trial "by the kernel" {
  path  = "kernel"
  grace = "5s"
}
target "board" { websocket = "ws://AT/live" }
SERVER
session "watch" {
  connect {}
  enter { room = "lock-${n % 4}" }
  repeat {
    every = "400ms"
    say { body = { kind = "notice", room = room, text = mark } }
  }
}
crew "pilots" {
  clients = 24
  session = session.watch
}
tide {
  flood "100%" { over = "500ms" }
  slack { lasts = "6s" }
  ebb { over = "500ms" }
}
FAULTS
`

// TestKernel: the system's traffic control does faults, in a network of the run's own: what it
// drops TCP sends again, and nothing is lost; delays, if this kernel has what makes them, are as
// long as the trial says, and else the run says what is missing. A server outside of that network
// that listens at 127.0.0.1 alone is not reached, which is said.
func TestKernel(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("tc"); err != nil || os.Geteuid() != 0 {
		t.Skip("it needs root, and tc (iproute2)")
	}
	dir := t.TempDir()
	file := filepath.Join(dir, "kernel.trial.hcl")
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	if built := os.Getenv("TIDEPULL_BINARY"); built != "" {
		self = built
	}
	at := "127.0.0.1:" + port.Free(t)
	own := "server {\n  command = [\"" + self + "\", \"standin\", \"--listen\", \"" + at +
		"\"]\n  ready = \"serving\"\n}"
	play := func(at, server, faults string) (text string, status int) {
		source := strings.NewReplacer("AT", at, "SERVER", server, "FAULTS", faults).Replace(byKernel)
		if err := os.WriteFile(file, []byte(source), 0o600); err != nil {
			t.Fatal(err)
		}
		return outcome(t, tool(t, "run", file, "--headless", "--out", dir, "--store", "-"))
	}
	var sum struct {
		Ledger struct{ Owed, Lost, Duplicate, Stray int64 }
		Fanout struct {
			P90 float64 `json:"p90_us"`
		}
		Kernel *struct {
			Orders, Dropped int64
			Error           string
		}
	}
	read := func() {
		t.Helper()
		b, err := os.ReadFile(filepath.Join(dir, "summary.json"))
		if err == nil {
			err = json.Unmarshal(b, &sum)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	text, status := play(at, own, `
fault "fog" {
  do    = "freeze"
  at    = "2s"
  lasts = "1s"
  share = "25%"
}
fault "a narrow line" {
  do               = "bandwidth"
  bytes_per_second = 4000
  direction        = "up"
  at               = "4s"
  lasts            = "1s"
}`)
	if status != 0 && status != exitNotProven { // this machine may be too busy to prove anything
		t.Fatalf("status %d\n%s", status, text)
	}
	read()
	// six of them both ways, and then all of them: begun, and ended
	if k, l := sum.Kernel, sum.Ledger; k == nil || k.Orders < 2*6+2*24 || k.Dropped == 0 || k.Error != "" ||
		l.Owed < 1000 ||
		l.Lost+l.Duplicate+l.Stray != 0 {
		t.Errorf("%+v, %+v\n%s", k, l, text)
	}

	text, status = play(at, own, `
fault "far away" {
  do        = "delay"
  by        = "150ms"
  direction = "down"
  at        = "2s"
  lasts     = "3s"
  share     = "50%"
}`)
	switch read(); {
	case strings.Contains(text, "no netem"):
		if status != exitWrong || !strings.Contains(text, "modprobe sch_netem") {
			t.Errorf("status %d\n%s", status, text)
		}
		t.Log("this kernel has no netem: delays by it were not tried")
	case status != 0 && status != exitNotProven, sum.Kernel.Error != "", sum.Ledger.Lost != 0,
		// a fifth of all deliveries take 150 ms longer
		sum.Fanout.P90 < 150_000 || sum.Fanout.P90 > 250_000:
		t.Errorf("status %d, %+v\n%s", status, sum, text)
	}

	text, status = play(strings.TrimSuffix(strings.TrimPrefix(serveBoard(t), "ws://"), "/live"), "", "")
	if status != exitUnreachable || !strings.Contains(text, "only if it listens at all addresses (0.0.0.0)") {
		t.Errorf("status %d\n%s", status, text)
	}
}
