package main

import (
	"bytes"
	"encoding/xml"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"tidepull/internal/testkit/port"
)

const inPipeline = `
trial "notices" {}
target "board" { websocket = "ws://127.0.0.1:7411/live" }
session "s" {
  connect {}
  enter { room = "lock-${n % 2}" }
  repeat {
    every = "200ms"
    say { body = { kind = "notice", room = room, text = "${name} ${mark}" } }
  }
}
crew "pilots" {
  clients = 10
  session = session.s
}
tide {
  flood "100%" { over = "200ms" }
  slack { lasts = "1s" }
  ebb { over = "200ms" }
}
`

// TestPipeline runs the job of docs/pipeline.md: on a server that keeps its word, on one that loses messages, and on
// none.
func TestPipeline(t *testing.T) {
	doc, err := os.ReadFile("../../docs/pipeline.md")
	if err != nil {
		t.Fatal(err)
	}
	job := regexp.MustCompile("(?s)```sh\n(.*?)```").FindSubmatch(doc)
	if job == nil {
		t.Fatal("docs/pipeline.md has no job")
	}
	for name, c := range map[string]struct {
		start    string
		statuses []int
	}{"sound": {"tidepull standin --listen 127.0.0.1:PORT", []int{0, 3}},
		"loses": {"tidepull standin --listen 127.0.0.1:PORT --lose 0.2", []int{1}},
		"none":  {"sleep 60", []int{4}}} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir, bin := t.TempDir(), t.TempDir()
			at := port.Free(t)
			trials := filepath.Join(dir, "trials")
			like := tool(t)
			link := os.Symlink(like.Path, filepath.Join(bin, "tidepull"))
			if err := os.MkdirAll(trials, 0o700); err != nil || link != nil {
				t.Fatal(err, link)
			}
			if err := os.WriteFile(filepath.Join(trials, "notices.trial.hcl"), []byte(inPipeline), 0o600); err != nil {
				t.Fatal(err)
			}
			cmd := exec.Command("sh", "-c", strings.Replace(string(job[1]), "worst=0\n", "worst=0; sleep 1\n", 1))
			cmd.Dir = dir
			cmd.Env = append(like.Env, "PATH="+bin+":"+os.Getenv("PATH"), "TARGET=ws://127.0.0.1:"+at,
				"START="+strings.Replace(c.start, "PORT", at, 1))
			out, _ := cmd.CombinedOutput()
			status := cmd.ProcessState.ExitCode()
			if !slices.Contains(c.statuses, status) {
				t.Fatalf("status %d, not one of %v:\n%s", status, c.statuses, out)
			}
			if name == "none" {
				if !bytes.Contains(out, []byte("nobody listens there")) {
					t.Errorf("it does not say why:\n%s", out)
				}
				return
			}
			report, err := os.ReadFile(filepath.Join(dir, "results", "notices", "junit.xml"))
			if err != nil {
				t.Fatal(err)
			}
			var suite struct {
				Failures int `xml:"failures,attr"`
				Cases    []struct {
					Name    string `xml:"name,attr"`
					Failure string `xml:"failure"`
				} `xml:"testcase"`
			}
			if err := xml.Unmarshal(report, &suite); err != nil || (suite.Failures > 0) != (name == "loses") {
				t.Fatalf("%v\n%s", err, report)
			}
			for _, test := range suite.Cases {
				if strings.Contains(test.Name, "nothing is lost") && name == "loses" &&
					strings.Count(test.Failure, ": lost at pilots-") != 3 {
					t.Errorf("the examples of what is lost: %q", test.Failure)
				}
			}
		})
	}
}
