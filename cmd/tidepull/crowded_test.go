package main

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"
	"unsafe"
)

// crowdedTrial is a healthy trial of 200 clients that takes 20 s. They say two messages at a time, so
// that some may be reordered (of two, the first).
const crowdedTrial = `
trial "crowded" { seed = 7 }

target "board" {
  websocket = "ws://127.0.0.1:7411/live"

  promise {
    every    = "2s"
    deadline = "3s"
  }
}

session "watch" {
  connect {}
  enter { room = "lock-${n % 8}" }

  repeat {
    every  = "4s"
    jitter = "20%"
    burst  = 2
    say { body = { kind = "notice", room = room, text = "gate turning ${mark}" } }
  }

  leave {}
}

crew "pilots" {
  clients = 200
  session = session.watch
}

tide {
  flood "100%" { over = "3s" }
  slack { lasts = "15s" }
  ebb { over = "2s" }
}

limit "the board is prompt" {
  of    = fanout.p99
  below = "500ms"
}
`

// A neighbourhood is what else the machine does: busy loops of the same priority, or one that
// takes all cores for 300 ms of each second.
type neighbourhood struct {
	name  string
	loops int
	// least is how many runs of 30 hold against a healthy server, and wrong how many are broken
	// against faulty ones, at least.
	least, wrong int
}

var neighbourhoods = []neighbourhood{
	{"nothing", 0, 30, 29}, {"4 busy loops", 4, 29, 28}, {"8 busy loops", 8, 27, 25},
	{"16 busy loops", 16, 24, 20}, {"all cores taken 300 ms a second", -1, 24, 20},
}

// faults are what the faulty servers do, in turn.
var faults = []struct{ name, flag string }{
	{"lose 1 in 1,000", "--lose=0.001"}, {"double 1 in 1,000", "--double=0.001"},
	{"reorder 1 in 100", "--wrong=reorder=0.02"}, {"stall 900 ms each 20 s", "--wrong=standstill=900ms"},
	{"evict 1 in 20 of the healthy", "--wrong=hasty=0.05"},
}

// atOnce is how many trials run at the same time, each against a server of its own: the
// machine is busier for it, never calmer.
const atOnce = 5

// TestCrowded runs a healthy trial, and the same against faulty servers, beside busy
// neighbours. CROWDED is how often each; make soak does it 30 times, and writes what came of it
// into docs/verdict.md.
func TestCrowded(t *testing.T) {
	runs, err := strconv.Atoi(os.Getenv("CROWDED"))
	if err != nil {
		t.Skip("make soak runs it")
	}
	path := filepath.Join(t.TempDir(), "crowded.trial.hcl")
	if err := os.WriteFile(path, []byte(crowdedTrial), 0o600); err != nil {
		t.Fatal(err)
	}
	table := "| beside | healthy: holds | not proven | broken | faulty: broken | not proven | holds |\n" +
		"| --- | --- | --- | --- | --- | --- | --- |\n"
	var missed []string
	for _, n := range neighbourhoods {
		if only := os.Getenv("CROWDED_ONLY"); only != "" && !strings.Contains(n.name, only) {
			continue
		}
		end := n.begin(t)
		healthy, whys := crowdedRuns(t, path, runs, func(int) string { return "" })
		faulty, more := crowdedRuns(t, path, runs, func(i int) string { return faults[i%len(faults)].flag })
		end()
		table += fmt.Sprintf("| %s | %d of %d | %d | %d | %d of %d | %d | %d |\n", n.name, healthy[exitHolds], runs,
			healthy[exitNotProven], healthy[exitBroken], faulty[exitBroken], runs, faulty[exitNotProven],
			faulty[exitHolds])
		missed = append(missed, append(whys, more...)...)
		t.Logf("beside %s: healthy %v, faulty %v", n.name, healthy, faulty)
		if healthy[exitBroken] > 0 || faulty[exitHolds] > 0 || healthy[exitHolds]*30 < n.least*runs ||
			faulty[exitBroken]*30 < n.wrong*runs {
			t.Errorf("beside %s: healthy %v, faulty %v\n%s", n.name, healthy, faulty,
				strings.Join(append(whys, more...), "\n"))
		}
	}
	t.Logf("not as it is in truth:\n%s", strings.Join(missed, "\n"))
	if os.Getenv("CROWDED_WRITE") != "" {
		writeCrowded(t, table, missed)
	}
}

