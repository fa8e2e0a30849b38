package main

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"
)

// TestMain lets the test binary be the tool, so that whole commands run in
// processes of their own.
func TestMain(m *testing.M) {
	if os.Getenv("TIDEPULL_BE_STUTTERING") != "" {
		stutter()
	}
	if os.Getenv("TIDEPULL_BE_THE_TOOL") != "" {
		os.Exit(mainStatus(os.Args[1:]))
	}
	os.Exit(m.Run())
}

func tool(t *testing.T, args ...string) *exec.Cmd {
	t.Helper()
	path := os.Args[0]
	if built := os.Getenv("TIDEPULL_BINARY"); built != "" { // as users have it, and without the race detector's weight
		path = built
	}
	cmd := exec.Command(path, args...)
	cmd.Env = append(os.Environ(), "TIDEPULL_BE_THE_TOOL=1", "XDG_STATE_HOME="+t.TempDir(), "XDG_DATA_HOME="+
		t.TempDir())
	return cmd
}

// outcome runs a command and returns what it printed and its exit status.
func outcome(t *testing.T, cmd *exec.Cmd) (string, int) {
	t.Helper()
	out, err := cmd.CombinedOutput()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		t.Fatal(err)
	}
	return string(out), cmd.ProcessState.ExitCode()
}

// serveBoard starts a stand-in in a process of its own and returns its address.
func serveBoard(t *testing.T, args ...string) string {
	t.Helper()
	cmd := tool(t, append([]string{"standin", "--listen", "127.0.0.1:0", "--end-with-input"}, args...)...)
	in, err := cmd.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		in.Close()
		if err := cmd.Wait(); err != nil {
			t.Errorf("the stand-in ended with %v", err)
		}
	})
	line, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		t.Fatal(err)
	}
	return strings.TrimSpace(strings.TrimPrefix(line, "serving "))
}

// shortened writes the demo's trial with a short tide and a limit.
func shortened(t *testing.T, limit string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "harbour.trial.hcl")
	if text, status := outcome(t, tool(t, "demo", "--write", path)); status != 0 {
		t.Fatal(text)
	}
	b, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	s := strings.NewReplacer(`"20s"`, `"1s"`, `"60s"`, `"2s"`, `"10s"`, `"1s"`, `"5s"`, `"1s"`, "= 240", "= 40",
		"= 136", "= 20", "= 24", "= 5").Replace(string(b))
	s = s[:strings.Index(s, "limit ")] + limit
	if err := os.WriteFile(path, []byte(s), 0o666); err != nil {
		t.Fatal(err)
	}
	return path
}

func TestExitStatus(t *testing.T) {
	t.Parallel()
	noneLost := "limit \"none lost\" {\n  of = ledger.lost\n  equals = 0\n}\n"
	nothing := "limit \"x\" {\n  of = messages.sent\n  below = 1\n}\n"
	unmeasured := "limit \"x\" {\n  of = fanout.p99\n  below = \"1us\"\n}\n"
	for name, tc := range map[string]struct {
		trial, target string
		status        int
		says          string
	}{
		"all well": {shortened(t, noneLost), "well", 0,
			`limit "none lost": wanted ledger.lost equals 0, got 0: holds`},
		"lossy":        {shortened(t, noneLost), "lossy", 1, "broken"},
		"limit broken": {shortened(t, nothing), "well", 1, "verdict: broken"},
		"nothing there": {shortened(t, noneLost), "ws://127.0.0.1:9/", 4,
			"no connection to 127.0.0.1:9 could be opened: refused: connect: connection refused: nobody listens there"},
		"trial wrong": {shortened(t, strings.Replace(noneLost, "lost\n", "losst\n", 1)), "well", 2,
			`did you mean "ledger.lost"?`},
		"target wrong":   {shortened(t, noneLost), "http://x/", 2, "must start with ws://"},
		"no such file":   {"/nowhere.trial.hcl", "well", 2, "no such file"},
		"nothing proven": {silent(t, shortened(t, unmeasured)), "well", 3, "not proven (nothing was measured)"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			switch tc.target { // a board of its own: names are taken once
			case "well":
				tc.target = serveBoard(t)
			case "lossy":
				tc.target = serveBoard(t, "--lose", "0.05")
			}
			dir := t.TempDir()
			text, status := outcome(t, tool(t, "run", tc.trial, "--headless", "--out", dir, "--target", tc.target))
			if crowded := tc.status < 2 && status == 3 && byTheMachine(text); !crowded &&
				(status != tc.status || !strings.Contains(text, tc.says)) {
				t.Fatalf("status %d, want %d and %q:\n%s", status, tc.status, tc.says, text)
			}
			if tc.status == 2 {
				return
			}
			checkSummary(t, dir, status)
			if name == "all well" {
				eachSecondOnce(t, text)
			}
		})
	}
}

