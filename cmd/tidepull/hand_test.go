package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// TestProbeCommand: what a script sees of the probe: the order of its flags is
// that of its deeds, and the exit status says how it went.
func TestProbeCommand(t *testing.T) {
	t.Parallel()
	url := serveBoard(t)
	dir := t.TempDir()
	file := filepath.Join(dir, "chart.bin")
	if err := os.WriteFile(file, []byte{0, 1, 2, 255}, 0o666); err != nil {
		t.Fatal(err)
	}
	kept := filepath.Join(dir, "kept.trial.hcl")
	out, status := outcome(t, tool(t, "probe", url, "--expect", "welcome", "--send", `{"kind":"name","name":"a,b"}`,
		"--expect", `/"name":"a,b"\}$/`,
		"--send", `{"kind":"enter","room":"quay"}`, "--expect", "entered", "--send-file", file, "--send-hex", "ff 00",
		"--ping", "now", "--close", "4001", "--keep", kept, "--json"))
	if status != exitHolds {
		t.Fatalf("status %d\n%s", status, out)
	}
	var whats []string
	for _, line := range strings.Split(strings.TrimSpace(out), "\n") {
		var e struct {
			What, Op, Phase string
			Size, Code      int
		}
		if err := json.Unmarshal([]byte(line), &e); err != nil {
			t.Fatalf("%v: %s", err, line)
		}
		if e.What == "out" {
			whats = append(whats, e.Op)
		}
	}
	if got := strings.Join(whats, " "); got != "text text binary binary ping close" {
		t.Errorf("it sent %s", got)
	}
	trial, err := os.ReadFile(kept)
	if err != nil || !strings.Contains(string(trial), `hex = "000102ff"`) ||
		!strings.Contains(string(trial), "code = 4001") {
		t.Errorf("kept: %v\n%s", err, trial)
	}
	for _, tc := range []struct {
		args   []string
		status int
		says   string
	}{
		{[]string{"probe", url, "--expect", "nothing of the kind", "--within", "300ms"}, exitBroken,
			`expected "nothing of the kind": it has not come in 300ms`},
		{[]string{"probe", "ws://127.0.0.1:1/"}, exitUnreachable, "nobody listens at 127.0.0.1:1"},
		{[]string{"probe", url, "--close", "1000", "--send", "x"}, exitBroken, "not sent: the connection is closed"},
		{[]string{"probe", url, "--header", "no colon"}, exitWrong, `--header "no colon" is not NAME: VALUE`},
		{[]string{"probe", url, "--send-hex", "xyz"}, exitWrong, "no hexadecimal digits"},
		{[]string{"probe", "http//nowhere"}, exitWrong, "has no scheme, as ws://http//nowhere has"},
		{[]string{"probe", url, "--keep", kept, "--pause", "10ms"}, exitWrong, "file exists"},
	} {
		out, status := outcome(t, tool(t, tc.args...))
		if status != tc.status || !strings.Contains(out, tc.says) {
			t.Errorf("%v: status %d\n%s", tc.args, status, out)
		}
	}
}

