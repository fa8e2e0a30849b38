package run

import (
	"crypto/tls"
	"fmt"
	"strings"
	"testing"

	"tidepull/internal/engine/secure"
	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
	"tidepull/internal/trial/language"
)

// TestOverTLS: over TLS the ledger is the truth as it is without, whatever goes over it;
// who is not trusted is not talked to, and whom nobody looks at is shown so.
func TestOverTLS(t *testing.T) {
	t.Parallel()
	a, err := secure.NewAuthority()
	if err != nil {
		t.Fatal(err)
	}
	cert, err := a.Issue("localhost", "127.0.0.1")
	if err != nil {
		t.Fatal(err)
	}
	read := func(string) ([]byte, error) { return a.PEM, nil }
	for name, target := range map[string]string{
		"websocket": `websocket = "wss://localhost:PORT/live"`,
		"events":    `events = "https://localhost:PORT/events?client=${name}"`,
		"polling":   "polling = \"https://localhost:PORT/poll?client=${name}\"\n  post_end = true",
		"lines":     "lines = \"tls://board.test:1\"\n  connect_to = \"127.0.0.1:PORT\"",
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s, err := standin.Start(standin.Config{TLS: &tls.Config{Certificates: []tls.Certificate{cert},
				CurvePreferences: []tls.CurveID{tls.X25519}}, // the cheapest: the race detector makes handshakes slow

				Switches: board.Switches{Seed: 4, Lose: 0.02, Double: 0.02}})
			if err != nil {
				t.Fatal(err)
			}
			defer s.Stop()
			port := fmt.Sprint(s.Addr.Port())
			end := func(tls string) string {
				return "target \"board\" {\n  " + strings.Replace(target, "PORT", port, 1) +
					"\n  tls {\n    server_name = \"localhost\"\n" + tls +
					"  }\n}"
			}
			trial := strings.NewReplacer("clients = 40", "clients = 8", `"500ms" }
  slack`, `"2s" }
  slack`).Replace(shortTide)
			run := func(tls string) (*Snapshot, error) {
				r := begin(t, strings.Replace(trial, `target "board" {}`, end(tls), 1),
					language.Options{Read: read}, Options{})
				snap := r.Wait()
				return snap, snap.Err
			}
			if _, err := run(""); err == nil || !strings.Contains(err.Error(), "unknown authority") {
				t.Errorf("a server that nobody trusts: %v", err)
			}
			snap, err := run("    ca     = \"ca.pem\"\n    resume = true\n")
			if err != nil {
				t.Fatal(err)
			}
			if err := s.Stop(); err != nil {
				t.Fatal(err)
			}
			if snap.Total.Why != 0 {
				t.Skipf("the machine is too busy to tell: %s", snap.Total.Why.Words())
			}
			l, truth := Summarise(snap).Ledger, s.Summary().Totals
			if !l.Balanced || l.Lost != truth.Lost || l.Duplicate != truth.Doubled || l.Lost == 0 || l.Owed == 0 ||
				l.Owed != l.Delivered+l.Late+l.Lost+l.Excused || l.Excused != 0 {
				t.Errorf("%+v\nin truth %+v; %v", l.Tally, truth, snap.Reasons)
			}
			tr, err := language.Parse([]byte(strings.Replace(trial, `target "board" {}`,
				end("    insecure = true\n"), 1)),
				"tls.trial.hcl", language.Options{Read: read})
			if err != nil || !strings.Contains(tr.Shown().Target.Address, "certificates not checked") {
				t.Errorf("%v: it is shown as %s", err, tr.Shown().Target.Address)
			}
		})
	}
}