// eachSecondOnce finds a line for each second of a run without a screen, its verdict last, and
// nothing that a healthy server need not say.
func eachSecondOnce(t *testing.T, text string) {
	t.Helper()
	next := 0
	for _, m := range regexp.MustCompile(`(?m)^ *([0-9]+)s `).FindAllStringSubmatch(text, -1) {
		if m[1] != strconv.Itoa(next) {
			t.Errorf("after second %d comes %s", next-1, m[1])
		}
		next++
	}
	lines := strings.Split(strings.TrimSpace(text), "\n")
	if next < 4 || !strings.HasPrefix(lines[len(lines)-1], "verdict: ") || strings.Contains(text, "not recognised") {
		t.Errorf("%d seconds:\n%s", next, text)
	}
}

// TestStart: what a command does before it does anything takes next to nothing.
func TestStart(t *testing.T) {
	t.Parallel()
	cmd := tool(t, "--version")
	cmd.Env = append(cmd.Env, "GODEBUG=inittrace=1")
	text, _ := outcome(t, cmd)
	all := 0
	for _, m := range regexp.MustCompile(`(?m)^init .* ([0-9]+) bytes`).FindAllStringSubmatch(text, -1) {
		n, _ := strconv.Atoi(m[1])
		all += n
	}
	if all == 0 || all > 16<<20 {
		t.Errorf("%d bytes are taken before it begins", all)
	}
}

// byTheMachine reports whether a run says that what else this machine does kept
// it from proving anything.
func byTheMachine(text string) bool {
	for _, why := range []string{"the tool's loop was full", "messages were sent late", "what arrived was read late",
		"this machine", "programs waited for a core", "the process was stopped"} {
		for line := range strings.Lines(text) {
			if _, because, ok := strings.Cut(line, "not proven ("); ok && strings.Contains(because, why) {
				return true
			}
		}
	}
	return false
}

// silent takes the speaking out of a trial.
func silent(t *testing.T, path string) string {
	t.Helper()
	b, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	s := strings.NewReplacer(`every  = "1s"`, `every  = "1h"`, `every  = "2s"`, `every  = "1h"`).Replace(string(b))
	if err := os.WriteFile(path, []byte(s), 0o666); err != nil {
		t.Fatal(err)
	}
	return path
}

