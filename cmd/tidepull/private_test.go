package main

import (
	"bufio"
	"bytes"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"tidepull/internal/trial"
)

// TestBeyondThisMachine: no server that is not on this machine is loaded, and no
// port opened beyond it, unless that was said. Nothing is sent in this test.
func TestBeyondThisMachine(t *testing.T) {
	t.Parallel()
	path := harbour(t, "pilot-${n}", `enter { room = "lock-1" }`, "1s", "")
	for _, tc := range []struct {
		args []string
		says []string
	}{
		{[]string{"run", path, "--headless", "--target", "ws://192.0.2.7:80/live"},
			[]string{"would load 192.0.2.7 with ", "clients for", "--remote-ok", `remote = "192.0.2.7"`}},
		{[]string{"run", path, "--headless", "--metrics", ":0"},
			[]string{"--metrics :0 would open a port on every interface"}},
		{[]string{"conform", "ws://192.0.2.7:80/live"},
			[]string{"would load 192.0.2.7 with what breaks", "--remote-ok"}},
		{[]string{"standin", "--listen", ":0"}, []string{"would open a port on every interface", "--remote-ok"}},
		{[]string{"standin", "--listen", "0.0.0.0:0"}, []string{"would open a port on 0.0.0.0"}},
		{[]string{"record", "--listen", "[::]:0", "--to", "ws://127.0.0.1:1/", "-o",
			filepath.Join(t.TempDir(), "r.jsonl")}, []string{"would open a port on ::"}},
	} {
		text, status := outcome(t, tool(t, tc.args...))
		for _, says := range tc.says {
			if status != exitWrong || !strings.Contains(text, says) {
				t.Errorf("%v: status %d, without %q:\n%s", tc.args, status, says, text)
			}
		}
	}
	far := &trial.Trial{Target: trial.Target{Address: "ws://192.0.2.7:80/live", HTTP: "http://192.0.2.7/"}}
	if err := (&remote{}).mayRun(far); err == nil {
		t.Error("a server beyond this machine may be loaded")
	}
	near := &trial.Trial{Target: trial.Target{Address: "ws://127.0.0.1/", Routes: []trial.Route{{
		Urgent: &trial.Urgent{Address: "udp://192.0.2.7:5"}}}}}
	if (&remote{}).mayRun(near) == nil {
		t.Error("datagrams may go beyond this machine")
	}
	if far.Target.Remote = "192.0.2.8"; (&remote{}).mayRun(far) == nil {
		t.Error("a server beyond this machine may be loaded because another one may be")
	}
	if far.Target.Remote = "192.0.2.7"; (&remote{}).mayRun(far) != nil {
		t.Error("the server that the trial names may not be loaded")
	}
	if err := (&remote{}).mayRun(&trial.Trial{Target: trial.Target{Address: "ws://[::1]:80/"}}); err != nil {
		t.Error(err)
	}
}

// TestEndsEarly: results are written, and for their user alone, if the terminal goes away, or whoever reads
// what is printed; and a folder in which they cannot be is said before the run.
func TestEndsEarly(t *testing.T) {
	t.Parallel()
	board, dir := serveBoard(t), t.TempDir()
	path := harbour(t, "pilot-${n}", `enter { room = "lock-1" }`, "20s", "")
	taken := filepath.Join(dir, "a file")
	if err := os.WriteFile(taken, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	began := time.Now()
	text, status := outcome(t, tool(t, "run", path, "--headless", "--target", board, "--out", taken))
	if status != exitWrong || !strings.Contains(text, "the results cannot be written to "+taken) ||
		time.Since(began) > 15*time.Second {
		t.Errorf("status %d\n%s", status, text)
	}
	for _, goes := range []string{"the terminal", "the reader"} {
		out := filepath.Join(dir, goes)
		cmd := tool(t, "run", path, "--headless", "--target", board, "--out", out)
		r, w, err := os.Pipe()
		if err != nil {
			t.Fatal(err)
		}
		cmd.Stdout, cmd.Stderr = w, w
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		w.Close()
		if _, err := bufio.NewReader(r).ReadString('\n'); err != nil { // it runs
			t.Error(err)
		}
		if r.Close(); goes == "the terminal" {
			cmd.Process.Signal(syscall.SIGHUP)
		} else {
			time.Sleep(1200 * time.Millisecond) // it has something more to print, and nobody reads it
			cmd.Process.Signal(os.Interrupt)
		}
		cmd.Wait()
		info, err := os.Stat(filepath.Join(out, "summary.json"))
		if err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("%s goes away: status %d, %v, %v", goes, cmd.ProcessState.ExitCode(), err, info)
		}
	}
}

