// Package interop points the tool at real servers, each written in a few lines on one of
// the libraries that people use. It needs a package registry, so it is not a part of
// make test: make interop runs it and writes docs/interop.md.
package interop

import (
	"bufio"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
)

// what each server is, in the order of the report.
var servers = []struct{ name, what string }{
	{"node-ws", "ws (Node): JSON with a field that says what is wanted"},
	{"node-packets", "socket.io (Node): events in packets with digits in front, beats of its own"},
	{"go-hub", "gorilla/websocket (Go): who and where in the address, several messages in a frame"},
	{"python-text", "Tornado (Python): plain text, a greeting, saying one's name is entering"},
}

// A server is one that runs.
type server struct {
	cmd  *exec.Cmd
	port int
}

// start starts a server; why says what is missing if it cannot be.
func start(t *testing.T, name string) (s *server, why string) {
	t.Helper()
	here, err := filepath.Abs(name)
	if err != nil {
		t.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	s = &server{port: l.Addr().(*net.TCPAddr).Port}
	l.Close()
	cache := os.Getenv("INTEROP_CACHE")
	if cache == "" {
		cache = filepath.Join(os.TempDir(), "tidepull-interop")
	}
	s.cmd = exec.Command(filepath.Join(here, "start.sh"), strconv.Itoa(s.port))
	s.cmd.Env = append(os.Environ(), "HERE="+here, "CACHE="+cache)
	var words strings.Builder
	s.cmd.Stderr = &words
	out, err := s.cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := s.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.kill)
	ready := make(chan bool, 1)
	go func() {
		lines := bufio.NewScanner(out)
		ready <- lines.Scan() && lines.Text() == "ready"
		for lines.Scan() {
		}
	}()
	select {
	case is := <-ready:
		if !is {
			s.cmd.Wait()
			return nil, strings.TrimSpace(words.String())
		}
	case <-time.After(2 * time.Minute):
		return nil, "it was not ready within two minutes"
	}
	return s, ""
}

func (s *server) kill() { s.cmd.Process.Kill() }

// A result is what a run's summary says.
type result struct {
	status int
	Ledger struct {
		Said, Owed, Delivered, Late, Lost, Duplicate, Stray, Excused, Allowed int64
		Balanced                                                              bool
	}
	Connections struct{ Opened, Broken, Evicted int64 }
	Self        struct {
		OverloadedSeconds int `json:"overloaded_seconds"`
	}
	Verdict string
	Why     string
}

// run runs the server's trial against it; during is called while messages are said.
func (s *server) run(t *testing.T, name string, during func()) (r result, text string) {
	t.Helper()
	tool, err := filepath.Abs("../bin/tidepull")
	if err != nil {
		t.Fatal(err)
	}
	source, err := os.ReadFile(filepath.Join(name, name+".trial.hcl"))
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	file := filepath.Join(dir, name+".trial.hcl")
	mine := strings.ReplaceAll(string(source), "127.0.0.1:7500", fmt.Sprintf("127.0.0.1:%d", s.port))
	if err := os.WriteFile(file, []byte(mine), 0o666); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(tool, "--store=-", "run", file, "--headless", "--out", dir)
	var out strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &out
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	time.Sleep(3500 * time.Millisecond)
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

// TestInterop runs every server's trial three times: left alone, stopped for two seconds,
// and killed.
func TestInterop(t *testing.T) {
	if os.Getenv("INTEROP") == "" {
		t.Skip("it needs servers from the package registries: make interop")
	}
	page := &strings.Builder{}
	page.WriteString("# Real servers\n\nWritten by `make interop`. Each server is a few lines on its library, in" +
		" `interop/`" +
		", and counts\nwhat it received and wrote; 60 clients say 360 messages, and the ledger must agree with\n" +
		"those counts " +
		"to the last delivery.\n\n| server | left alone | stopped for 2 s | killed |\n| --- | --- | --- | --- |\n")
	skipped := 0
	for _, of := range servers {
		row := "| " + of.what + " | "
		s, why := start(t, of.name)
		if s == nil {
			skipped++
			fmt.Fprintf(page, "%sskipped: %s | | |\n", row, why)
			t.Logf("%s is skipped: %s", of.name, why)
			continue
		}
		alone, text := s.run(t, of.name, func() {})
		l := alone.Ledger
		if l.Said != 360 || l.Owed == 0 || l.Owed != l.Delivered || l.Duplicate+l.Stray+l.Lost != 0 || !l.Balanced ||
			alone.status != 0 && !(alone.status == 3 && alone.Self.OverloadedSeconds > 0) {
			t.Errorf("%s, left alone: status %d, %s (%s), %+v\n%s", of.name, alone.status, alone.Verdict, alone.Why, l,
				text)
		}
		s.kill()
		row += fmt.Sprintf("%s: %d owed, %d delivered | ", alone.Verdict, l.Owed, l.Delivered)
		if s, why = start(t, of.name); s == nil {
			t.Fatalf("%s does not start again: %s", of.name, why)
		}
		stopped, text := s.run(t, of.name, func() {
			s.cmd.Process.Signal(syscall.SIGSTOP)
			time.Sleep(2 * time.Second)
			s.cmd.Process.Signal(syscall.SIGCONT)
		})
		if l = stopped.Ledger; l.Lost+l.Duplicate+l.Stray != 0 || l.Owed != l.Delivered+l.Late+l.Excused {
			t.Errorf("%s, stopped: status %d, %s (%s), %+v\n%s", of.name, stopped.status, stopped.Verdict, stopped.Why,
				l, text)
		}
		s.kill()
		row += fmt.Sprintf("%s: %d owed, %d delivered, %d late | ", stopped.Verdict, l.Owed, l.Delivered, l.Late)
		if s, why = start(t, of.name); s == nil {
			t.Fatalf("%s does not start again: %s", of.name, why)
		}
		killed, text := s.run(t, of.name, s.kill)
		if l = killed.Ledger; killed.status != 1 || killed.Connections.Broken != 60 || l.Duplicate+l.Stray != 0 {
			t.Errorf("%s, killed: status %d, %s (%s), %+v, %+v\n%s", of.name, killed.status, killed.Verdict, killed.Why,
				l,
				killed.Connections, text)
		}
		fmt.Fprintf(page, "%s%s: %d broken, %d lost, %d excused |\n", row, killed.Verdict, killed.Connections.Broken,
			l.Lost,
			l.Excused)
	}
	fmt.Fprintf(page, "\n%d of %d servers could not be installed.\n", skipped, len(servers))
	if err := os.WriteFile("../docs/interop.md", []byte(page.String()), 0o666); err != nil {
		t.Fatal(err)
	}
}
