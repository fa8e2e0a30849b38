package run

import (
	"crypto/tls"
	"os"
	"strings"
	"testing"
	"time"

	"tidepull/internal/engine/secure"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/standin"
	"tidepull/internal/trial/language"
)

const badPath = `
trial "a bad path" {
  grace  = "6s"
  prompt = "3s"
}
target "board" { TARGET }
session "watch" {
  connect {}
  enter { room = "lock-${n % 4}" }
  repeat {
    every = "500ms"
    say { body = { kind = "notice", room = room, text = "berth ${n} ${mark}" } }
  }
}
crew "pilots" {
  clients = 20
  session = session.watch
  reconnect {
    first = "100ms"
    most  = "400ms"
  }
}
tide {
  flood "100%" { over = "500ms" }
  slack { lasts = "11s" }
  ebb { over = "500ms" }
}
fault "far away" {
  do     = "delay"
  by     = "150ms"
  jitter = "50ms"
  at     = "1500ms"
  lasts  = "1500ms"
  share  = "50%"
}
fault "stuck" {
  do    = "freeze"
  at    = "3500ms"
  lasts = "1s"
  share = "25%"
}
fault "in crumbs" {
  do    = "split"
  bytes = 5
  at    = "3500ms"
  lasts = "1500ms"
  share = "75%"
}
fault "pulled out" {
  do    = "unplug"
  at    = "5500ms"
  lasts = "800ms"
  share = "25%"
}
fault "reset" {
  do    = "cut"
  reset = true
  at    = "7500ms"
  share = "50%"
}
fault "nobody gets in" {
  do    = "refuse"
  at    = "7400ms"
  lasts = "1s"
}
`

// TestBadPath: what faults do to the path of clients they do over real sockets, too, over TLS
// and on the portable driver: everybody is back, nothing is lost that is not the
// fault's own doing, and what was delayed took longer.
func TestBadPath(t *testing.T) {
	t.Parallel()
	for name, portable := range map[string]bool{"portable": true, "tls": false} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			cfg, target := standin.Config{Presence: time.Hour}, `websocket = "ws://ADDRESS/live"`
			read := os.ReadFile
			if name == "tls" {
				authority, err := secure.NewAuthority()
				if err != nil {
					t.Fatal(err)
				}
				certificate, err := authority.Issue("127.0.0.1")
				if err != nil {
					t.Fatal(err)
				}
				read = func(string) ([]byte, error) { return authority.PEM, nil }
				cfg.TLS = &tls.Config{Certificates: []tls.Certificate{certificate}}
				target = "\n  websocket = \"wss://ADDRESS/live\"\n  tls { ca = \"authority\" }\n"
			}
			s, err := standin.Start(cfg)
			if err != nil {
				t.Fatal(err)
			}
			defer s.Stop()
			source := strings.NewReplacer("TARGET", target).Replace(badPath)
			source = strings.ReplaceAll(source, "ADDRESS", s.Addr.String())
			r := begin(t, source, language.Options{Read: read}, Options{Portable: portable})
			snap := r.Wait()
			w := snap.Total
			l, ret, path := &w.Total, &w.Counts.Returns, &w.Counts.Path
			if tooFull(t, snap) {
				return
			}
			if snap.Err != nil || w.Imbalance() != "" || l.Lost+l.Stray+l.Duplicate+l.Altered+l.Reordered != 0 ||
				l.Delivered < 500 || w.Counts.Broken+w.Counts.Malformed+w.Counts.Denied != 0 {
				t.Errorf("%v %s %+v\n%+v\n%v", snap.Err, w.Imbalance(), *l, w.Counts, snap.Reasons)
			}
			if ret.Broke < 10 || ret.Back+ret.NoTime+ret.StillAway != ret.Broke || ret.GaveUp != 0 ||
				path.Clients != 10+5+15+5+20 {
				t.Errorf("%+v\n%+v\n%v", *ret, *path, snap.Reasons)
			}
			if w.Overloaded > 0 { // else the loop comes to each fault in time, and everybody has time to come back
				return
			}
			if ret.StillAway != 0 || path.Refused == 0 || path.Delayed < 50 {
				t.Errorf("%+v\n%+v\n%v", *ret, *path, snap.Reasons)
			}
			far, err := logbook.Sum(snap.Entries[2:3], nil)
			if err != nil {
				t.Fatal(err)
			}
			if p90 := far.Fanout().Quantile(0.9); p90 < 100*time.Millisecond {
				t.Errorf("while half of the clients were far away 90 %% of the deliveries took up to %v", p90)
			}
		})
	}
}
