package main

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"testing"
	"time"

	"tidepull/internal/testkit/rude"
)

const (
	// The run of rudeTrial may take its tide and grace time, and ten seconds.
	rudeMost = 2*time.Second + 10*time.Second
	// rudeRSS is what the tool may take at most, in KiB: the heap limit of 1 GiB
	// (main.go). Its bounds are 128 MiB of messages in part and 128 MiB to be sent;
	// before it is collected the heap grows to three times what lives.
	rudeRSS = 1 << 20
)

func rudeTrial(t *testing.T) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "rude.trial.hcl")
	source := `trial "rude" {
  grace = "500ms"
}
target "board" { websocket = "ws://127.0.0.1:1/live" }
session "watch" {
  connect { within = "1s" }
  enter {
    room   = "lock-1"
    within = "1s"
  }
  repeat {
    every = "300ms"
    say { body = { kind = "notice", room = room, text = "turning ${mark}" } }
  }
}
crew "pilots" {
  clients = 50
  session = session.watch
}
tide {
  flood "100%" { over = "200ms" }
  slack { lasts = "1s" }
  ebb { over = "300ms" }
}
`
	if err := os.WriteFile(path, []byte(source), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

// TestRudeServers runs the tool against every rude server over real sockets: it
// ends in time, its memory is bounded, and it exits as it promises. With the
// portable driver it does too.
func TestRudeServers(t *testing.T) {
	t.Parallel()
	trial := rudeTrial(t)
	for _, server := range rude.Servers {
		for _, portable := range []bool{false, true} {
			if portable && !(floods[server.Name] && (thorough() || server.Name == "pings and never reads")) {
				continue
			}
			name := server.Name
			if portable {
				name += ", portable"
			}
			server := server
			t.Run(name, func(t *testing.T) {
				t.Parallel()
				url, stop, err := server.Listen()
				if err != nil {
					t.Fatal(err)
				}
				defer stop()
				args := []string{"run", trial, "--headless", "--target", url}
				if portable {
					args = append(args, "--portable")
				}
				text, status, took, rss := bounded(t, tool(t, args...), 0, nil)
				if took > rudeMost {
					t.Errorf("it took %v", took)
				}
				if rss > rudeRSS {
					t.Errorf("it took %d MiB", rss>>10)
				}
				if server.Name == "decent" && status != 0 && !(status == 3 && byTheMachine(text)) || status == 2 ||
					status < 0 || !strings.Contains(text, "verdict: ") {
					t.Errorf("status %d\n%s", status, text)
				}
				if strings.HasPrefix(server.Name, "pings") && !strings.Contains(text, " pings a second, to ") {
					t.Errorf("nothing is said of the pings:\n%s", text)
				}
				t.Logf("status %d after %v, %d MiB", status, took.Round(100*time.Millisecond), rss>>10)
			})
		}
	}
}

// thorough reports whether there is time for all combinations (make soak): each flood takes a core for seconds.
func thorough() bool { return os.Getenv("SOAK") != "" }

// floods are the servers that send or make send without end.
var floods = map[string]bool{"pings and never reads": true, "endless fragments": true, "half a frame": true,
	"never lets go": true, "closes for ever": true}

// TestRudeStop: a request to end ends a run whatever the server does. By how many
// seconds exactly is tested in virtual time (run.TestRude); here eleven tools and
// servers share the machine with other tests.
func TestRudeStop(t *testing.T) {
	t.Parallel()
	trial := rudeTrial(t)
	long, err := os.ReadFile(trial)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(trial, bytes.Replace(long, []byte(`"1s" }`), []byte(`"10m" }`), 1), 0o600); err != nil {
		t.Fatal(err)
	}
	for i, server := range rude.Servers {
		if !floods[server.Name] && server.Name != "silent" {
			continue
		}
		for _, times := range []int{1, 2} {
			if server.Name != "silent" && times == i%2+1 && !thorough() {
				continue
			}
			server := server
			t.Run(server.Name, func(t *testing.T) {
				t.Parallel()
				url, stop, err := server.Listen()
				if err != nil {
					t.Fatal(err)
				}
				defer stop()
				var asked time.Time
				text, status, _, _ := bounded(t, tool(t, "run", trial, "--headless", "--target", url),
					1500*time.Millisecond, func(p *os.Process) {
						asked = time.Now()
						for range times {
							p.Signal(syscall.SIGTERM)
							time.Sleep(50 * time.Millisecond)
						}
					})
				const most = 8 * time.Second
				if took := time.Since(asked); took > most {
					t.Errorf("asked %d times it took %v to end, status %d\n%s", times, took, status, text)
				}
			})
		}
	}
}

// bounded runs a command, does something to it after a while, and returns what
// it printed, its status, how long it took and the most memory that it had, in
// KiB. One that hangs is killed.
func bounded(t *testing.T, cmd *exec.Cmd, after time.Duration, do func(*os.Process)) (text string, status int,
	took time.Duration, rss int64) {
	t.Helper()
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	began := time.Now()
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	hung := time.AfterFunc(60*time.Second, func() { cmd.Process.Kill() })
	defer hung.Stop()
	if do != nil {
		time.Sleep(after)
		do(cmd.Process)
	}
	cmd.Wait()
	took = time.Since(began)
	if u, ok := cmd.ProcessState.SysUsage().(*syscall.Rusage); ok && runtime.GOOS == "linux" {
		rss = u.Maxrss
	}
	return out.String(), cmd.ProcessState.ExitCode(), took, rss
}
