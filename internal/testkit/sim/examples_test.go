package sim_test

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
	"tidepull/internal/trial/language"
)

// TestExamples runs the reference's example of each block against the stand-in:
// it is a whole trial that says something, and nothing about it fails but what
// the example is about.
func TestExamples(t *testing.T) {
	t.Setenv("HARBOUR_TOKEN", "tide-and-time")
	read := func(path string) ([]byte, error) {
		switch path {
		case "board.hcl":
			return []byte(`target "board" { websocket = "ws://127.0.0.1:7411/live" }`), nil
		case "berths.csv":
			return []byte("berth,depth\nnorth,8\nsouth,6\n"), nil
		}
		return nil, os.ErrNotExist
	}
	reference := language.Reference(board.SwitchWords())
	for _, line := range strings.Split(reference, "\n") {
		if block, is := strings.CutPrefix(line, "### `"); is && !strings.Contains(after(reference, line), "```hcl") {
			t.Errorf("the reference has no example of %s", block)
		}
	}
	for _, name := range language.Blocks() {
		source := language.Example(name)
		tr, err := language.Parse([]byte(source), "example.trial.hcl", language.Options{Read: read})
		if err != nil {
			t.Errorf("%s: %v\n%s", name, err, source)
			continue
		}
		if len(tr.FinalChecks) > 0 {
			continue // asked over HTTP: internal/run has them
		}
		p := playTrial(t, tr, standin.Config{}, board.Switches{})
		c := &p.window.Counts
		// Who vanishes or is thrown out in the middle of its session says nothing more.
		rude := name == "vanish" || name == "malformed" || name == "close" || name == "expect_close"
		if c.Started == 0 || c.Sent == 0 || c.Refused+c.Denied+c.Broken+c.Malformed > 0 || p.window.Imbalance() != "" ||
			p.window.Total.Lost+p.window.Total.Stray > 0 || c.Unsent > 0 && !rude || p.window.ChecksFailed() > 0 {
			t.Errorf("%s: %+v\n%+v\n%v\n%s", name, *c, p.window.Total, p.reasons, source)
		}
	}
}

// after is what stands behind a heading, up to the next one.
func after(s, heading string) string {
	_, rest, _ := strings.Cut(s, fmt.Sprintln(heading))
	rest, _, _ = strings.Cut(rest, "\n#")
	return rest
}
