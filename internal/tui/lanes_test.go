package tui_test

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"
)

// TestLanes looks at the lanes of a run that goes on, with lost and stray
// messages, and at the same run from the store: it steps, jumps, picks, filters,
// opens a message and exports.
func TestLanes(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := open(t, 160, 47, "cd "+dir+"; "+binary+" --store runs.db demo --lose 0.002 --misdirect 0.001")
	s.until(`planned`, 20*time.Second)
	s.keys("4")
	s.until(`── lanes of clients`, 5*time.Second)
	s.until(`lanes of clients around message \d+, (lost|stray)`, 40*time.Second)
	s.keys("g")
	s.line("pilots")
	s.until(`lanes of clients crew pilots`, 5*time.Second)
	s.until(`pilot-0 `, 5*time.Second)
	s.until(`┼ beat answered|entered lock-\d|#\d+ in lock-\d`, 20*time.Second)
	s.keys("g")
	s.line("nobody")
	s.until(`there is no client, crew or room "nobody"`, 5*time.Second)
	s.keys("Escape")
	s.until(`lanes of clients[^\n]*\n(there is no client, crew or room "nobody"\n)? +pilot-0 `, 5*time.Second)
	s.keys("C-c") // stop and save
	s.until(`verdict: `+lossy, 60*time.Second)
	s.keys("q")
	s.until(`status [13]`, 20*time.Second)

	s = open(t, 160, 47, "cd "+dir+"; "+binary+" --store runs.db")
	s.until(`morning tide \.+ `, 10*time.Second)
	s.keys("Down", "Enter")
	s.until(`verdict: `+lossy, 10*time.Second)
	s.keys("4")
	s.until(`lanes of clients around message \d+, lost`, 10*time.Second)
	s.until(`▸ +\d+\.\d{3} .*╳ +#\d+ lost, from`, 5*time.Second)
	first := s.until(`around message (\d+, \w+)`, time.Second)[1]
	s.keys("Enter")
	s.until(`"kind": "(notice|whisper)"`, 5*time.Second)
	s.keys("Space")
	s.until(`00000000  7b 22 6b 69 6e 64`, 5*time.Second)
	s.keys("Enter", "n", "n", "n", "n", "n", "n")
	for end := time.Now().Add(10 * time.Second); s.until(`around message (\d+, \w+)`,
		5*time.Second)[1] == first && !strings.Contains(s.look(), "no problem in that direction"); // there may be one
	time.Sleep(100 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("n goes nowhere:\n%s", s.look())
		}
	}
	s.keys("f", "f", "f", "f", "f")
	s.until(`problems, whole run, \d+ of \d+`, 5*time.Second)
	s.keys("f", "e")
	s.until(`written: tidepull-[\d-]+-lanes\.svg, tidepull-[\d-]+-lanes\.pdf`, 10*time.Second)
	s.keys("8")
	s.until(`what is wrong with the server ─+ \d findings? `, 5*time.Second)
	s.until(`▸ ■ (room leak|lost messages)  .*\d+`, 5*time.Second)
	s.until(`usually +[A-Z]`, 5*time.Second)
	s.keys("Enter", "Down")
	s.until(`seen +\S+ (got|never got) message \d+ .*\n +▸ `, 5*time.Second)
	s.keys("Enter")
	s.until(`lanes of clients around message \d+, (lost|stray)`, 5*time.Second)
	s.keys("?")
	s.until(`Lanes answers: what exactly happened`, 5*time.Second)
	s.tmux("resize-window", "-t", "s", "-x", "80", "-y", "24")
	s.keys("Escape")
	s.until(`lanes of clients`, 5*time.Second)
	written, err := filepath.Glob(filepath.Join(dir, "*-lanes.svg"))
	if err != nil || len(written) != 1 {
		t.Fatalf("%v, %v", written, err)
	}
	svg, err := os.ReadFile(written[0])
	if err != nil || !strings.Contains(string(svg), "What happened between the clients") ||
		!regexp.MustCompile(`(pilot|tug|keeper)s?-\d+`).Match(svg) {
		t.Errorf("the drawing says too little: %d bytes, %v", len(svg), err)
	}
}
