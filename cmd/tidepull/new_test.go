package main

import (
	"path/filepath"
	"strings"
	"testing"
)

// TestNew writes a trial for a server of which three samples are known: two clients try them, and what comes is the
// rest. The trial's first run recognises all, but what comes with nobody asking for it in between.
func TestNew(t *testing.T) {
	t.Parallel()
	for shape, samples := range map[string][]string{
		"digits": {`42["name",{"name":"<name>"}]`, `42["enter",{"room":"<room>"}]`,
			`42["notice",{"room":"<room>","text":"<text>"}]`},
		"text": {"NAME <name>", "ENTER <room>", "NOTICE <room> <text>"},
	} {
		t.Run("shape "+shape, func(t *testing.T) {
			t.Parallel()
			var args []string
			if shape != "" {
				args = []string{"--shape", shape}
			}
			url := serveBoard(t, args...)
			file := filepath.Join(t.TempDir(), "my.trial.hcl")
			answers := append([]string{url, ""}, append(samples, "yes", "")...)
			cmd := tool(t, "new", file)
			cmd.Stdin = strings.NewReader(strings.Join(answers, "\n"))
			if out, status := outcome(t, cmd); status != 0 || !strings.Contains(out, "others get what is said as: ") {
				t.Fatalf("status %d:\n%s", status, out)
			}
			out, status := outcome(t, tool(t, "run", file, "--headless", "--store", "-"))
			if status != exitHolds && status != exitNotProven || strings.Contains(out, "not recognised") ||
				strings.Contains(out, "\n  owed 0 =") {
				t.Errorf("status %d:\n%s", status, out)
			}
		})
	}
}
