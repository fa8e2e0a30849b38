package main

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"
)

// A testMachine is a network namespace that stands for a machine: it shares this one's clock, which a variable makes
// wrong for it. Where namespaces cannot be made it is this machine.
type testMachine struct{ name, host string }

var namespaces = os.Getuid() == 0 && runtime.GOOS == "linux"

// machineOf makes the nth machine of a test, with a cable to this one.
func machineOf(t *testing.T, n int) testMachine {
	t.Helper()
	if !namespaces {
		return testMachine{"", "127.0.0.1"}
	}
	name := fmt.Sprintf("tidepull-%d-%d", os.Getpid(), n)
	host, there := fmt.Sprintf("10.77.%d.1", n), fmt.Sprintf("10.77.%d.2", n)
	near, far := fmt.Sprintf("tp%d-%da", os.Getpid()%10000, n), fmt.Sprintf("tp%d-%db", os.Getpid()%10000, n)
	for _, line := range []string{"netns add " + name, "link add " + near + " type veth peer name " + far +
		" netns " + name,
		"addr add " + host + "/30 dev " + near, "link set " + near + " up",
		"-n " + name + " addr add " + there + "/30 dev " + far, "-n " + name + " link set " + far + " up",
		"-n " + name + " link set lo up", "-n " + name + " route add default via " + host} {
		if out, err := exec.Command("ip", strings.Fields(line)...).CombinedOutput(); err != nil {
			t.Skipf("no namespaces here: ip %s: %v: %s", line, err, out)
		}
		if strings.HasPrefix(line, "netns") {
			t.Cleanup(func() { _ = exec.Command("ip", "netns", "del", name).Run() }) // the cable goes with it
		}
	}
	return testMachine{name, host}
}

// join has the machine join, and gives what it prints.
func (m testMachine) join(t *testing.T, clock string, args ...string) (*exec.Cmd, *strings.Builder) {
	t.Helper()
	cmd, out := tool(t, append([]string{"join"}, args...)...), &strings.Builder{}
	cmd.Env = append(cmd.Env, skewVariable+"="+clock)
	if m.name != "" {
		inside := exec.Command("ip", append([]string{"netns", "exec", m.name, cmd.Path}, cmd.Args[1:]...)...)
		inside.Env = cmd.Env
		cmd = inside
	}
	cmd.Stdout, cmd.Stderr = out, out
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = cmd.Process.Signal(os.Interrupt) // it may have been killed
		_ = cmd.Wait()
	})
	return cmd, out
}

// freePort is one that nobody listens at.
func freePort(t *testing.T) int {
	t.Helper()
	l, err := net.Listen("tcp", ":0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}

// TestMachines: clients on two machines, whose clocks are hours apart and drift, against a server that loses some:
// the ledger is exact to the message, and latencies are known as well as the clocks. Then one of the machines goes
// away in the middle of a run, which goes on without it; and what is not agreed to is not done.
func TestMachines(t *testing.T) {
	t.Parallel()
	a, b := machineOf(t, 1), machineOf(t, 2)
	url := strings.Replace(serveBoard(t, "--listen", net.JoinHostPort(a.host, "0"), "--remote-ok", "--lose=0.01"),
		"127.0.0.1", a.host, 1)
	board := strings.TrimSuffix(strings.TrimPrefix(url, "ws://"), "/live")
	dir := t.TempDir()
	token, file := filepath.Join(dir, "token"), filepath.Join(dir, "over.trial.hcl")
	for path, text := range map[string]string{token: "low water at seven\n", file: overWorkers} {
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	over := "nats://" + net.JoinHostPort(a.host, fmt.Sprint(freePort(t)))
	if out, status := outcome(t, tool(t, "join", over, "--token-file", token, "--agree", board)); status != exitWrong ||
		!strings.Contains(out, "has to be one word of 8 characters or more") {
		t.Errorf("a token of several words: %d\n%s", status, out)
	}
	if err := os.WriteFile(token, []byte("low-water-at-seven\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	first, said := a.join(t, "3h 150", over, "--token-file", token, "--agree", board, "--name", "alder")
	b.join(t, "-70s -120", over, "--token-file", token, "--agree", board, "--name", "birch", "--clients", "40")
	play := func(args ...string) (*exec.Cmd, *strings.Builder, string) {
		out := t.TempDir()
		cmd, text := tool(t, append([]string{"run", file, "--target", url, "--remote-ok", "--headless", "--over", over,
			"--token-file", token, "--out", out}, args...)...), &strings.Builder{}
		cmd.Stdout, cmd.Stderr = text, text
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		return cmd, text, filepath.Join(out, "summary.json")
	}
	cmd, out, path := play("--machines", "2")
	err := cmd.Wait()
	sum, truth := summaryOf(t, path), truthOf(t, url)
	l, machines := sum.Ledger, sum.Processes.Machines
	if sum.Messages.Sent != 2*12*60 || l.Lost != int64(truth.Totals.Lost) || l.Lost == 0 ||
		l.Delivered+l.Late != int64(truth.Totals.Written) || l.Excused+l.Stray+l.Duplicate+l.Foreign != 0 ||
		!passedAtAll(sum.Checks, "all have spoken", 60) || len(machines) != 2 || sum.Processes.Workers != 2 {
		t.Errorf("%v: %+v, the truth %+v\n%s", err, l, truth, out)
	}
	for _, m := range machines {
		if m.ClockOff <= 0 || m.ClockOff > 20_000 {
			t.Errorf("the clock of %s is known within %.1f us", m.Name, m.ClockOff)
		}
	}
	// What both clocks may be off by, together, is in the two ends of the latencies.
	if p50, early := sum.Fanout.P50, sum.Early.Fanout.P50; early > p50 || p50 <= 0 || p50 > 100_000 {
		t.Errorf("fan-out %+v, early %+v", sum.Fanout, sum.Early.Fanout)
	}

	other := serveBoard(t)
	refused := func(what, says string, args ...string) {
		t.Helper()
		cmd, out, _ := play(args...)
		if err := cmd.Wait(); err == nil || !strings.Contains(out.String(), says) {
			t.Errorf("%s: %v\n%s", what, err, out)
		}
	}
	refused("another target", "this machine agreed to load "+board+", and not 127.0.0.1:", "--machines", "2",
		"--target", other)

	cmd, out, path = play("--machines", "2")
	time.Sleep(5 * time.Second)
	if err := first.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	_ = cmd.Wait()
	sum = summaryOf(t, path)
	if status := cmd.ProcessState.ExitCode(); status != exitNotProven && status != exitBroken ||
		sum.Ledger.Stray+sum.Ledger.Duplicate != 0 || len(sum.Processes.Lost) != 1 ||
		sum.Processes.Lost[0].Clients != 30 {
		t.Errorf("a machine that is gone: status %d: %+v, %+v\n%s\n%s", status, sum.Ledger, sum.Processes, out, said)
	}

	refused("too few clients", "1 machine can carry 40 clients, and the trial has 60")
	refused("no machine", "0 machines have joined", "--over", "nats://"+net.JoinHostPort(a.host,
		fmt.Sprint(freePort(t))))
}
