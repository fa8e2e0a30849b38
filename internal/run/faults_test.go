package run

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"testing"
	"time"

	"tidepull/internal/standin"
	"tidepull/internal/testkit/port"
	"tidepull/internal/trial/language"
)

// TestServerProcess is no test: it is the server of TestFaults, in a process of its own.
func TestServerProcess(t *testing.T) {
	at := os.Getenv("TIDEPULL_SERVES_AT")
	if at == "" {
		t.Skip("it is started by TestFaults")
	}
	s, err := standin.Start(standin.Config{Listen: netip.MustParseAddrPort(at), Presence: time.Hour})
	if err != nil {
		t.Fatal(err)
	}
	fmt.Println("serving")
	asked := make(chan os.Signal, 1)
	signal.Notify(asked, syscall.SIGTERM)
	select {
	case <-asked:
		s.Stop()
	case <-time.After(time.Minute): // whoever started it is gone
	}
	os.Exit(0)
}

const faulty = `
trial "faults" { grace = "2s" }
target "board" { websocket = "ws://ADDRESS/live" }
server {
  command = ["env", "TIDEPULL_SERVES_AT=ADDRESS", "SELF", "-test.run=^TestServerProcess$"]
  ready   = "serving"
}
session "watch" {
  connect {}
  enter { room = "lock-${n % 4}" }
  repeat {
    every = "500ms"
    say { body = { kind = "notice", room = room, text = mark } }
  }
}
crew "pilots" {
  clients = 40
  session = session.watch
  reconnect {
    first = "100ms"
    most  = "400ms"
  }
}
tide {
  flood "100%" { over = "500ms" }
  slack { lasts = "13s" }
  ebb { over = "500ms" }
}
fault "asked to end" {
  do    = "restart"
  at    = "1500ms"
  lasts = "700ms"
}
fault "killed" {
  do    = "restart"
  rude  = true
  at    = "4s"
  lasts = "700ms"
}
fault "standing still" {
  do    = "pause"
  at    = "6500ms"
  lasts = "500ms"
}
fault "cut" {
  do    = "cut"
  at    = "8500ms"
  lasts = "300ms"
  share = "25%"
}
`

// served gives the trial with the address of its server, and the server's command: the tool's
// stand-in, if it is built, or this test.
func served(source, address string) string {
	command := `["env", "TIDEPULL_SERVES_AT=ADDRESS", "SELF", "-test.run=^TestServerProcess$"]`
	if built := os.Getenv("TIDEPULL_BINARY"); built != "" && strings.Contains(source, command) {
		source = strings.Replace(source, command, fmt.Sprintf(`[%q, "standin", "--listen", "ADDRESS"]`, built), 1)
	}
	return strings.NewReplacer("ADDRESS", address, "SELF", os.Args[0]).Replace(source)
}

// TestFaults: a server in a process of its own is restarted politely and rudely, stands
// still, and a quarter of the clients are cut. All come back, nothing is lost that was owed,
// and what happened stands where it did.
func TestFaults(t *testing.T) {
	t.Parallel()
	at := "127.0.0.1:" + port.Free(t)
	source := served(faulty, at)
	r := begin(t, source, language.Options{}, Options{})
	snap := r.Wait()
	if snap.Err != nil {
		t.Fatal(snap.Err)
	}
	l, c := &snap.Total.Total, &snap.Total.Counts.Returns
	if tooFull(t, snap) { // the server has ten seconds to be ready
		return
	}
	// On a busy machine some are still away when the next break comes, or when the run ends.
	if c.Broke > 90 || snap.Total.Overloaded == 0 && (c.Broke != 90 || c.NoTime != 0) || c.Broke < 40 ||
		c.Back+c.NoTime != c.Broke || c.GaveUp+c.StillAway != 0 || c.Failed+c.Refused == 0 || c.Tries < c.Back {
		t.Errorf("two restarts of 40 and a cut of 10: %+v; %v", *c, snap.Reasons)
	}
	if snap.Total.Overloaded == 0 && (l.Lost+l.Duplicate+l.Stray != 0 || l.Owed != l.Delivered+l.Late+l.Excused ||
		l.Delivered == 0 || snap.Total.Counts.Broken+snap.Total.Counts.Unsent != 0) {
		t.Errorf("%+v %+v; %v", *l, snap.Total.Counts, snap.Reasons)
	}
	var words []string
	for _, h := range snap.Happened {
		words = append(words, h.Name)
		if f := h.To - h.From; h.Why != "" || f < 300*time.Millisecond || f > 5*time.Second {
			t.Errorf("%+v", h)
		}
	}
	if got := strings.Join(words, ", "); got != "asked to end, killed, standing still, cut" {
		t.Errorf("there happened %s", got)
	}
	if s := snap.Server; len(s) < 8 || !s[0].Runs || s[0].At != -1 || s[0].Memory == 0 || s[0].Files == 0 {
		t.Errorf("the process was watched so: %+v", s)
	}
	if _, err := net.Dial("tcp", at); err == nil {
		t.Error("the server still runs")
	}
	tr := snap.Trial
	tr.Server.Command = []string{"sh", "-c", "echo the harbour is closed; exit 3"}
	if _, err := Start(context.Background(), Options{Trial: tr}); err == nil ||
		!strings.Contains(err.Error(), "it has ended") || !strings.Contains(err.Error(), "the harbour is closed") {
		t.Errorf("a server that does not come up: %v", err)
	}
}
