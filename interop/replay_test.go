package interop

import (
	"bufio"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// A replayResult is what replay --json prints.
type replayResult struct {
	Same, Compared bool
	Expected, Came int
	Differences    []struct {
		Kind, What string
		Times      int
		Counts     bool
		Example    struct{ Recorded, Now string }
	}
}

// replayed records what two clients of another library do, and plays it against the server
// started afresh.
func replayed(t *testing.T, name string, vary []string) string {
	dir := t.TempDir()
	file := filepath.Join(dir, "recording.jsonl")
	s := again(t, name)
	record(t, s, name, file)
	s.kill()
	words := []string{}
	for _, copies := range []int{1, 20} {
		s := again(t, name)
		r, status, text := s.replay(t, file, copies, vary)
		if s.kill(); status != 0 || !r.Same || !r.Compared {
			t.Errorf("replayed by %d: status %d, %s", copies, status, text)
			words = append(words, fmt.Sprintf("%d: differs", copies))
			continue
		}
		words = append(words, fmt.Sprintf("%d: the same, %d heard", copies, r.Came))
	}
	s = again(t, name, "CHANGED=1")
	r, status, text := s.replay(t, file, 1, vary)
	s.kill()
	counted := 0
	for _, d := range r.Differences {
		if d.Counts {
			counted++
		}
	}
	if status != 1 || r.Same || counted != 1 {
		t.Errorf("changed: status %d, %d places, %s", status, counted, text)
	}
	return strings.Join(append(words, fmt.Sprintf("changed: differs in %d", counted)), "; ")
}

// record has the server's foreign client talk to it through the recorder.
func record(t *testing.T, s *server, name, file string) {
	t.Helper()
	cmd := tool(t, "record", "--listen", "127.0.0.1:0", "--to", fmt.Sprintf("ws://127.0.0.1:%d/", s.port), "-o", file,
		"--with-credentials")
	out, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	lines := bufio.NewScanner(out)
	port := ""
	for port == "" && lines.Scan() {
		if _, after, ok := strings.Cut(lines.Text(), "127.0.0.1:"); ok {
			port, _, _ = strings.Cut(after, " ")
			port, _, _ = strings.Cut(port, "/")
		}
	}
	go func() {
		for lines.Scan() {
		}
	}()
	here, err := filepath.Abs(name)
	if err != nil {
		t.Fatal(err)
	}
	client := exec.Command("./client.sh", strings.TrimRight(port, ".,:;"))
	client.Env = surroundings(here)
	words, err := client.CombinedOutput()
	time.Sleep(200 * time.Millisecond)
	cmd.Process.Signal(syscall.SIGTERM)
	cmd.Wait()
	if err != nil {
		t.Fatalf("the foreign client: %v\n%s", err, words)
	}
	if keep := os.Getenv("KEEP"); keep != "" {
		b, _ := os.ReadFile(file)
		os.WriteFile(filepath.Join(keep, name+".jsonl"), b, 0o600)
	}
}

// replay plays a recording to the server, and says what came of it.
func (s *server) replay(t *testing.T, file string, copies int, vary []string) (r replayResult, status int,
	text string) {
	t.Helper()
	args := []string{"replay", file, "--to", fmt.Sprintf("ws://127.0.0.1:%d/", s.port), "--json",
		fmt.Sprintf("--copies=%d", copies)}
	for _, v := range vary {
		args = append(args, "--vary", v)
	}
	cmd := tool(t, args...)
	var out, words strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &words
	cmd.Run()
	json.Unmarshal([]byte(out.String()), &r)
	for _, d := range r.Differences {
		text += fmt.Sprintf("\n  %d x %s (counts: %v): %q now %q", d.Times, d.Kind, d.Counts, d.Example.Recorded,
			d.Example.Now)
	}
	return r, cmd.ProcessState.ExitCode(), fmt.Sprintf("%d of %d%s\n%s", r.Came, r.Expected, text, words.String())
}
