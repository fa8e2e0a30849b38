package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// TestMany: more clients than one process may have files for, over several servers and several workers, exact to the
// message. MANY is how many; make soak has 60,000.
func TestMany(t *testing.T) {
	clients, err := strconv.Atoi(os.Getenv("MANY"))
	if err != nil {
		t.Skip("make soak runs it")
	}
	const each, inRoom = 16000, 100
	var urls []string
	for i := range (clients + each - 1) / each {
		lose := "--lose=0"
		if i == 0 {
			lose = "--lose=0.001"
		}
		urls = append(urls, serveBoard(t, "--ping-every=1h", "--records=-1", "--history=-1", lose))
	}
	dir := t.TempDir()
	file := filepath.Join(dir, "many.trial.hcl")
	seconds := clients / 1500
	source := fmt.Sprintf(`trial "many" { grace = "20s" }
target "boards" { nodes = ["%s"] }
session "listen" {
  connect { within = "20s" }
  enter {
    room   = "basin-${node}-${floor(n / %d)}"
    within = "20s"
  }
  pause { lasts = "1s" }
  when {
    that = floor(n / %d) %% %d == 0
    repeat {
      every = "10s"
      times = 3 # so that nothing is under way when they close
      say { body = { kind = "notice", room = room, text = "level ${round} ${mark}" } }
    }
  }
  pause { lasts = "1h" }
}
crew "boats" {
  clients = %d
  session = session.listen
}
tide {
  flood "100%%" { over = "%ds" }
  slack { lasts = "40s" }
}
`, strings.Join(urls, `", "`), len(urls)*inRoom, len(urls), inRoom, clients, seconds)
	if err := os.WriteFile(file, []byte(source), 0o600); err != nil {
		t.Fatal(err)
	}
	text, _ := outcome(t, tool(t, "run", file, "--headless", "--out", dir))
	sum := summaryOf(t, filepath.Join(dir, "summary.json"))
	var written, lost int
	for _, url := range urls {
		truth := truthOf(t, url)
		written, lost = written+truth.Totals.Written, lost+truth.Totals.Lost
	}
	l := sum.Ledger
	t.Logf("%d clients in %d workers on %d servers: %d messages, %d owed, %d delivered, %d late, %d lost, %d excused, "+
		"%d allowed; the servers wrote %d and left out %d; connections %+v; %s", sum.Clients, sum.Processes.Workers,
		len(urls), sum.Messages.Sent, l.Owed, l.Delivered, l.Late, l.Lost, l.Excused, l.Allowed, written, lost,
		sum.Connections, sum.Why)
	if int(l.Delivered+l.Late+l.Allowed) != written || l.Lost != int64(lost) || l.Stray+l.Duplicate != 0 || lost == 0 {
		t.Errorf("the ledger is not the truth\n%s", text)
	}
	t.Log(text[strings.Index(text, "\nafter "):])
}
