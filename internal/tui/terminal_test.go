package tui_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"
)

// TestTerminal: what a terminal program owes its terminal. It can be put aside
// and taken up again, takes clicks, leaves the screen as it was if the terminal
// goes away, and writes its results when the run is over, not when it is left; a
// second export leaves the first one as it is.
func TestTerminal(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	out := filepath.Join(dir, "results")
	s := open(t, 160, 47, "bash --norc -i")
	s.keys("cd "+dir+" && XDG_DATA_HOME="+dir+" "+binary+" demo --out "+out, "Enter")
	s.until(`open +[1-9]`, 20*time.Second)
	// Several times: what a busy machine lets go wrong here goes wrong now and then.
	for range 3 {
		s.keys("C-z")
		s.until(`Stopped`, 5*time.Second)
		if text := s.look(); strings.Contains(text, "── tide") {
			t.Errorf("put aside it leaves its screen there:\n%s", text)
		}
		time.Sleep(300 * time.Millisecond)
		s.keys("clear; fg", "Enter")
		s.until(`── tide`, 10*time.Second)
	}

	at := func(text string) (x, y int) {
		for y, line := range strings.Split(s.look(), "\n") {
			if before, _, ok := strings.Cut(line, text); ok {
				return len([]rune(before)) + 1, y + 1
			}
		}
		t.Fatalf("there is no %q:\n%s", text, s.look())
		return 0, 0
	}
	click := func(x, y int) {
		for _, how := range []string{"M", "m"} {
			s.tmux("send-keys", "-t", "s", "-l", "\x1b[<0;"+strconv.Itoa(x)+";"+strconv.Itoa(y)+how)
		}
	}
	s.until(`2 fan-out`, 10*time.Second) // it is drawn line by line
	x, y := at("2 fan-out")
	click(x+3, y)
	s.until(`── share reached`, 5*time.Second)

	s.keys("s")
	s.until(`tide, over after`, 30*time.Second)
	for end := time.Now().Add(10 * time.Second); ; time.Sleep(100 * time.Millisecond) {
		if b, err := os.ReadFile(filepath.Join(out, "summary.json")); err == nil &&
			strings.Contains(string(b), `"verdict": "not proven"`) {
			break
		} else if time.Now().After(end) {
			t.Fatalf("the screen is still open, and there is no summary: %v", err)
		}
	}
	exported := func() []string { files, _ := filepath.Glob(filepath.Join(dir, "tidepull-*-fan-out*")); return files }
	s.keys("e")
	s.until(`written: tidepull-\S+-fan-out`, 10*time.Second)
	before := exported()
	first, err := os.Stat(before[0])
	if err != nil {
		t.Fatal(err)
	}
	s.keys("e")
	for end := time.Now().Add(10 * time.Second); len(exported()) < 2*len(before); time.Sleep(100 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("a second export makes no second files: %v", exported())
		}
	}
	if again, err := os.Stat(before[0]); err != nil || again.ModTime() != first.ModTime() {
		t.Errorf("the second export has overwritten the first: %v", err)
	}
	s.keys("q")
	s.until(`verdict: not proven`, 10*time.Second)
	s = open(t, 100, 30, "TERM=dumb "+binary+" demo")
	s.until(`TERM=dumb\) cannot show a full screen; plain lines instead`, 10*time.Second)
}

// TestHangup: when its terminal goes away, the run ends, and is kept.
func TestHangup(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := open(t, 100, 30, "XDG_DATA_HOME="+dir+" "+binary+" demo")
	s.until(`open +[1-9]`, 20*time.Second)
	s.tmux("kill-session", "-t", "s")
	for end := time.Now().Add(20 * time.Second); ; time.Sleep(200 * time.Millisecond) {
		cmd := exec.Command(binary, "runs")
		cmd.Env = append(os.Environ(), "XDG_DATA_HOME="+dir)
		if text, err := cmd.CombinedOutput(); err == nil && strings.Contains(string(text), "not proven") {
			return
		} else if time.Now().After(end) {
			t.Fatalf("the run is not over: %v\n%s", err, text)
		}
	}
}
