package tui_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"
)

// A screen is the real program in a real terminal: a tmux server of its own.
type screen struct {
	t      *testing.T
	socket string
}

var binary string

func TestMain(m *testing.M) {
	if binary = os.Getenv("TIDEPULL_BINARY"); binary != "" {
		os.Exit(m.Run())
	}
	dir, err := os.MkdirTemp("", "tidepull")
	if err != nil {
		panic(err)
	}
	binary = filepath.Join(dir, "tidepull")
	if out, err := exec.Command("go", "build", "-o", binary, "tidepull/cmd/tidepull").CombinedOutput(); err != nil {
		panic(string(out))
	}
	status := m.Run()
	os.RemoveAll(dir)
	os.Exit(status)
}

func open(t *testing.T, width, height int, command string) *screen {
	t.Helper()
	if _, err := exec.LookPath("tmux"); err != nil {
		t.Skip("tmux is not installed; make test installs it")
	}
	s := &screen{t, filepath.Join(t.TempDir(), "tmux")}
	home := t.TempDir()
	t.Cleanup(func() { exec.Command("tmux", "-S", s.socket, "kill-server").Run() })
	s.tmux("-f", "/dev/null", "new-session", "-d", "-s", "s", "-x", strconv.Itoa(width), "-y", strconv.Itoa(height),
		"XDG_STATE_HOME="+home+" XDG_DATA_HOME="+home+" "+command+"; echo status $?; sleep 60")
	return s
}

func (s *screen) tmux(args ...string) string {
	s.t.Helper()
	out, err := exec.Command("tmux", append([]string{"-S", s.socket}, args...)...).CombinedOutput()
	if err != nil {
		s.t.Fatalf("tmux %v: %v\n%s", args, err, out)
	}
	return string(out)
}

func (s *screen) keys(names ...string) {
	s.tmux(append([]string{"send-keys", "-t", "s"}, names...)...)
}

func (s *screen) look() string { return s.tmux("capture-pane", "-p", "-t", "s") }

// until waits until the screen matches, and returns what the pattern's groups
// match.
func (s *screen) until(pattern string, within time.Duration) []string {
	s.t.Helper()
	re := regexp.MustCompile(pattern)
	for end := time.Now().Add(within); ; time.Sleep(100 * time.Millisecond) {
		text := s.look()
		if m := re.FindStringSubmatch(text); m != nil {
			return m
		}
		if time.Now().After(end) {
			s.t.Fatalf("the screen does not show %q within %v:\n%s", pattern, within, text)
		}
	}
}

func number(t *testing.T, s string) int {
	t.Helper()
	n, err := strconv.Atoi(strings.ReplaceAll(s, ",", ""))
	if err != nil {
		t.Fatal(err)
	}
	return n
}

