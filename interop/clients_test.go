package interop

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// TestForeignClients: clients of other libraries against the stand-in, so that not only our
// own two halves agree.
func TestForeignClients(t *testing.T) {
	if os.Getenv("INTEROP") == "" {
		t.Skip("it needs clients from the package registries: make interop")
	}
	board := tool(t, "standin", "--listen", "127.0.0.1:0", "--deflate", "--end-with-input")
	input, err := board.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	said, err := board.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := board.Start(); err != nil {
		t.Fatal(err)
	}
	defer board.Wait()
	defer input.Close()
	line := make([]byte, 200)
	n, err := said.Read(line)
	_, port, found := strings.Cut(strings.TrimSuffix(strings.TrimSpace(string(line[:n])), "/live"), "127.0.0.1:")
	if err != nil || !found {
		t.Fatalf("%v: the stand-in says %q", err, line[:n])
	}
	here, err := filepath.Abs("foreign-clients")
	if err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(filepath.Join(here, "start.sh"), port)
	cmd.Env = surroundings(here)
	var words bytes.Buffer
	cmd.Stderr = &words
	out, err := cmd.Output()
	if cmd.ProcessState.ExitCode() == 77 {
		t.Skip(strings.TrimSpace(words.String()))
	}
	type came struct{ Came, Different int }
	var got struct {
		Deflate                      bool
		Ws, Eventsource, Curl, Dgram came
	}
	if err == nil {
		err = json.Unmarshal(out, &got)
	}
	if all := (came{80, 80}); err != nil || !got.Deflate || got.Ws != all || got.Eventsource != all ||
		got.Curl != all ||
		got.Dgram != all {
		t.Errorf("%v: %s\n%s", err, out, words.String())
	}
}
