// Package interop points the tool at real servers, each written in a few lines on one of
// the libraries that people use. It needs package registries, so it is not a part of
// make test: make interop runs it and writes docs/interop.md.
package interop

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// A result is what a run's summary says.
type result struct {
	status int
	Ledger struct {
		Said, Owed, Delivered, Late, Lost, Duplicate, Stray, Excused, Allowed int64
		Balanced                                                              bool
	}
	Connections struct{ Opened, Broken, Evicted int64 }
	Pulse       struct {
		Eviction struct {
			Count int64
			P50   float64 `json:"p50_us"`
			Max   float64 `json:"max_us"`
		}
	}
	Self struct {
		OverloadedSeconds int `json:"overloaded_seconds"`
	}
	Verdict string
	Why     string
}

// tooBusy reports whether this machine was, so that nothing is proven.
func (r *result) tooBusy() bool { return r.status == 3 && r.Self.OverloadedSeconds > 0 }

// run runs the server's trial against it; during is called while messages are said.
func (s *server) run(t *testing.T, name string, during func(), more ...string) (r result, text string) {
	t.Helper()
	dir := t.TempDir()
	file := name // or a variant's file
	if filepath.Ext(name) == "" {
		file = filepath.Join(name, name+".trial.hcl")
	}
	if len(more) > 0 && more[0] == aCrowd {
		more = crowd[:2:2]
		file = variant(t, name, "crowd", `every = "500ms"`, `every = "1500ms"`, "times = 6", "times = 3",
			`lasts = "1500ms"`, `lasts = "4s"`)
		more = append(more, "--set", "slack=10s")
	}
	cmd := tool(t, append([]string{"run", file, "--headless", "--out", dir,
		"--set", fmt.Sprintf("port=%d", s.port), "--set", fmt.Sprintf("second_port=%d", s.second)}, more...)...)
	var out strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &out
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	talking := 3500 * time.Millisecond
	if len(more) > 2 { // a crowd takes longer to come in
		talking = 6 * time.Second
	}
	time.Sleep(talking)
	during()
	cmd.Wait()
	b, err := os.ReadFile(filepath.Join(dir, "summary.json"))
	if err == nil {
		err = json.Unmarshal(b, &r)
	}
	if err != nil {
		t.Fatalf("%v\n%s", err, out.String())
	}
	r.status = cmd.ProcessState.ExitCode()
	return r, out.String()
}

// introduction is the beginning of docs/interop.md.
const introduction = `# Real servers

Written by ` + "`make interop`" + `. Each server is a few lines on its library, in ` + "`interop/`" + `, and
counts what it received and wrote, if it can; left alone, 200 clients say 600 messages (else 60
say 360), and the ledger must agree with those counts to the last delivery. Stopped is SIGSTOP
of all its processes for 2 s while messages are said, killed is SIGKILL. Silent clients answer
no beat: they must be evicted, if the server evicts at all, as long after the first sign of life
that they owed as its code says. What two clients of another library did is recorded
once, and replayed against the server started afresh: by one copy, by 20, and with one answer
of the server's changed. Restarted is by the trial, which asks the server to end and starts it
again a second later; then all 60 connections are cut at once: everybody comes back, twice.

| server | left alone | stopped for 2 s | killed | silent | replay | restarted, and cut off |
| --- | --- | --- | --- | --- | --- | --- |
`

