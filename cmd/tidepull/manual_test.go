package main

import (
	"bytes"
	"os/exec"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/alecthomas/kong"
)

// TestCompletion asks a shell what it completes.
func TestCompletion(t *testing.T) {
	var script bytes.Buffer
	root := parserOf(reflect.New(reflect.TypeFor[commands]())).Model.Node
	if err := completeBash(&script, root); err != nil {
		t.Fatal(err)
	}
	for line, want := range map[string][]string{
		"ru":                         {"run", "runs"},
		"runs ":                      {"list", "compare", "delete"},
		"runs list --v":              {"--verdict", "--version"},
		"runs compare 1 2 --format ": {"text", "svg", "pdf"},
		"completion ":                {"bash", "zsh", "fish"},
		"export --view fan":          {"fan-out"},
		"run --no-such":              nil,
	} {
		words := strings.Split("tidepull "+line, " ")
		cmd := exec.Command("bash", "-c", script.String()+`
COMP_WORDS=("$@"); COMP_CWORD=$(($# - 1)); _tidepull; printf '%s\n' "${COMPREPLY[@]}"`, "bash")
		cmd.Args = append(cmd.Args, words...)
		out, err := cmd.CombinedOutput()
		got := strings.Fields(string(out))
		if err != nil || (want == nil) != (len(got) == 0) {
			t.Errorf("%q: %q, %v", line, got, err)
		}
		for _, w := range want {
			if !slices.Contains(got, w) {
				t.Errorf("%q completes to %q, without %s", line, got, w)
			}
		}
	}
}

// TestManual: every command and flag stands in the manual page, and in the completion of fish.
func TestManual(t *testing.T) {
	var man, fish bytes.Buffer
	root := parserOf(reflect.New(reflect.TypeFor[commands]())).Model.Node
	if err := writeManual(&man, root); err != nil {
		t.Fatal(err)
	}
	if err := completeFish(&fish, root); err != nil {
		t.Fatal(err)
	}
	n := 0
	eachCommand(root, nil, func(c *kong.Node, words []string) {
		if n++; len(words) > 0 && !strings.Contains(man.String(), "\n.SS "+strings.Join(words, " ")+"\n") {
			t.Errorf("no %v in the manual page", words)
		}
		for _, f := range c.Flags {
			if !strings.Contains(man.String(), strings.ReplaceAll("\n.B --"+f.Name, "-", `\-`)) {
				t.Errorf("no --%s of %v in the manual page", f.Name, words)
			}
			if !strings.Contains(fish.String(), " -l "+f.Name+" -d ") {
				t.Errorf("no --%s of %v for fish", f.Name, words)
			}
		}
	})
	if n < 25 {
		t.Errorf("%d commands", n)
	}
}

// TestSince reads how long ago, and dates.
func TestSince(t *testing.T) {
	now := time.Date(2026, 11, 30, 14, 0, 0, 0, time.UTC)
	for text, want := range map[string]string{"90m": "2026-11-30 12:30", "3d": "2026-11-27 14:00",
		"0.5d":       "2026-11-30 02:00",
		"2026-11-29": "2026-11-29 00:00", "2026-11-29 13:05": "2026-11-29 13:05", "": "0001-01-01 00:00"} {
		if got, err := sinceOf(text, now); err != nil || got.Format("2006-01-02 15:04") != want {
			t.Errorf("%q: %v, %v", text, got, err)
		}
	}
	for _, wrong := range []string{"yesterday", "-3h", "2026-13-01", "d"} {
		if _, err := sinceOf(wrong, now); err == nil {
			t.Errorf("%q is a time", wrong)
		}
	}
}
