package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestCompare: a trial is carried out over each of its routes, and what each took stands
// side by side, as text, drawing and table.
func TestCompare(t *testing.T) {
	t.Parallel()
	board, dir := serveBoard(t), t.TempDir()
	host := strings.TrimSuffix(strings.TrimPrefix(board, "ws://"), "/live")
	path := filepath.Join(dir, "two.trial.hcl")
	trial := fmt.Sprintf(`trial "two" {}
target "board" {
  websocket = "ws://%s/live?client=${name}"
  route "each second" {
    polling  = "http://%s/poll?client=${name}&wait=0"
    every    = "1s"
    post_end = true
  }
}
session "watch" {
  connect {}
  enter { room = "lock-1" }
  repeat {
    every = "500ms"
    say { body = { kind = "notice", room = room, text = mark } }
  }
}
crew "pilots" {
  clients = 8
  session = session.watch
}
tide {
  flood "100%%" { over = "200ms" }
  slack { lasts = "4s" }
  ebb { over = "200ms" }
}
`, host, host)
	if err := os.WriteFile(path, []byte(trial), 0o666); err != nil {
		t.Fatal(err)
	}
	out := filepath.Join(dir, "out")
	text, status := outcome(t, tool(t, "compare", path, "--out", out, "--server-pid", fmt.Sprint(os.Getpid())))
	if status != exitHolds && !byTheMachine(text) || !strings.Contains(text, "each second (asking)") ||
		!strings.Contains(text, "requests a delivery") || !strings.Contains(text, "server's CPU a delivery") {
		t.Errorf("status %d\n%s", status, text)
	}
	csv, err := os.ReadFile(filepath.Join(out, "comparison.csv"))
	if err != nil {
		t.Fatal(err)
	}
	figures := map[string][]float64{}
	for _, line := range strings.Split(string(csv), "\n")[2:] {
		cells := strings.Split(strings.Replace(strings.Replace(line, `"`, "", 2), ", ", " ", 1), ",")
		var a, b float64
		if len(cells) == 3 {
			fmt.Sscan(cells[1], &a)
			fmt.Sscan(cells[2], &b)
			figures[cells[0]] = []float64{a, b}
		}
	}
	// Who asks once a second waits for half of it, at the median, and asks a lot.
	last, asked := figures["last recipient p50"], figures["HTTP requests"]
	if len(last) != 2 || len(asked) != 2 || last[1] < 300e3 || last[1] < last[0] || asked[0] != 8 || asked[1] < 30 ||
		figures["lost"][1] != 0 {
		t.Errorf("%v", figures)
	}
	for _, name := range []string{"comparison.svg", "comparison.pdf"} {
		if info, err := os.Stat(filepath.Join(out, name)); err != nil || info.Size() < 1000 {
			t.Errorf("%s: %v", name, err)
		}
	}
	if text, status := outcome(t, tool(t, "compare", harbour(t, "pilot-${n}", "", "200ms", ""))); status != exitWrong ||
		!strings.Contains(text, "the target has one route") {
		t.Errorf("status %d\n%s", status, text)
	}
}