// TestInterop runs every server's trial: left alone, stopped for two seconds, killed, and
// with clients that fall silent. Then it replays what a client of another library did.
func TestInterop(t *testing.T) {
	if os.Getenv("INTEROP") == "" {
		t.Skip("it needs servers from the package registries: make interop")
	}
	only := os.Getenv("ONLY") // one of them, for work on it; or "servers", or "ways"
	page := &strings.Builder{}
	page.WriteString(introduction)
	skipped, count := 0, 0
	each := func(of kind, part string, results func(t *testing.T, s *server) []string) {
		if only != "" && only != of.name && only != part {
			return
		}
		count++
		t.Run(of.name, func(t *testing.T) {
			s, why := start(t, of.name)
			if s == nil {
				skipped++
				fmt.Fprintf(page, "| %s | skipped: %s |\n", of.what, why)
				t.Skip(why)
			}
			row := fmt.Sprintf("| %s | %s |\n", of.what, strings.Join(results(t, s), " | "))
			page.WriteString(row)
			if only == of.name && !t.Failed() {
				rewrite(t, of.what, row)
			}
		})
	}
	for _, of := range servers {
		each(of, "servers", func(t *testing.T, s *server) []string {
			if of.borrows != "" {
				return []string{alone(t, of.name, s), stopped(t, of.name), killed(t, of.name), silent(t, of),
					replayed(t, of.name, of.vary), "as the server behind it"}
			}
			size := []string{aCrowd}
			if of.small {
				size = nil
			}
			return []string{alone(t, of.name, s, size...), stopped(t, of.name), killed(t, of.name), silent(t, of),
				replayed(t, of.name, of.vary), returned(t, of.name)}
		})
	}
	if only == "ways" { // the rest stays as it is
		old, err := os.ReadFile("../docs/interop.md")
		if err != nil {
			t.Fatal(err)
		}
		rest, _, _ := strings.Cut(string(old), "\nOther ways in")
		page.Reset()
		page.WriteString(strings.TrimRight(rest, "\n") + "\n")
	}
	page.WriteString(waysIntroduction)
	for _, of := range ways {
		each(of, "ways", func(t *testing.T, s *server) []string {
			if of.cuts {
				return []string{alone(t, of.name, s, append(crowd, "--set", "settle=1500ms", "--set",
					"slack=6500ms")...), "the proxy cuts all"}
			}
			return []string{alone(t, of.name, s, crowd...), stopped(t, of.name, crowd...)}
		})
	}
	fmt.Fprintf(page, "\n%d of %d servers could not be installed", skipped, count)
	if only == "ways" {
		page.WriteString(" when this part was last written")
	}
	page.WriteString(".\n")
	if only == "" || only == "ways" {
		old, err := os.ReadFile("../docs/interop.md")
		if err != nil {
			t.Fatal(err)
		}
		if _, surveys, is := strings.Cut(string(old), surveysHead); is { // another test's
			page.WriteString(surveysHead + surveys)
		}
		if err := os.WriteFile("../docs/interop.md", []byte(page.String()), 0o666); err != nil {
			t.Fatal(err)
		}
	}
}

// aCrowd, instead of more arguments, runs a copy of a server's own trial with 200 clients.
const aCrowd = "a crowd"

// crowd makes the trials on board.hcl ones of 200 clients.
var crowd = []string{"--set", "clients=200", "--set", "rooms=10", "--set", "every=1500ms", "--set", "times=3",
	"--set", "settle=4s", "--set", "slack=10s"}

// rewrite puts a row of docs/interop.md in the place of the one that says what became of the
// same server before.
func rewrite(t *testing.T, what, row string) {
	t.Helper()
	const file = "../docs/interop.md"
	old, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.SplitAfter(string(old), "\n")
	for i, line := range lines {
		if strings.HasPrefix(line, "| "+what+" |") {
			lines[i] = row
		}
	}
	if err := os.WriteFile(file, []byte(strings.Join(lines, "")), 0o666); err != nil {
		t.Fatal(err)
	}
}

const waysIntroduction = `
Other ways in:

| server | left alone | stopped for 2 s |
| --- | --- | --- |
`

