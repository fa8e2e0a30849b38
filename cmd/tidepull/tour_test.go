package main

import (
	"context"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"tidepull/internal/testkit/port"
)

// A block is commands of the tour, and what they print.
type block struct {
	commands string
	prints   []string
}

func blocksOf(t *testing.T, text string) (all []block) {
	t.Helper()
	for _, m := range regexp.MustCompile("(?s)```(sh|text)\n(.*?)```").FindAllStringSubmatch(text, -1) {
		switch {
		case m[1] == "sh":
			all = append(all, block{commands: m[2]})
		case len(all) == 0:
			t.Fatal("something is printed before any command")
		default:
			all[len(all)-1].prints = strings.Split(strings.TrimSpace(m[2]), "\n")
		}
	}
	return all
}

// TestTour runs every command of docs/tour.md, in one shell but for trials that start their own
// server, and finds what stands below each in what it prints, in that order.
func TestTour(t *testing.T) {
	t.Parallel()
	source, err := os.ReadFile("../../docs/tour.md")
	if err != nil {
		t.Fatal(err)
	}
	text := string(source)
	for _, shown := range []string{"7411", "7412", "7413", "7414", "7415", "7416", "7417", "7418"} {
		text = strings.ReplaceAll(text, ":"+shown, ":"+port.Free(t))
	}
	blocks := blocksOf(t, text)
	if len(blocks) < 10 {
		t.Fatalf("only %d blocks", len(blocks))
	}
	dir := t.TempDir()
	// As a user has it, without the race detector: a thousand copies want speed.
	if built := os.Getenv("TIDEPULL_BINARY"); built != "" {
		if err := os.Symlink(built, filepath.Join(dir, "tidepull")); err != nil {
			t.Fatal(err)
		}
	} else if out, err := exec.Command("go", "build", "-o", filepath.Join(dir, "tidepull"),
		".").CombinedOutput(); err != nil {
		t.Fatalf("building: %v\n%s", err, out)
	}
	// If the machine has not enough time for the tool, a limit that holds is
	// not proven (status 3); that is no fault of the tour's.
	mayBeCrowded := regexp.MustCompile(`(?m)^tidepull run [^|\n]*$`)
	ctx, cancel := context.WithTimeout(t.Context(), 5*time.Minute)
	defer cancel()
	shell := func(folder string, some map[int]block) (printed map[int]string) {
		// What is started in the background ends with the shell.
		script := "set -e\nexec 2>&1\ntrap 'kill $(jobs -p) 2>/dev/null || true; wait' EXIT\n"
		for _, i := range slices.Sorted(maps.Keys(some)) {
			script += fmt.Sprintf("echo '=== %d'\n%s\n", i,
				mayBeCrowded.ReplaceAllString(some[i].commands, "$0 || [ $$? = 3 ]"))
		}
		cmd := exec.CommandContext(ctx, "bash", "-c", script)
		cmd.Dir = folder
		home := t.TempDir()
		cmd.Env = append(os.Environ(), "PATH="+dir+":"+os.Getenv("PATH"), "XDG_STATE_HOME="+home, "XDG_DATA_HOME="+home)
		out, err := cmd.Output()
		if err != nil {
			t.Errorf("the tour ends with %v", err)
		}
		printed = map[int]string{}
		begins := regexp.MustCompile(`(?m)^=== (\d+)\n`)
		at := begins.FindAllSubmatchIndex(out, -1)
		for k, m := range at {
			end := len(out)
			if k+1 < len(at) {
				end = at[k+1][0]
			}
			i, _ := strconv.Atoi(string(out[m[2]:m[3]]))
			printed[i] = string(out[m[1]:end])
		}
		return printed
	}
	// A trial that starts its server needs nothing of what came before: it runs beside the rest.
	together, results := map[int]block{}, make(chan map[int]string, len(blocks))
	apart := 0
	for i, b := range blocks {
		if !strings.Contains(b.commands, "\nserver {") {
			together[i] = b
			continue
		}
		apart++
		folder := t.TempDir()
		go func() { results <- shell(folder, map[int]block{i: b}) }()
	}
	parts := shell(dir, together)
	for range apart {
		maps.Copy(parts, <-results)
	}
	for i, b := range blocks {
		rest, came := parts[i]
		if !came {
			t.Fatalf("it ends before block %d, after:\n%s", i, parts[i-1])
		}
		for _, line := range b.prints {
			pattern := strings.ReplaceAll(regexp.QuoteMeta(strings.TrimSpace(line)), "…", `[^\n]*`)
			if byTheMachine(rest) {
				pattern = strings.NewReplacer("broken", `(broken|not proven[^\n]*)`, "holds",
					`(holds|not proven[^\n]*)`, "exit status 1", "exit status [13]").Replace(pattern)
			}
			pattern = strings.ReplaceAll(pattern, " ", ` +`)
			at := regexp.MustCompile(pattern).FindStringIndex(rest)
			if at == nil {
				t.Errorf("block %d:\n%s\nprints\n%s\nin which there is no\n%s", i, b.commands, parts[i], line)
				break
			}
			rest = rest[at[1]:]
		}
	}
	if pdf, err := os.ReadFile(filepath.Join(dir, "lanes.pdf")); err != nil || !strings.HasPrefix(string(pdf), "%PDF") {
		t.Errorf("the lanes on paper: %v", err)
	}
}