// crowdedRuns runs the trial against servers with a flag each, and counts the exit statuses. It
// returns why runs did not end as the server deserved.
func crowdedRuns(t *testing.T, trial string, runs int, flag func(int) string) (statuses map[int]int, whys []string) {
	statuses = map[int]int{}
	var mu sync.Mutex
	t.Run("runs", func(t *testing.T) {
		slots := make(chan struct{}, atOnce)
		var all sync.WaitGroup
		for i := range runs {
			slots <- struct{}{}
			args := []string{"--ping-every=2s", "--pong-within=3s", fmt.Sprintf("--switch-seed=%d", i+1)}
			want, name := exitHolds, "healthy"
			if f := flag(i); f != "" {
				args, want, name = append(args, f), exitBroken, f
			}
			url := serveBoard(t, args...)
			cmd := tool(t, "run", trial, "--headless", "--target", url)
			all.Go(func() {
				defer func() { <-slots }()
				text, _ := cmd.CombinedOutput()
				status := cmd.ProcessState.ExitCode()
				mu.Lock()
				defer mu.Unlock()
				if statuses[status]++; status != want {
					_, verdict, _ := strings.Cut(string(text), "\nverdict: ")
					verdict, _, _ = strings.Cut(verdict, "\n")
					whys = append(whys, name+": "+verdict)
				}
			})
		}
		all.Wait()
	})
	slices.Sort(whys)
	return statuses, whys
}

// begin begins what else the machine does, until the function that it returns is called.
func (n *neighbourhood) begin(t *testing.T) (end func()) {
	var all []*exec.Cmd
	for range n.loops {
		all = append(all, exec.Command("sh", "-c", "while :; do :; done"))
	}
	if n.loops < 0 {
		all = append(all, exec.Command(os.Args[0]))
		all[0].Env = append(os.Environ(), "TIDEPULL_BE_STUTTERING=1")
	}
	for _, c := range all {
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
	}
	return func() {
		for _, c := range all {
			c.Process.Kill()
			c.Wait()
		}
	}
}

// stutter takes all cores for 300 ms of each second, for ever: with the priority of what must
// not wait where the system allows it, with many threads otherwise.
func stutter() {
	const fifo = 1 // SCHED_FIFO, sched(7)
	threads := runtime.NumCPU()
	if _, _, no := syscall.RawSyscall(syscall.SYS_SCHED_SETSCHEDULER, 0, fifo,
		uintptr(unsafe.Pointer(&struct{ priority int32 }{1}))); no != 0 {
		threads *= 16
	}
	runtime.GOMAXPROCS(threads)
	for range threads {
		go func() {
			runtime.LockOSThread()
			syscall.RawSyscall(syscall.SYS_SCHED_SETSCHEDULER, 0, fifo,
				uintptr(unsafe.Pointer(&struct{ priority int32 }{1})))
			for {
				next := time.Now().Truncate(time.Second).Add(time.Second)
				time.Sleep(time.Until(next))
				for time.Since(next) < 300*time.Millisecond {
				}
			}
		}()
	}
	select {}
}

// writeCrowded puts the table into docs/verdict.md, between its marks.
func writeCrowded(t *testing.T, table string, missed []string) {
	const page = "../../docs/verdict.md"
	b, err := os.ReadFile(page)
	if err != nil {
		t.Fatal(err)
	}
	between := regexp.MustCompile(`(?s)(<!-- crowded -->\n).*(<!-- end -->)`)
	number := regexp.MustCompile(`[0-9][0-9,.]*`)
	shapes, counts := []string{}, map[string]int{}
	for _, m := range missed {
		shape := number.ReplaceAllString(m, "N")
		if counts[shape]++; counts[shape] == 1 {
			shapes = append(shapes, m)
		}
	}
	text := table
	if len(shapes) > 0 {
		text += "\nThe runs that did not end as their server deserved, one of each kind:\n\n"
		for _, s := range shapes {
			text += fmt.Sprintf("- %d x %s\n", counts[number.ReplaceAllString(s, "N")], s)
		}
	}
	b = between.ReplaceAll(b, bytes.Join([][]byte{[]byte("${1}\n"), []byte(strings.ReplaceAll(text, "$", "$$")),
		[]byte("\n${2}")}, nil))
	if err := os.WriteFile(page, b, 0o644); err != nil {
		t.Fatal(err)
	}
}
