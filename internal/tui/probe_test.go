package tui_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tidepull/internal/standin"
	"tidepull/internal/trial/language"
)

func startStandin(t *testing.T, cfg standin.Config) *standin.Server {
	t.Helper()
	s, err := standin.Start(cfg)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Stop() })
	return s
}

// line types a text and sends it.
func (s *screen) line(text string) {
	s.tmux("send-keys", "-t", "s", "-l", text)
	s.keys("Enter")
}

// escape gives up what is typed; keys that follow at once would be taken for a
// sequence.
func (s *screen) escape() {
	s.t.Helper()
	s.keys("Escape")
	s.until(`send type a message`, 5*time.Second)
}

// TestProbe drives two clients by hand: what one says the other gets, a refusal
// is explained, what is typed comes back, and what was done is kept as a session
// that runs.
func TestProbe(t *testing.T) {
	t.Parallel()
	server := startStandin(t, standin.Config{Origins: []string{"http://harbour.example"}, Notices: true})
	dir := t.TempDir()
	s := open(t, 160, 47, "cd "+dir+"; "+binary+" probe "+server.URL()+" --origin http://elsewhere.example")
	s.until(`REFUSED: the upgrade was refused: answered 403`, 10*time.Second)
	s.until(`try: another origin: http://elsewhere.example may be`, 5*time.Second)
	s.line(`{"kind":"name","name":"Alder"}`)
	s.until(`NOT SENT: the connection was refused`, 5*time.Second)
	s.escape()
	s.keys("C-o", "C-u")
	s.line(`http://harbour.example`)
	s.until(`name lookup +[·▄]{14} +[\d.]+ (us|ms)`, 5*time.Second)
	s.until(`▲ open`, 5*time.Second)
	s.until(`answered: 101 Switching Protocols`, 5*time.Second)
	s.until(`<- text +42 B +\{"kind":"welcome"`, 5*time.Second)
	s.line(`{"kind":"name","name":"Alder"}`)
	s.until(`-> text +30 B`, 5*time.Second)
	s.line(`{"kind":"enter","room":"lock-3"}`)
	s.until(`"kind":"entered"`, 5*time.Second)
	s.keys("C-p")
	s.until(`<- pong, round trip [\d.]+ (us|ms)`, 5*time.Second)
	s.keys("C-n")
	s.until(`▸ client 2.*▲ open`, 5*time.Second)
	s.line(`{"kind":"name","name":"Birch"}`)
	s.until(`31 B +\{"kind":"named"`, 5*time.Second)
	s.line(`{"kind":"enter","room":"lock-3"}`)
	s.until(`\{"kind":"joined"`, 5*time.Second)
	s.line("{\"kind\":\"notice\",\"room\":\"lock-3\",\"text\":\"bell \\\\u0007 \\\\u001b[31m\"}")
	s.until(`<- text .*"kind":"notice"[\s\S]*<- text .*"kind":"notice"|<- text .*notice.*<- text .*notice`,
		5*time.Second)
	s.keys("Tab", "C-d")
	s.until(`(?m)^ +"room": "lock-3",`, 5*time.Second)
	s.keys("C-d", "C-b")
	s.line("00 ff")
	s.until(`<- binary +2 B +00 ff`, 5*time.Second)
	s.keys("Up", "Up")
	s.until(`send \{"kind":"enter","room":"lock-3"\}|send \{"kind":"notice"`, 5*time.Second)
	s.escape()
	s.keys("C-x")
	s.line("4001")
	s.until(`-> close 4001, a code of the application's own`, 5*time.Second)
	s.until(`closed by you`, 5*time.Second)
	s.line("too late")
	s.until(`NOT SENT: the connection is closed`, 5*time.Second)
	s.escape()
	s.keys("C-s")
	name := s.until(`written: (probe-[\d-]+\.trial\.hcl)`, 5*time.Second)[1]
	s.tmux("resize-window", "-t", "s", "-x", "80", "-y", "24")
	s.until(`client 1`, 5*time.Second)
	s.keys("Escape")
	s.until(`status 0`, 5*time.Second)

	path := filepath.Join(dir, name)
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	for _, part := range []string{`"Origin" = "http://harbour.example"`, `body = { kind = "enter", room = "lock-3" }`,
		`hex = "00ff"`, `when = msg.kind == "welcome"`, `"Alder" becomes name`} {
		if !strings.Contains(strings.Join(strings.Fields(string(text)), " "), part) {
			t.Errorf("there is no %s in\n%s", part, text)
		}
	}
	if _, err := language.Load(path, language.Options{}); err != nil {
		t.Errorf("%v\n%s", err, text)
	}
	out, err := exec.Command(binary, "--store", "-", "run", path, "--headless").CombinedOutput()
	if err != nil && !strings.Contains(string(out), "not proven") {
		t.Errorf("the kept session does not run: %v\n%s\n%s", err, out, text)
	}
}

// TestProbeFromHome opens the probe from the home screen, and comes back.
func TestProbeFromHome(t *testing.T) {
	t.Parallel()
	server := startStandin(t, standin.Config{})
	s := open(t, 80, 24, binary)
	s.until(`p the probe: one to three clients`, 10*time.Second)
	s.keys("p")
	s.until(`address to probe: ws://127\.0\.0\.1:7411/live`, 5*time.Second)
	s.keys("C-u")
	s.line("nowhere")
	s.until(`one is ws://127.0.0.1`, 5*time.Second)
	s.keys("C-u")
	s.line(server.URL())
	s.until(`▲ open`, 10*time.Second)
	s.keys("?")
	s.until(`Probe answers: what does the server say to one client\?`, 5*time.Second)
	s.keys("Escape")
	s.until(`<- text +42 B`, 5*time.Second)
	s.keys("Escape")
	s.until(`── the demo`, 5*time.Second)
	s.keys("q")
	s.until(`status 0`, 5*time.Second)
}