// TestPrivateFiles: what the tool writes of a server is its user's alone, also in
// places that the user names.
func TestPrivateFiles(t *testing.T) {
	t.Parallel()
	board, dir := serveBoard(t), t.TempDir()
	path := harbour(t, "pilot-${n}", `enter { room = "lock-1" }`, "200ms", "")
	db := filepath.Join(dir, "new", "folder", "runs.db")
	if text, status := outcome(t, tool(t, "run", path, "--headless", "--target", board, "--store",
		db)); status != exitHolds && !byTheMachine(text) {
		t.Fatalf("status %d\n%s", status, text)
	}
	old := filepath.Join(dir, "old.jsonl")
	if err := os.WriteFile(old, []byte("old"), 0o644); err != nil {
		t.Fatal(err)
	}
	if text, status := outcome(t, tool(t, "record", "--listen", "127.0.0.1:0", "--to", board, "-o",
		old)); status == 0 || !strings.Contains(text, "exists") {
		t.Errorf("a file that was there before: status %d\n%s", status, text)
	}
	fresh := filepath.Join(dir, "fresh.jsonl")
	cmd := tool(t, "record", "--listen", "127.0.0.1:0", "--to", board, "-o", fresh)
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		if _, err := os.Stat(fresh); err == nil { // else it has not begun to record
			break
		}
	}
	cmd.Process.Signal(os.Interrupt)
	cmd.Wait()
	for file, want := range map[string]os.FileMode{db: 0o600, filepath.Dir(db): 0o700,
		filepath.Dir(filepath.Dir(db)): 0o700, fresh: 0o600, old: 0o644} {
		if info, err := os.Stat(file); err != nil {
			t.Error(err)
		} else if info.Mode().Perm() != want {
			t.Errorf("%s: %v, want %v", file, info.Mode(), want)
		}
	}
}

// TestProbeToken: a token comes from the environment or a file, reaches the
// server, and nobody else.
func TestProbeToken(t *testing.T) {
	got := make(chan string, 9)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		got <- r.Header.Get("Authorization")
		http.Error(w, "not today, "+r.Header.Get("Authorization"), http.StatusForbidden)
	}))
	defer server.Close()
	const token = "low-water-tide-table"
	t.Setenv("HARBOUR_TOKEN", token)
	file := filepath.Join(t.TempDir(), "token")
	if err := os.WriteFile(file, []byte(token+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	address := strings.Replace(server.URL, "http", "ws", 1)
	for _, from := range [][]string{{"--token-env", "HARBOUR_TOKEN"}, {"--token-file", file}} {
		text, status := outcome(t, tool(t, append([]string{"probe", address, "--send", "a notice"}, from...)...))
		if said := <-got; said != "Bearer "+token || status != exitUnreachable || strings.Contains(text, token) ||
			!strings.Contains(text, "not today, Bearer •••") {
			t.Errorf("%v: the server got %q, status %d\n%s", from, said, status, text)
		}
	}
	if text, status := outcome(t, tool(t, "probe", address, "--send", "x", "--token-env",
		"NOT_SET_AT_ALL")); status != exitWrong || !strings.Contains(text, "NOT_SET_AT_ALL is not set") {
		t.Errorf("status %d\n%s", status, text)
	}
}

// TestFewFiles: a stand-in and a relay that are out of file descriptors serve
// again once there are some.
func TestFewFiles(t *testing.T) {
	t.Parallel()
	board := serveBoard(t)
	for name, args := range map[string][]string{
		"stand-in": {"standin", "--listen", "127.0.0.1:0"},
		"portable": {"standin", "--listen", "127.0.0.1:0", "--portable"},
		"relay":    {"record", "--listen", "127.0.0.1:0", "--to", board, "-o", filepath.Join(t.TempDir(), "r.jsonl")},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			whole := tool(t, args...)
			cmd := exec.Command("bash", append([]string{"-c", `ulimit -n 48; exec "$@"`, "-"}, whole.Args...)...)
			cmd.Env, cmd.Args[3] = whole.Env, whole.Path
			log := filepath.Join(t.TempDir(), "log")
			out, err := os.Create(log)
			if err != nil {
				t.Fatal(err)
			}
			defer out.Close()
			cmd.Stdout, cmd.Stderr = out, out
			if err := cmd.Start(); err != nil {
				t.Fatal(err)
			}
			defer func() { cmd.Process.Signal(os.Interrupt); cmd.Wait() }()
			said := func() string { b, _ := os.ReadFile(log); return string(b) }
			address := ""
			for end := time.Now().Add(20 * time.Second); address == "" &&
				time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
				for _, word := range strings.Fields(said()) {
					if u, err := url.Parse(word); err == nil && u.Host != "" && word != board {
						address = u.Host
					} else if host, port, err := net.SplitHostPort(word); err == nil && host == "127.0.0.1" &&
						port != "0" {
						address = word
					}
				}
			}
			var all []net.Conn
			for range 80 {
				c, err := net.Dial("tcp", address)
				if err != nil {
					t.Fatalf("%v: %s", err, said())
				}
				all = append(all, c)
			}
			time.Sleep(300 * time.Millisecond)
			for _, c := range all {
				c.Close()
			}
			for end := time.Now().Add(10 * time.Second); ; time.Sleep(100 * time.Millisecond) {
				c, err := net.Dial("tcp", address)
				if err == nil {
					fmt.Fprint(c, "GET /live HTTP/1.1\r\nHost: x\r\nUpgrade: websocket\r\nConnection: "+
						"Upgrade\r\nSec-WebSocket-Version: 13\r\nSec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==\r\n\r\n")
					c.SetReadDeadline(time.Now().Add(time.Second))
					b := make([]byte, 64)
					n, _ := c.Read(b)
					c.Close()
					if bytes.HasPrefix(b[:n], []byte("HTTP/1.1 101")) {
						return
					}
				}
				if time.Now().After(end) {
					t.Fatalf("it does not serve again: %v\n%s", err, said())
				}
			}
		})
	}
}