// TestRecordings: what cannot be read, written or played is said, with its
// place.
func TestRecordings(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), 0o666); err != nil {
			t.Fatal(err)
		}
		return path
	}
	empty := write("empty.jsonl", "")
	wrong := write("wrong.jsonl",
		"{\"tidepull_recording\":1}\n{\"what\":\"open\",\"conn\":1}\n{\"what\":\"tide\",\"conn\":1}\n")
	idle := write("idle.jsonl", "{\"tidepull_recording\":1}\n{\"what\":\"open\",\"conn\":1}\n")
	noHAR := write("no.har", "{\"log\":{\"entries\":[]}}")
	browser, err := filepath.Abs("../../internal/capture/recording/testdata/board.har")
	if err != nil {
		t.Fatal(err)
	}
	good := filepath.Join(dir, "good.jsonl")
	if out, status := outcome(t, tool(t, "import", browser, "-o", good)); status != exitHolds ||
		!strings.Contains(out, "21 entries of ws://127.0.0.1:") {
		t.Fatalf("import: %d %s", status, out)
	}
	for _, tc := range []struct {
		args   []string
		status int
		says   string
	}{
		{[]string{"import", browser, "-o", good}, exitWrong, "file exists"},
		{[]string{"import", noHAR, "-o", "-"}, exitWrong, "has no entries"},
		{[]string{"replay", empty}, exitWrong, "line 1 of the recording: the recording is empty"},
		{[]string{"replay", wrong}, exitWrong, `line 3 of the recording: there is no entry of the kind "tide"`},
		{[]string{"replay", idle}, exitWrong, "nothing that a client did"},
		{[]string{"replay", good, "--copies", "0"}, exitWrong, "goes from 1"},
		{[]string{"replay", good, "--speed=-1"}, exitWrong, "goes from 0"},
		{[]string{"replay", good, "--vary", "Alder=nme"}, exitWrong,
			`nothing is called "nme" here; did you mean "name"?`},
		{[]string{"replay", good, "--guesses"}, exitHolds, `"Alder"`},
		{[]string{"record", "--to", "ftp://127.0.0.1:1/"}, exitWrong,
			"the relay speaks ws://, http://, tcp:// and udp://"},
	} {
		cmd := tool(t, tc.args...)
		cmd.Dir = dir
		out, status := outcome(t, cmd)
		if status != tc.status || !strings.Contains(out, tc.says) {
			t.Errorf("%v: status %d\n%s", tc.args, status, out)
		}
	}

	// What was hidden when it was imported comes from the environment.
	if out, status := outcome(t, tool(t, "replay", good, "--to", serveBoard(t))); status != exitWrong ||
		!strings.Contains(out, "set HIDDEN_CREDENTIAL_1 in the environment") {
		t.Errorf("status %d\n%s", status, out)
	}
	t.Setenv("HIDDEN_CREDENTIAL_1", "low-water")
	// What the browser did is the same against a board of today, and not against
	// one that doubles everything.
	same, status := outcome(t, tool(t, "replay", good, "--to", serveBoard(t), "--json"))
	var r struct {
		Same     bool
		Expected int
	}
	if err := json.Unmarshal([]byte(same), &r); err != nil || status != exitHolds || !r.Same || r.Expected != 8 {
		t.Errorf("status %d, %v\n%s", status, err, same)
	}
	began := time.Now()
	other, status := outcome(t, tool(t, "replay", good, "--to", serveBoard(t, "--double", "1"), "--speed", "0"))
	if status != exitBroken || !strings.Contains(other, `DIFFERS  "notice" came, but not in the recording`) ||
		time.Since(began) > 20*time.Second {
		t.Errorf("status %d after %v\n%s", status, time.Since(began), other)
	}
}

// TestSet: variables of a trial from the command line, and what is wrong with
// them.
func TestSet(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "v.trial.hcl")
	source := `
trial "v" {}
variable "boats" { default = 3 }
variable "port" { default = "north" }
target "t" { websocket = "ws://127.0.0.1:1/" }
session "s" {
  connect { path = "/${var.port}" }
}
crew "c" {
  clients = var.boats
  session = session.s
}
tide {
  flood "100%" { over = "1s" }
}
`
	if err := os.WriteFile(path, []byte(source), 0o666); err != nil {
		t.Fatal(err)
	}
	for _, tc := range []struct {
		args   []string
		status int
		says   string
	}{
		{nil, exitHolds, "3 clients"}, {[]string{"--set", "boats=40", "--set", "port=a;b=c"}, exitHolds, "40 clients"},
		{[]string{"--set", "boat=4"}, exitWrong, `did you mean "boats"?`},
		{[]string{"--set", "boats=x"}, exitWrong, "it is a number"},
		{[]string{"--set", "boats=0"}, exitWrong, "from 1 to"},
	} {
		out, status := outcome(t, tool(t, append([]string{"check", path}, tc.args...)...))
		if status != tc.status || !strings.Contains(out, tc.says) {
			t.Errorf("%v: status %d\n%s", tc.args, status, out)
		}
	}
}