// TestWatch starts the demo at both sizes, sees the clients rise and the ledger
// fill, opens the explanation, resizes, and lets the tide fall.
func TestWatch(t *testing.T) {
	t.Parallel()
	for _, size := range [][2]int{{160, 47}, {80, 24}} {
		s := open(t, size[0], size[1], binary+" demo --lose 0.01")
		first := number(t, s.until(`planned +\S+ +open +([1-9][\d,]*)`, 20*time.Second)[1])
		for end := time.Now().Add(20 * time.Second); number(t,
			s.until(`open +([\d,]+)`, time.Second)[1]) < first+20; time.Sleep(200 * time.Millisecond) {
			if time.Now().After(end) {
				t.Fatalf("the clients do not rise past %d:\n%s", first, s.look())
			}
		}
		s.until(`owed \.+ +[1-9][\d,]* +[1-9]`, 30*time.Second)
		s.until(`lost \.+ +\d+ +[1-9]`, 40*time.Second)
		s.until(`▲ adds up`, 5*time.Second)
		s.until(`■ \d+ lost`, 5*time.Second)
		for i, line := range strings.Split(strings.TrimRight(s.look(), "\n"), "\n") {
			if n := len([]rune(line)); n > size[0] {
				t.Errorf("line %d has %d characters", i, n)
			}
		}
		s.keys("?")
		s.until(`Watch answers: is it going well, right now\?`, 5*time.Second)
		s.keys("Escape")
		s.until(`── tide`, 5*time.Second)
		s.tmux("resize-window", "-t", "s", "-x", "120", "-y", "30")
		s.until(`── ledger .*── latency .*── traffic`, 5*time.Second)
		s.tmux("resize-window", "-t", "s", "-x", "50", "-y", "10")
		s.until(`needs 60 x 18`, 5*time.Second)
		s.tmux("resize-window", "-t", "s", "-x", strconv.Itoa(size[0]), "-y", strconv.Itoa(size[1]))
		s.keys("2")
		s.until(`── share reached`, 5*time.Second)
		s.until(`── room size`, 5*time.Second)
		s.keys("1")
		s.until(`(?m)── how soon|^lost [1-9]`, 5*time.Second)
		s.keys("q")
		s.until(`q again ends it at once`, 5*time.Second)
		s.keys("s")
		s.until(`tide, over after`, 30*time.Second)
		s.until(`verdict: `+lossy, 5*time.Second)
		s.keys("q")
		s.until(`limit "nothing is lost": wanted ledger.lost equals 0, got [1-9]\d*( \([^)]*\))?:\s+`+
			`(broken|not proven)`, 10*time.Second)
		s.until(`status [13]`, 5*time.Second)
	}
}

// TestInterrupt: ctrl-c once stops in order; the summary is written.
func TestInterrupt(t *testing.T) {
	t.Parallel()
	out := t.TempDir()
	s := open(t, 100, 30, binary+" demo --out "+out)
	s.until(`open +[1-9]`, 20*time.Second)
	s.keys("C-c")
	s.until(`tide, over after`, 30*time.Second)
	s.keys("C-c")
	s.until(`the run was cut short`, 10*time.Second)
	if b, err := os.ReadFile(filepath.Join(out, "summary.json")); err != nil ||
		!strings.Contains(string(b), `"cut_short": true`) {
		t.Errorf("summary: %v\n%s", err, b)
	}
}

// TestHostileServer runs against a server whose text is full of escape
// sequences: they are shown, not obeyed.
func TestHostileServer(t *testing.T) {
	trial := filepath.Join(t.TempDir(), "evil.trial.hcl")
	source := "trial \"a\\u001b[2Jb\" {}\n" +
		"target \"b\" { websocket = \"ws://127.0.0.1:9/\" }\n" +
		"session \"s\" {\n  connect {}\n}\ncrew \"c\" {\n  clients = 3\n  session = session.s\n}\ntide {\n  flood " +
		"\"100%\" { over = \"1s\" }\n  slack { lasts = \"20s\" }\n}\n"
	if err := os.WriteFile(trial, []byte(source), 0o666); err != nil {
		t.Fatal(err)
	}
	s := open(t, 100, 30, binary+" run "+trial)
	s.until(`a␛\[2Jb`, 20*time.Second)
	s.until(`ended early`, 10*time.Second)
	s.until(`no connection to 127.0.0.1:9 could be opened: refused: connect`, 5*time.Second)
	s.keys("q")
	s.until(`no connection to 127.0.0.1:9 could be opened`, 10*time.Second)
	s.until(`status 4`, 5*time.Second)
}

// lossy is what the verdict on a run that lost something says. Losses in seconds
// in which this machine was too busy prove nothing.
const lossy = `(■ broken|╳ not proven|broken|not proven)`

