package run

import (
	"context"
	"flag"
	"fmt"
	"net/netip"
	"os"
	"strings"
	"testing"
	"time"

	"tidepull/internal/base/plain"
	"tidepull/internal/client"
	"tidepull/internal/engine"
	"tidepull/internal/engine/machine"
	"tidepull/internal/engine/poll"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/testkit/rude"
	"tidepull/internal/testkit/sim"
	"tidepull/internal/trial/language"
	"tidepull/internal/wire"
)

var update = flag.Bool("update", false, "write docs/hostile.md again")

// againstRude is a trial that uses most of what a server can get wrong.
const againstRude = `
trial "against the rude" {
  seed = 7
  grace = "500ms"
  prompt = "200ms"
}
target "board" {
  websocket = "ws://127.0.0.1:1/live"
  dialect   = "harbour"
}
dialect "harbour" {
  name {
    send      = { kind = "name", name = name }
    confirmed = msg.kind == "named"
  }
  enter {
    send      = { kind = "enter", room = room }
    confirmed = msg.kind == "entered" && msg.room == room
  }
  heard {
    when    = msg.kind == "notice"
    room    = msg.room
    payload = msg.text
  }
  gone {
    when = msg.kind == "left"
    room = msg.room
    name = msg.who
  }
}
feed "gauge" {
  when  = msg.kind == "gauge"
  seq   = msg.seq
  time  = msg.at
  fresh = "1s"
}
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
  clients = 20
  session = session.watch
}
tide {
  flood "100%" { over = "200ms" }
  slack { lasts = "1300ms" }
  ebb { over = "200ms" }
}
`

// playRude runs a trial against a rude server in virtual time.
func playRude(t *testing.T, source string, server rude.Server) *Snapshot {
	t.Helper()
	tr, err := language.Parse([]byte(source), "rude.trial.hcl", language.Options{})
	if err != nil {
		t.Fatal(err)
	}
	listening, dialling := sim.New(3 * time.Millisecond)
	to := netip.MustParseAddrPort("127.0.0.1:7411")
	if _, err := listening.Listen(to); err != nil {
		t.Fatal(err)
	}
	stop := server.Serve(listening, func() { sim.Begin(listening) })
	loop := engine.New(engine.Config{Trial: tr, Drivers: []poll.Driver{dialling},
		Places: client.At(wire.Endpoint{Addr: to}, "sim", "/live"),
		Web:    wire.Endpoint{Addr: to}, WebHost: "sim", Run: 77,
		Use: func() (none machine.Use) { return }})
	failed := make(chan error, 1)
	go func() { failed <- loop.Run(context.Background()) }()
	defer stop()
	c := NewCollector(Limits(tr), tr.Grace)
	s := &Snapshot{}
	for report := range loop.Reports() {
		if s, err = c.Add(report, nil); err != nil {
			t.Fatal(err)
		}
	}
	s.Trial, s.Finished, s.Err = tr, true, <-failed
	return s
}

// TestRude plays every rude server in virtual time: the run ends in time, the
// books agree, no table grows without bound, nothing raw is kept, and the
// verdict is what the server deserves. It writes docs/hostile.md.
func TestRude(t *testing.T) {
	page := &strings.Builder{}
	page.WriteString(hostileHead)
	for _, server := range rude.Servers {
		began := time.Now()
		server.Most = 256 // there is no back-pressure in virtual time
		if server.Name == "never lets go" {
			server.Most = 64 // and the race detector takes its time with each message
		}
		source := againstRude
		if server.Name == "false arrivals" { // it announces who comes, and not who leaves
			source = strings.Replace(source, "gone {\n    when = msg.kind == \"left\"",
				"joined {\n    when = msg.kind == \"joined\"", 1)
		}
		s := playRude(t, source, server)
		w := s.Total
		if most := 1700*time.Millisecond + 500*time.Millisecond + 10*time.Second; s.Elapsed > most {
			t.Errorf("%s: the run took %v", server.Name, s.Elapsed)
		}
		if len(s.Reasons) > 51 || len(s.Events) > logbook.MaxEvents || w.Imbalance() != "" || w.Total.Open() != 0 {
			t.Errorf("%s: %d reasons, %d events, %s, %d open", server.Name, len(s.Reasons), len(s.Events),
				w.Imbalance(), w.Total.Open())
		}
		for reason := range s.Reasons {
			if reason != plain.Text(reason, 0) {
				t.Errorf("%s: a raw reason %q", server.Name, reason)
			}
		}
		verdict, why := s.Outcome()
		t.Logf("%s: %v, %v", server.Name, s.Elapsed, time.Since(began))
		// What one server says falsely must not be charged to what is owed.
		if strings.HasPrefix(server.Name, "false ") && (w.Total.Lost != 0 || w.Counts.StrayNews == 0) {
			t.Errorf("%s: %d lost, %d stray announcements", server.Name, w.Total.Lost, w.Counts.StrayNews)
		}
		if server.Name == "wild numbers" && (w.Counts.Gaps < 0 || w.Counts.Gaps > 20*1_000_000 ||
			w.Times[logbook.FeedAge].Count() > 0 ||
			w.ChecksFailed() == 0) {
			t.Errorf("wild numbers: gaps %d, %d ages, %d failed", w.Counts.Gaps, w.Times[logbook.FeedAge].Count(),
				w.ChecksFailed())
		}
		fmt.Fprintf(page, "| %s | %s | %s | %s |\n", server.Name, server.Does, verdict,
			strings.ReplaceAll(plain.Text(why, 220), "|", "\\|"))
	}
	const path = "../../docs/hostile.md"
	if *update {
		if err := os.WriteFile(path, []byte(page.String()), 0o666); err != nil {
			t.Fatal(err)
		}
	}
	if b, err := os.ReadFile(path); err != nil || string(b) != page.String() {
		for line := range strings.Lines(page.String()) {
			if !strings.Contains(string(b), line) {
				t.Log(line)
			}
		}
		t.Errorf("docs/hostile.md is not what the servers get now (%v); go test ./internal/run -run TestRude "+
			"-update writes it", err)
	}
}

const hostileHead = `# Rude and hostile servers

What a server sends is not to be trusted: whatever it does, a run ends within the
tide, the grace time and ten seconds, and what it holds in memory is bounded for
each client and for all. This table is written by the test that runs these servers
(` + "`go test ./internal/run -run TestRude -update`" + `); another test runs the tool against
each of them over real sockets and holds its time and its memory
(` + "`cmd/tidepull/rude_test.go`" + `).

| bound | where |
| --- | --- |
| one message, 16 MiB | closed with 1009 |
| messages that have come in part, of all clients together: 128 MiB | the client beyond it is closed with 1009 |
| bytes that wait to be sent, of one client 32 MiB, of all 128 MiB | the client beyond it is cut off: nobody reads |
| pings | not answered with more than 64 KiB waiting to be sent (RFC 6455 5.5.3: the latest needs an answer) |
| the head of an answer, 32 KiB; the content of an HTTP answer, 8 MiB | refused, or not answered |
| reasons and the server's own words, 50 kinds; unrecognised messages, 500 shapes | others beyond that |
| a close handshake, 5 s; the end of a run, 5 s after tide and grace time, 2 s after a stop | cut off |

| server | what it does | verdict | why |
| --- | --- | --- | --- |
`
