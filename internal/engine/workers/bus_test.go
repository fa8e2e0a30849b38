package workers

import (
	"context"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/nats-io/nats-server/v2/server"

	"tidepull/internal/base/mono"
	"tidepull/internal/engine/machine"
	"tidepull/internal/engine/secure"
	"tidepull/internal/measure/fact"
)

// sealed are the addresses of a NATS server with TLS and a token, as its own side and as another one have it.
func sealed(t *testing.T) (its, others Address) {
	t.Helper()
	authority, err := secure.NewAuthority()
	if err != nil {
		t.Fatal(err)
	}
	cert, err := authority.Issue("127.0.0.1")
	if err != nil {
		t.Fatal(err)
	}
	key, err := x509.MarshalPKCS8PrivateKey(cert.PrivateKey)
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	file := func(name string, text []byte) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, text, 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	its = Address{URL: "tls://127.0.0.1:0", Token: "low-water-at-seven",
		Cert: file("cert", pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: cert.Certificate[0]})),
		Key:  file("key", pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key}))}
	others = Address{Token: its.Token, CA: file("ca", authority.PEM)}
	return its, others
}

// TestMeet: over a NATS server that is not the lead's, with TLS and a token, a machine offers itself, is hired, is told
// the time, and serves; whoever does not trust the server, or has another token, does not come in; and a worker whose
// process ends before it has told all is lost, and the run goes on.
func TestMeet(t *testing.T) {
	its, at := sealed(t)
	s, err := its.serve("127.0.0.1", server.RANDOM_PORT)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Shutdown()
	at.URL = strings.Replace(s.ClientURL(), "nats://", "tls://", 1)
	l, err := Meet(&at)
	if err != nil || l.server != nil {
		t.Fatalf("%v; a server of its own: %t", err, l != nil && l.server != nil)
	}
	defer l.Close()
	stranger := at
	if stranger.CA = ""; stranger.URL != "" {
		if _, err := NewAgent(&stranger, "X"); err == nil || !strings.Contains(err.Error(), "certificate") {
			t.Errorf("a server that nobody vouches for: %v", err)
		}
	}
	stranger = at
	stranger.Token = "high-water-at-one"
	if _, err := NewAgent(&stranger, "X"); !Hopeless(err) {
		t.Errorf("another token: %v", err)
	}

	agent, err := NewAgent(&at, "ALDER")
	if err != nil {
		t.Fatal(err)
	}
	defer agent.Close()
	ctx, end := context.WithCancel(context.Background())
	defer end()
	hired := make(chan Hiring, 1)
	go func() {
		_ = agent.Serve(ctx, func() Offer { return Offer{ID: agent.ID, Name: "alder", Clients: 40, Workers: 2} },
			func(h Hiring) error {
				if len(h.Workers) > 1 {
					return errors.New("too many")
				}
				hired <- h
				return nil
			}, func(string, int, bool) error { return nil })
	}()
	all, err := l.Offers(ctx, 1, 5*time.Second)
	if err != nil || len(all) != 1 || all[0].Name != "alder" || all[0].Clients != 40 {
		t.Fatalf("%+v, %v", all, err)
	}
	if err := l.Expect(Config{Workers: 1, Shares: 1, Clients: 10, Grace: time.Second}); err != nil {
		t.Fatal(err)
	}
	if err := l.Hire(ctx, all[0], Hiring{Workers: []int{0, 1}}); err == nil || err.Error() != "machine alder: too "+
		"many" {
		t.Errorf("hired too much: %v", err)
	}
	if err := l.Hire(ctx, all[0], Hiring{Workers: []int{0}}); err != nil || (<-hired).Run != l.Run() {
		t.Fatalf("hired: %v", err)
	}
	before := machine.Own()
	received, answered, ok := agent.AskClock(l.Run(), 5*time.Second)
	if after := machine.Own(); !ok || received < before || answered < received || after < answered {
		t.Errorf("the lead's clock: %d, %d, between %d and %d", received, answered, before, after)
	}

	w, _, err := Join(ctx, &at, l.Run(), 0)
	if err != nil {
		t.Fatal(err)
	}
	defer w.Close()
	w.Deal(1)
	go func() { _, _ = w.Ready(true, nil) }()
	if _, err := l.Gather(ctx); err != nil {
		t.Fatal(err)
	}
	a := &slowAccount{ended: make(chan struct{})}
	if err := l.Begin(a, mono.Now()); err != nil {
		t.Fatal(err)
	}
	if err := w.Facts(0, &fact.Batch{UpTo: 5, Off: 77 * time.Microsecond, Log: fact.Log{Facts: make([]fact.Fact,
		batchOf)[:1]}}); err != nil {
		t.Fatal(err)
	}
	ended := make(chan string, 1)
	if err := l.Endings(func(worker int, why string) {
		ended <- why
		l.Ended(worker, why)
	}); err != nil {
		t.Fatal(err)
	}
	agent.Ended(l.Run(), 0, "ended: signal: killed")
	select {
	case <-a.ended:
	case <-time.After(20 * time.Second):
		t.Fatal("the run waits for a worker that has ended")
	}
	lost := l.Lost()
	for end := time.Now().Add(5 * time.Second); len(lost) == 0 && time.Now().Before(end); lost = l.Lost() {
		time.Sleep(time.Millisecond)
	}
	if len(lost) != 1 || lost[0].Clients != 10 || lost[0].Why != <-ended || l.Off(0) != 77*time.Microsecond {
		t.Errorf("%+v, its clock off by %v", lost, l.Off(0))
	}
}

// TestAddress: what is wrong with an address or a token is said before it is used.
func TestAddress(t *testing.T) {
	for _, url := range []string{"", "127.0.0.1:4222", "http://127.0.0.1", "nats://"} {
		if err := (&Address{URL: url}).Check(); err == nil {
			t.Errorf("%q is an address", url)
		}
	}
	if _, err := Meet(&Address{URL: "nats://127.0.0.1:1"}); err == nil || !strings.Contains(err.Error(),
		"needs a token") {
		t.Errorf("a server without a token: %v", err)
	}
	path := filepath.Join(t.TempDir(), "token")
	for text, says := range map[string]string{"short": "8 characters", "two words of text": "one word",
		"": "one word"} {
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := ReadToken(path); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("the token %q: %v", text, err)
		}
	}
	if err := os.WriteFile(path, []byte("low-water-at-seven\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(path, 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := ReadToken(path); err == nil || !strings.Contains(err.Error(), "chmod 600") {
		t.Errorf("a token that all can read: %v", err)
	}
}