// TestLookInto keeps a lossy run, goes down from the balance sheet to one lost
// message and the client that missed it, exports, and finds the run again from
// the home screen.
func TestLookInto(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	in := "cd " + dir + " && " + binary + " --store " + filepath.Join(dir, "runs.db")
	s := open(t, 160, 47, in+" demo --lose 0.02")
	s.until(`lost \.+ +\d+ +[1-9]\d`, 60*time.Second)
	s.keys("s")
	s.until(`tide, over after`, 30*time.Second)
	s.keys("3")
	s.until(`── ledger by room .* whole run`, 5*time.Second)
	s.until(`▲ adds up`, 5*time.Second)
	s.keys("n")
	s.until(`── ledger by room .* \d:\d\d-\d:\d\d`, 5*time.Second)
	s.until(`├.*┤`, 5*time.Second)
	first := s.until(`sum +([\d,]+)`, 5*time.Second)[1]
	s.keys("+", "+", "+", "+", "Right")
	for end := time.Now().Add(5 * time.Second); number(t, s.until(`sum +([\d,]+)`, time.Second)[1]) <= number(t,
		first); {
		if time.Now().After(end) {
			t.Fatalf("a wider window says no more:\n%s", s.look())
		}
	}
	s.keys("w")
	s.until(`── ledger by room .* whole run`, 5*time.Second)
	s.keys("b")
	s.until(`── ledger by crew`, 5*time.Second)
	s.keys("b", "b", "Down", "Enter")
	room := s.until(`── room (lock-\d)`, 5*time.Second)[1]
	row := s.until(`▸ +\d:\d\d\.\d+ +■ message (\d+) by (\S+) in `+room+`, owed to \d+: lost at ([a-z]+-\d+)`,
		5*time.Second)
	s.keys("Enter")
	s.until(`── message `+row[1], 5*time.Second)
	s.until(`a notice, the \S+ of its sender's connection, by `+row[2]+` in `+room, 5*time.Second)
	s.until(row[3]+` +lost +was a member when it was said`, 5*time.Second)
	s.keys("Enter")
	s.until(`── client `+row[3], 5*time.Second)
	s.until(`has sent [\d,]+ messages and received [1-9][\d,]* marked ones`, 5*time.Second)
	s.until(`set out`, 5*time.Second)
	s.until(`entered `+room, 5*time.Second)
	s.until(`message `+row[1]+` +from \S+ in lock-\d +lost`, 5*time.Second)
	for _, above := range []string{"message " + row[1], "room " + room, "ledger by room"} {
		s.keys("Escape")
		s.until(`── `+above, 5*time.Second)
	}
	s.keys("e")
	s.until(`written: tidepull-\S+-ledger`, 10*time.Second)
	if files, _ := filepath.Glob(filepath.Join(dir, "tidepull-*-ledger.*")); len(files) != 3 {
		t.Errorf("exported: %v", files)
	}
	sum := s.until(`sum +(\S+ +\S+ +\S+ +\S+ +\S+)`, 5*time.Second)[1]
	s.keys("q")
	s.until(`kept as run 1`, 10*time.Second)

	s = open(t, 160, 47, in)
	s.until(`1  morning tide .*`+lossy, 10*time.Second)
	s.keys("Down", "r")
	s.until(`name:`, 5*time.Second)
	s.keys("before the change", "Enter")
	s.until(`▸ +1  before the change`, 5*time.Second)
	s.keys("Enter")
	s.until(`── tide, over`, 10*time.Second)
	s.keys("3")
	s.until(`── ledger by room`, 10*time.Second)
	if again := s.until(`sum +(\S+ +\S+ +\S+ +\S+ +\S+)`, 5*time.Second)[1]; again != sum {
		t.Errorf("live the sum was %q, from the store it is %q", sum, again)
	}
	s.keys("q")
	s.until(`── runs`, 5*time.Second)
	s.keys("Down", "d")
	s.until(`d again deletes run 1`, 5*time.Second)
	s.keys("d")
	s.until(`run 1 is deleted`, 5*time.Second)
	s.keys("q")
	s.until(`status 0`, 5*time.Second)
}