// checkSummary looks for every field that is promised.
func checkSummary(t *testing.T, dir string, status int) {
	t.Helper()
	b, err := os.ReadFile(filepath.Join(dir, "summary.json"))
	if err != nil {
		t.Fatal(err)
	}
	var all map[string]any
	if err := json.Unmarshal(b, &all); err != nil {
		t.Fatal(err)
	}
	for _, path := range []string{"clients", "messages.sent", "ledger.owed", "ledger.delivered", "ledger.late",
		"ledger.lost", "ledger.duplicate", "ledger.stray", "ledger.excused", "ledger.by_room",
		"fanout.p50_us", "fanout.p90_us", "fanout.p99_us", "fanout.p999_us", "fanout.max_us", "spread.first.p50_us",
		"spread.median.p99_us", "spread.last.p99_us",
		"self.reading_lag_p99_us", "self.schedule_lag_p99_us", "self.cpu_us_per_delivery", "self.rss_bytes_per_client",
		"limits", "verdict"} {
		at := any(all)
		for _, key := range strings.Split(path, ".") {
			m, _ := at.(map[string]any)
			if at = m[key]; at == nil {
				t.Fatalf("the summary has no %s:\n%s", path, b)
			}
		}
	}
	if want := []string{"holds", "broken", "", "not proven"}; status < 4 && all["verdict"] != want[status] {
		t.Errorf("verdict %v with status %d", all["verdict"], status)
	}
}

// TestInterruptOnce: one interrupt, or one request to end, stops, settles, saves
// and reports; a run that was cut short proves nothing.
func TestInterruptOnce(t *testing.T) {
	t.Parallel()
	for _, how := range []syscall.Signal{syscall.SIGINT, syscall.SIGTERM} {
		t.Run(how.String(), func(t *testing.T) {
			t.Parallel()
			interrupt(t, how)
		})
	}
}

// An output is what a program printed so far.
type output struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (o *output) Write(b []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.text.Write(b)
}

func (o *output) String() string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.text.String()
}

func interrupt(t *testing.T, how syscall.Signal) {
	dir := t.TempDir()
	cmd := tool(t, "demo", "--headless", "--out", dir)
	var out output
	cmd.Stdout, cmd.Stderr = &out, &out
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	underWay := regexp.MustCompile(`[1-9]s flood`)
	for deadline := time.Now().Add(30 * time.Second); !underWay.MatchString(out.String()); {
		if time.Now().After(deadline) {
			cmd.Process.Kill()
			t.Fatalf("it does not begin:\n%s", out.String())
		}
		time.Sleep(20 * time.Millisecond)
	}
	if err := cmd.Process.Signal(how); err != nil {
		t.Fatal(err)
	}
	asked := time.Now()
	cmd.Wait()
	if took := time.Since(asked); took > 4*time.Second {
		t.Errorf("it took %v to end", took)
	}
	if s := out.String(); !strings.Contains(s, "verdict: not proven (the run was cut short") {
		t.Errorf("it printed\n%s", s)
	}
	if status := cmd.ProcessState.ExitCode(); status != exitNotProven {
		t.Errorf("status %d\n%s", status, out.String())
	}
	checkSummary(t, dir, cmd.ProcessState.ExitCode())
}

func TestHelp(t *testing.T) {
	t.Parallel()
	for args, says := range map[string]string{"": "the home screen needs a terminal", "--help": "tidepull demo",
		"run --help": "--target=URL", "standin --help": "--misdirect", "runn": `did you mean`} {
		text, status := outcome(t, tool(t, strings.Fields(args)...))
		if !strings.Contains(text, says) || status != 0 && args != "runn" && args != "" {
			t.Errorf("tidepull %s: status %d\n%s", args, status, text)
		}
	}
	if text, status := outcome(t, tool(t, "check", "../../trials/morning-tide.trial.hcl")); status != 0 ||
		!strings.Contains(text, "400 clients in 3 crews") || strings.Contains(text, "attention") {
		t.Errorf("%d %s", status, text)
	}
	for steps, says := range map[string]string{
		`enter { room = "lock-1" }`:            `session "watch" closes its clients' connections`,
		"enter { room = \"lock-1\" }\nstay {}": ""} {
		text, status := outcome(t, tool(t, "check", harbour(t, "guest", steps, "1s", "")))
		if status != 0 || !strings.Contains(text, says) ||
			(says != "") != strings.Contains(text, "after its last step") {
			t.Errorf("%d %s", status, text)
		}
	}
}