func alone(t *testing.T, name string, s *server, more ...string) string {
	defer s.kill()
	r, text := s.run(t, name, func() {}, more...)
	l, says := r.Ledger, int64(360)
	if len(more) > 0 {
		says = 600
	}
	if l.Said != says || l.Owed == 0 || l.Owed != l.Delivered+l.Late || l.Duplicate+l.Stray+l.Lost != 0 ||
		!l.Balanced ||
		r.status != 0 && !r.tooBusy() {
		t.Errorf("left alone: status %d, %s (%s), %+v\n%s", r.status, r.Verdict, r.Why, l, text)
	}
	return fmt.Sprintf("%s: %d owed, %d delivered", r.Verdict, l.Owed, l.Delivered+l.Late)
}

func stopped(t *testing.T, name string, more ...string) string {
	s := again(t, name)
	defer s.kill()
	r, text := s.run(t, name, func() {
		s.signal(syscall.SIGSTOP)
		time.Sleep(2 * time.Second)
		s.signal(syscall.SIGCONT)
	}, more...)
	l := r.Ledger
	if l.Lost+l.Duplicate+l.Stray != 0 || l.Owed == 0 || l.Owed != l.Delivered+l.Late+l.Excused {
		t.Errorf("stopped: status %d, %s (%s), %+v\n%s", r.status, r.Verdict, r.Why, l, text)
	}
	why := ""
	if r.status == 1 { // what a server does to its clients after it stood still is its own doing
		why = fmt.Sprintf(" (%s)", strings.ReplaceAll(r.Why, "|", "/"))
	}
	return fmt.Sprintf("%s: %d owed, %d delivered, %d late%s", r.Verdict, l.Owed, l.Delivered, l.Late, why)
}

func killed(t *testing.T, name string) string {
	s := again(t, name)
	r, text := s.run(t, name, s.kill)
	l := r.Ledger
	if r.status != 1 && !r.tooBusy() || r.Connections.Broken != 60 || l.Duplicate+l.Stray != 0 {
		t.Errorf("killed: status %d, %s (%s), %+v, %+v\n%s", r.status, r.Verdict, r.Why, l, r.Connections, text)
	}
	return fmt.Sprintf("%s: %d broken, %d lost, %d excused", r.Verdict, r.Connections.Broken, l.Lost, l.Excused)
}

// silent has all clients give no sign of life: each must be closed when the server's code says so,
// and nobody before.
func silent(t *testing.T, of kind) string {
	by := of.evicts
	if by == (evicts{}) {
		return "it evicts none"
	}
	s := again(t, of.name)
	defer s.kill()
	whose := of.name
	if of.borrows != "" {
		whose = of.borrows
	}
	promise := fmt.Sprintf("dialect = \"theirs\"\n  promise {\n    from = %q\n    every = %q\n    deadline = \"%gs\"\n"+
		"    tolerance = \"20%%\"\n  }", by.from, by.every, by.until)
	file := variant(t, whose, "silent-"+of.name, `dialect   = "theirs"`, promise,
		"fall_silent {", "misbehave {\n      do = \"silent\"\n     ", `"8s" }`, "\"12s\"\n    }", `"12s" }`,
		"\"12s\"\n    }")
	r, text := s.run(t, file, func() {}, "--set", "silent=true", "--set", "slack=14s")
	p := r.Pulse
	exact := p.Eviction.P50/1e6 > by.earliest-0.1 && p.Eviction.Max/1e6 < by.until+0.3
	if r.Connections.Evicted != 60 || p.Eviction.Count != 60 || (r.status != 0 || !exact) && !r.tooBusy() {
		t.Errorf("silent: status %d, %s (%s), %+v, %+v\n%s", r.status, r.Verdict, r.Why, r.Connections, p, text)
	}
	says := fmt.Sprintf("%g", by.until)
	if by.earliest != by.until {
		says = fmt.Sprintf("%g to %g", by.earliest, by.until)
	}
	return fmt.Sprintf("%d of 60 evicted after %.2f s, the last %.2f; its code says %s", r.Connections.Evicted,
		p.Eviction.P50/1e6, p.Eviction.Max/1e6, says)
}
