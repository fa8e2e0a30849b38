package main

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"tidepull/internal/run"
)

// overWorkers is a trial that uses what shares have to tell each other.
const overWorkers = `
trial "over several processes" { grace = "3s" }
target "board" { websocket = "ws://127.0.0.1:7411/live" }
session "watch" {
  connect {}
  enter { room = "lock-${n % 4}" }
  barrier "all there" { within = "10s" }
  repeat {
    every = "300ms"
    times = 12
    say { body = { kind = "notice", room = room, text = "level ${round} ${mark}" } }
    whisper {
      to   = "pilots-${(n + 1) % 60}"
      body = { kind = "whisper", to = to, text = "berth ${mark}" }
    }
  }
  pause { lasts = "2s" }
  assert "all have spoken" { that = messages.sent == 1440 }
  barrier "all done" { within = "10s" }
}
crew "pilots" {
  clients = 60
  session = session.watch
}
tide {
  flood "100%" { over = "500ms" }
  slack { lasts = "9s" }
}
`

// startOver starts the trial with three workers, and gives where its summary will be.
func startOver(t *testing.T, url string) (cmd *exec.Cmd, out *strings.Builder, summary string) {
	t.Helper()
	dir := t.TempDir()
	file := filepath.Join(dir, "over.trial.hcl")
	if err := os.WriteFile(file, []byte(overWorkers), 0o666); err != nil {
		t.Fatal(err)
	}
	cmd, out = tool(t, "run", file, "--target", url, "--headless", "--workers", "3", "--out", dir), &strings.Builder{}
	cmd.Stdout, cmd.Stderr = out, out
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	return cmd, out, filepath.Join(dir, "summary.json")
}

// workersOf gives the processes that a process has started, as numbers, once there are three.
func workersOf(t *testing.T, pid int) (all []int) {
	t.Helper()
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		tasks, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", pid))
		all = nil
		for _, task := range tasks {
			text, err := os.ReadFile(task)
			if err != nil {
				continue
			}
			for _, f := range strings.Fields(string(text)) {
				n, _ := strconv.Atoi(f)
				all = append(all, n)
			}
		}
		if len(all) == 3 {
			return all
		}
	}
	t.Fatalf("%d workers", len(all))
	return nil
}

// truthOf asks the stand-in what it has done.
func truthOf(t *testing.T, url string) (truth struct {
	Totals struct{ Owed, Written, Lost int }
}) {
	t.Helper()
	r, err := http.Get("http" + strings.TrimSuffix(strings.TrimPrefix(url, "ws"), "/live") + "/truth")
	if err != nil {
		t.Fatal(err)
	}
	defer r.Body.Close()
	b, err := io.ReadAll(r.Body)
	if err == nil {
		err = json.Unmarshal(b, &truth)
	}
	if err != nil {
		t.Fatalf("%v: %s", err, b)
	}
	return truth
}

func summaryOf(t *testing.T, path string) (sum run.Summary) {
	t.Helper()
	b, err := os.ReadFile(path)
	if err == nil {
		err = json.Unmarshal(b, &sum)
	}
	if err != nil {
		t.Fatal(err)
	}
	return sum
}

// passedAtAll reports whether a check was made by so many clients, and failed at none.
func passedAtAll(all []run.CheckSummary, name string, clients int64) bool {
	for _, c := range all {
		if c.Name == name {
			return c.Held == clients && c.Failed == 0
		}
	}
	return false
}

// TestWorkers: the ledger of clients in three processes is exact to the message, beside the truth of a server that
// loses some.
func TestWorkers(t *testing.T) {
	t.Parallel()
	url := serveBoard(t, "--lose=0.01")
	cmd, out, summary := startOver(t, url)
	err := cmd.Wait()
	sum, truth := summaryOf(t, summary), truthOf(t, url)
	l := sum.Ledger
	if sum.Messages.Sent != 2*12*60 || l.Lost != int64(truth.Totals.Lost) || l.Lost == 0 ||
		l.Delivered+l.Late != int64(truth.Totals.Written) || l.Excused+l.Stray+l.Duplicate != 0 ||
		sum.Processes.Workers != 3 || !passedAtAll(sum.Checks, "all have spoken", 60) || len(sum.Processes.Lost) != 0 {
		t.Errorf("%v: %+v, the truth %+v\n%s", err, l, truth, out)
	}
}

// TestWorkersUnreachable: workers that reach nobody say so as one process does.
func TestWorkersUnreachable(t *testing.T) {
	t.Parallel()
	cmd, out, _ := startOver(t, "ws://127.0.0.1:9/live")
	_ = cmd.Wait()
	if cmd.ProcessState.ExitCode() != exitUnreachable || !strings.Contains(out.String(), "nobody listens there") {
		t.Errorf("status %d\n%s", cmd.ProcessState.ExitCode(), out)
	}
}

// TestWorkerKilled: a run goes on without a worker that is killed, also at barriers: nobody is blamed for its
// clients, and the run says so, and proves nothing of a whole crew. The workers of a lead that is killed end.
func TestWorkerKilled(t *testing.T) {
	t.Parallel()
	if _, err := os.Stat("/proc/self/task"); err != nil {
		t.Skip("this system does not list a process's children")
	}
	url := serveBoard(t)
	cmd, out, summary := startOver(t, url)
	pids := workersOf(t, cmd.Process.Pid)
	time.Sleep(4 * time.Second)
	worker, err := os.FindProcess(slices.Min(pids)) // the first one
	if err != nil {
		t.Fatal(err)
	}
	if err := worker.Kill(); err != nil {
		t.Fatal(err)
	}
	cmd.Wait()
	sum := summaryOf(t, summary)
	if status := cmd.ProcessState.ExitCode(); status != exitNotProven || sum.Ledger.Lost+sum.Ledger.Stray != 0 ||
		len(sum.Processes.Lost) != 1 || sum.Processes.Lost[0].Clients != 20 || !passedAtAll(sum.Checks, "all done",
		40) ||
		!strings.Contains(out.String(), "not proven: worker 0 ended: signal: killed at 0:0") {
		t.Errorf("status %d: %+v, %+v\n%s", status, sum.Ledger, sum.Processes, out)
	}

	cmd, _, _ = startOver(t, url)
	pids = workersOf(t, cmd.Process.Pid)
	time.Sleep(2 * time.Second)
	if err := cmd.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	cmd.Wait()
	for end := time.Now().Add(5 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		left := 0
		for _, pid := range pids {
			if b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid)); err == nil && !strings.Contains(string(b),
				") Z ") {
				left++
			}
		}
		if left == 0 {
			return
		}
		if time.Now().After(end) {
			t.Fatalf("%d workers go on without their lead", left)
		}
	}
}