// TestRunsAndExport keeps a run and works with it from the command line. The
// store sits where it cannot be written at first: that is said, and the run
// goes its way.
func TestRunsAndExport(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	blocked := filepath.Join(dir, "file")
	if err := os.WriteFile(blocked, nil, 0o666); err != nil {
		t.Fatal(err)
	}
	trial := shortened(t, "limit \"none lost\" {\n  of = ledger.lost\n  equals = 0\n}\n")
	text, _ := outcome(t, tool(t, "--store", filepath.Join(blocked, "runs.db"), "run", trial, "--headless", "--out",
		dir, "--target", serveBoard(t)))
	if !strings.Contains(text, "attention: the run is not being kept") || !strings.Contains(text, "verdict: ") {
		t.Errorf("without a store:\n%s", text)
	}
	if _, err := os.Stat(filepath.Join(dir, "summary.json")); err != nil {
		t.Error(err)
	}
	db := filepath.Join(dir, "runs.db")
	text, status := outcome(t, tool(t, "--store", db, "run", trial, "--headless", "--target",
		serveBoard(t, "--lose", "0.05")))
	if status != 1 && !(status == 3 && byTheMachine(text)) || !strings.Contains(text, "kept as run 1") {
		t.Fatalf("status %d\n%s", status, text)
	}
	report := text[strings.Index(text, "after "):]
	for _, step := range []struct {
		args   []string
		status int
		says   string
	}{
		{[]string{"runs"}, 0, "morning tide"},
		{[]string{"runs", "name", "1", "old build"}, 0, ""},
		{[]string{"runs", "note", "1", "on the quay"}, 0, ""},
		{[]string{"runs", "list"}, 0, "old build"},
		{[]string{"runs", "show", "1"}, 0, report},
		{[]string{"export", "1", "--view", "ledger", "--format", "csv"}, 0, "room,crew,kind,said,owed"},
		{[]string{"export", "1", "--view", "tide", "--window", "1..3"}, 0, "<svg"},
		{[]string{"export", "1", "--view", "tide", "--window", "3..1"}, 2, "is not FROM..TO"},
		{[]string{"export", "1", "--view", "tides"}, 2, "must be one of"},
		{[]string{"export", "7", "--view", "tide"}, 2, "run 7: there is no such run"},
		{[]string{"runs", "delete", "1"}, 0, ""},
		{[]string{"runs", "show", "1"}, 2, "there is no such run"},
	} {
		text, status := outcome(t, tool(t, append([]string{"--store", db}, step.args...)...))
		if status != step.status || !strings.Contains(text, step.says) {
			t.Errorf("%v: status %d, want %d and %q:\n%.600s", step.args, status, step.status, step.says, text)
		}
	}
}

// TestNew: five answers make a trial that can be checked; a file that is there is left
// alone, and answers without sense make none.
func TestNewAnswers(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "new.trial.hcl")
	answer := func(lines ...string) (status int, said string) {
		cmd := tool(t, "new", file)
		cmd.Stdin = strings.NewReader(strings.Join(lines, "\n"))
		out, _ := cmd.CombinedOutput()
		return cmd.ProcessState.ExitCode(), string(out)
	}
	if status, said := answer("ws://127.0.0.1:7411/live", "", "", "", "hello", "no"); status != exitWrong ||
		!strings.Contains(said, "has no <text> in it") {
		t.Errorf("without a text: status %d, %s", status, said)
	}
	five := []string{"ws://127.0.0.1:7411/live", "", "I am <name>", "", "<name>: <text>", "no", "", "",
		"hello <name>", "",
		"<text>"}
	if status, said := answer(five...); status != 0 {
		t.Fatalf("status %d, %s", status, said)
	}
	made, err := os.ReadFile(file)
	if err != nil || !strings.Contains(string(made), `send      = "I am ${name}"`) {
		t.Errorf("%v\n%s", err, made)
	}
	if status, said := answer(five...); status != exitWrong || !strings.Contains(said, "exists") {
		t.Errorf("a second time: status %d, %s", status, said)
	}
}
