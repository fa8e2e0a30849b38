package run

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tidepull/internal/engine"
	"tidepull/internal/measure/mark"
	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
	"tidepull/internal/trial/language"
)

// shortTide is a trial in which everybody has entered before anybody speaks,
// and has stopped speaking before anybody leaves: then what was owed follows
// from the stand-in's truth to the last delivery.
const shortTide = `
trial "short tide" {
  seed   = 3
  prompt = "2500ms"
  grace  = "3s"
}
target "board" {}
session "watch" {
  connect {}
  expect "greeting" { when = msg.kind == "welcome" }
  enter { room = "lock-${n % 3}" }
  pause { lasts = "4s" }
  repeat {
    every = "300ms"
    times = 4
    say { body = { kind = "notice", room = room, text = "berth ${n} \"free\" ${mark}" } }
    whisper {
      to   = "tugs-${(n + round) % 20}"
      body = { kind = "whisper", to = to, text = mark }
    }
  }
  pause { lasts = "1m" }
  leave {}
}
crew "pilots" {
  clients = 40
  session = session.watch
  name    = "pilot-${n}"
}
crew "tugs" {
  clients = 20
  session = session.watch
}
tide {
  flood "100%" { over = "500ms" }
  slack { lasts = "9s" }
  ebb { over = "500ms" }
}
limit "none lost" {
  of     = ledger.lost
  equals = 0
}
limit "prompt" {
  of    = fanout.p99
  below = "5s"
}
`

// pairing puts datagrams beside a client's connection, as the stand-in wants it.
const pairing = `
  send { body = { kind = "datagrams" } }
  expect "a token" {
    when    = msg.kind == "datagrams"
    capture = { token = msg.token }
  }
  send {
    body   = { kind = "attach", token = my.token }
    urgent = true
  }
  expect "attached" { when = msg.kind == "attached" }
`

func carryOut(t *testing.T, source string, server standin.Config, portable bool) (*Snapshot, Summary, board.Summary) {
	t.Helper()
	return carryOutAt(t, source, server, portable, (*standin.Server).URL)
}

// carryOutAt is carryOut with an address of the stand-in's that is not its WebSocket.
func carryOutAt(t *testing.T, source string, server standin.Config, portable bool,
	address func(*standin.Server) string) (*Snapshot, Summary, board.Summary) {
	t.Helper()
	s, err := standin.Start(server)
	if err != nil {
		t.Fatal(err)
	}
	defer func() {
		if err := s.Stop(); err != nil {
			t.Error(err)
		}
	}()
	r := begin(t, source, language.Options{Target: address(s)}, Options{Portable: portable})
	snap := r.Wait()
	if snap.Err != nil {
		t.Fatal(snap.Err)
	}
	var truth board.Summary
	get(t, s, "/truth", func(r *http.Response) error { return json.NewDecoder(r.Body).Decode(&truth) })
	return snap, Summarise(snap), truth
}

// begin begins to run a trial.
func begin(t *testing.T, source string, l language.Options, o Options) *Run {
	t.Helper()
	tr, err := language.Parse([]byte(source), "test.trial.hcl", l)
	if err != nil {
		t.Fatalf("%v\n%s", err, source)
	}
	o.Trial = tr
	r, err := Start(context.Background(), o)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func get(t *testing.T, s *standin.Server, path string, read func(*http.Response) error) {
	t.Helper()
	resp, err := http.Get(fmt.Sprintf("http://%v%s", s.Addr, path))
	if err == nil {
		defer resp.Body.Close()
		err = read(resp)
	}
	if err != nil {
		t.Fatalf("%s: %v", path, err)
	}
}

// TestEqualsTruth runs the short tide over real sockets and compares the ledger
// with what the stand-in knows to have done. (Each switch by itself, both ways,
// is tried in virtual time, in the package sim.)
func TestEqualsTruth(t *testing.T) {
	t.Parallel()
	for name, tc := range map[string]struct {
		switches board.Switches
		portable bool
		loops    int
		verdict  Verdict
		over     string // a scheme, if not ws
		http     string // the address over HTTP, in the target
		beside   bool   // half of what is said goes in datagrams beside
	}{
		"all well": {verdict: Holds},
		"three loops": {loops: 3, switches: board.Switches{Seed: 10, Lose: 0.02, Double: 0.02, Misdirect: 0.02},
			verdict: Broken},
		"two loops, portable": {loops: 2, portable: true, verdict: Holds},
		"wrong": {switches: board.Switches{Seed: 8, Hold: 50 * time.Millisecond, Lose: 0.02, Double: 0.02,
			Misdirect: 0.02}, verdict: Broken},
		"wrong, portable": {portable: true, switches: board.Switches{Seed: 9, Lose: 0.03, Double: 0.01,
			Misdirect: 0.01}, verdict: Broken},
		"datagrams, wrong, portable": {over: "udp", portable: true, verdict: Broken,
			switches: board.Switches{Seed: 11, Lose: 0.03, Double: 0.01, Misdirect: 0.01}},
		"events, portable": {http: "events = \"http://127.0.0.1:1/events?client=${name}\"", portable: true,
			verdict: Broken, switches: board.Switches{Seed: 13, Lose: 0.03, Double: 0.01, Misdirect: 0.01}},
		"datagrams beside": {beside: true, switches: board.Switches{Seed: 12, Lose: 0.03, Double: 0.01,
			Misdirect: 0.01}, verdict: Broken},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			source := strings.Replace(shortTide, "seed   = 3", fmt.Sprintf("seed = 3\nloops = %d", max(1, tc.loops)), 1)
			if tc.beside {
				source = strings.NewReplacer(`target "board" {}`, `target "board" {
  websocket = "ws://127.0.0.1:1/live"
  urgent    = "udp://127.0.0.1:1"
}`, "  enter {", pairing+"  enter {", "    whisper {\n", "    whisper {\n      urgent = true\n").Replace(source)
			}
			if tc.http != "" {
				source = strings.Replace(source, `target "board" {}`,
					"target \"board\" {\n  "+tc.http+"\n  post_end = true\n}", 1)
				tc.over = "http"
			}
			snap, sum, truth := carryOutAt(t, source, standin.Config{Switches: tc.switches, Portable: tc.portable},
				tc.portable, func(s *standin.Server) string {
					if tc.over != "" {
						return fmt.Sprintf("%s://%v", tc.over, s.Addr)
					}
					return s.URL()
				})
			l, tr := sum.Ledger, truth.Totals
			if l.Overdue+l.Excused > 0 && sum.Self.OverloadedSeconds > 0 {
				t.Skipf("this machine took longer than the grace time (%s), and the books say so: %+v",
					sum.Self.OverloadedWhy, l.Tally)
			}
			if sum.Messages.Sent != 60*4*2 || tr.Notices+tr.Whispers != sum.Messages.Sent {
				t.Errorf("said %d, the stand-in received %d and %d, want %d", sum.Messages.Sent, tr.Notices,
					tr.Whispers, 60*4*2)
			}
			if l.Owed != tr.Due || l.Delivered+l.Late != tr.Written || l.Lost+l.Excused != tr.Lost ||
				l.Duplicate+l.Stray != tr.Doubled+tr.Misdirected || l.Stray > tr.Misdirected {
				t.Errorf("ledger %+v\ntruth %+v", l.Tally, tr)
			}
			if l.Excused != 0 || l.Allowed != 0 || l.Overdue != 0 || l.Foreign != 0 {
				t.Errorf("nobody was at the edge, but: %+v", l)
			}
			for what, p := range map[string]struct {
				on  bool
				got int64
			}{"lost": {tc.switches.Lose+tc.switches.Misdirect > 0, l.Lost},
				"duplicate": {tc.switches.Double > 0, l.Duplicate}, "stray": {tc.switches.Misdirect > 0, l.Stray}} {
				if p.on != (p.got > 0) {
					t.Errorf("%s: %d, though its switch is on: %v", what, p.got, p.on)
				}
			}
			checkSums(t, snap, sum)
			if !l.Balanced {
				t.Errorf("the books do not agree: %s", snap.Total.Imbalance())
			}
			if hold := tc.switches.Hold.Seconds() * 1e6; sum.Fanout.P50 < hold ||
				snap.Total.Fanout().Min().Seconds()*1e6 < hold {
				t.Errorf("fan-out p50 is %v us, but each message was held %v us", sum.Fanout.P50, hold)
			}
			if sum.Verdict != tc.verdict && !(sum.Verdict == NotProven && sum.Self.OverloadedSeconds > 0) {
				t.Errorf("verdict %q, want %q", sum.Verdict, tc.verdict)
			}
		})
	}
}

// checkSums checks that the parts add up to the whole, and the kept messages to
// what is wrong.
func checkSums(t *testing.T, snap *Snapshot, sum Summary) {
	t.Helper()
	for name, parts := range map[string]map[string]Tally{"rooms": sum.Ledger.ByRoom, "crews": sum.Ledger.ByCrew} {
		var owed, delivered, lost, said int64
		for p := range maps.Values(parts) {
			owed, delivered, lost, said = owed+p.Owed, delivered+p.Delivered+p.Late, lost+p.Lost, said+p.Said
		}
		if owed != sum.Ledger.Owed || delivered != sum.Ledger.Delivered+sum.Ledger.Late || lost != sum.Ledger.Lost ||
			said != sum.Messages.Sent {
			t.Errorf("%s add up to owed %d, delivered %d, lost %d, said %d; not to %+v", name, owed, delivered, lost,
				said, sum.Ledger.Tally)
		}
	}
	if n := sum.Fanout.Count; n != uint64(sum.Ledger.Delivered+sum.Ledger.Late) {
		t.Errorf("%d latencies for %d deliveries", n, sum.Ledger.Delivered+sum.Ledger.Late)
	}
	lost := 0
	for _, m := range snap.Kept {
		lost += m.Lost
	}
	if int64(lost) != sum.Ledger.Lost {
		t.Errorf("the kept messages miss %d, the ledger %d", lost, sum.Ledger.Lost)
	}
	if len(snap.Entries) < 4 || len(snap.Rooms) != 4 {
		t.Errorf("%d seconds, rooms %v", len(snap.Entries), snap.Rooms)
	}
}

// TestEveryLossIsTrue runs a tide in which clients speak while others come and
// go, with losses, and checks each loss in the ledger against the stand-in's
// record of that very delivery.
func TestEveryLossIsTrue(t *testing.T) {
	t.Parallel()
	source := strings.NewReplacer("pause { lasts = \"4s\" }", "", "times = 4", "", "every = \"300ms\"",
		"every = \"200ms\"", "\"9s\"", "\"3s\"", "over = \"500ms\"", "over = \"2s\"").Replace(shortTide)
	s, err := standin.Start(standin.Config{Switches: board.Switches{Lose: 0.05}})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Stop()
	r := begin(t, source, language.Options{Target: s.URL()}, Options{})
	for over := false; !over; {
		select {
		case <-r.Done():
			over = true
		case <-time.After(300 * time.Millisecond):
			if s := r.Snapshot(); s.Total != nil && s.Total.Imbalance() != "" {
				t.Fatalf("under way, after %v: %s", s.Elapsed, s.Total.Imbalance())
			}
		}
	}
	snap := r.Wait()
	if snap.Err != nil {
		t.Fatal(snap.Err)
	}
	truly := map[string]bool{} // message number and recipient
	numbers, received := map[int64]string{}, map[int64]int64{}
	get(t, s, "/truth/messages", func(r *http.Response) error {
		return eachLine(r, func(m board.Message) { numbers[m.N], received[m.N] = m.Mark, m.Received })
	})
	late := (snap.Trial.Grace - 10*time.Millisecond).Microseconds() // on a busy machine a stand-in can be so late
	get(t, s, "/truth/deliveries", func(r *http.Response) error {
		return eachLine(r, func(d board.Delivery) {
			if d.What == "lost" || d.At-received[d.N] > late {
				truly[numbers[d.N]+" "+d.To] = true
			}
		})
	})
	total := snap.Total.Total
	if sum := Summarise(snap); total.Lost == 0 && total.Excused > 0 && sum.Self.OverloadedSeconds > 0 {
		t.Skipf("this machine was too far behind to tell (%s), and the books say so: %+v", sum.Self.OverloadedWhy,
			total)
	}
	if total.Lost == 0 || total.Stray != 0 || total.Duplicate != 0 || total.Open() != 0 {
		t.Fatalf("ledger %+v", total)
	}
	found := 0
	for _, m := range snap.Kept {
		for _, o := range m.Outcomes {
			if o.Fate.String() != "lost" {
				continue
			}
			found++
			if !lostIn(truly, m.Number, snap.ClientName(o.Client)) {
				t.Errorf("message %d counts as lost at %s, but the stand-in sent it", m.Number,
					snap.ClientName(o.Client))
			}
		}
	}
	if int64(found) > total.Lost || snap.Unkept == 0 && int64(found) != total.Lost { // late ones take up room, too
		t.Errorf("%d losses are kept, %d were counted", found, total.Lost)
	}
}

func eachLine[T any](r *http.Response, f func(T)) error {
	for d := json.NewDecoder(r.Body); d.More(); {
		var v T
		if err := d.Decode(&v); err != nil {
			return err
		}
		f(v)
	}
	return nil
}

func TestStopKeepsWhatWasMeasured(t *testing.T) {
	s, err := standin.Start(standin.Config{})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Stop()
	source := strings.ReplaceAll(strings.ReplaceAll(shortTide, "4s", "100ms"), "9s", "10m")
	r := begin(t, source, language.Options{Target: s.URL()}, Options{})
	for end := time.Now().Add(20 * time.Second); r.Snapshot().Total.Counts.Sent < 100 && time.Now().Before(end); {
		time.Sleep(100 * time.Millisecond)
	}
	r.Stop()
	snap := r.Wait()
	dir := t.TempDir()
	sum := Summarise(snap)
	if err := sum.Write(filepath.Join(dir, "new")); err != nil {
		t.Fatal(err)
	}
	if b, err := os.ReadFile(filepath.Join(dir, "new", "summary.json")); err != nil || !json.Valid(b) {
		t.Fatal(err)
	}
	if !sum.CutShort || sum.Messages.Sent == 0 ||
		sum.Ledger.Owed != sum.Ledger.Delivered+sum.Ledger.Late+sum.Ledger.Lost+sum.Ledger.Excused {
		t.Errorf("%+v", sum)
	}
	if sum.Connections.Finished != 60 || sum.Connections.Broken != 0 || sum.Ledger.Lost != 0 {
		t.Errorf("not everybody closed in order: %+v", sum.Connections)
	}
}

func TestUnreachable(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	refusing := &http.Server{Handler: http.NotFoundHandler()}
	go refusing.Serve(l)
	defer refusing.Close()
	const nobody = "127.0.0.1:9" // no port that the system deals out
	for address, want := range map[string]string{nobody: "connection refused", l.Addr().String(): "404"} {
		r := begin(t, shortTide, language.Options{Target: "ws://" + address + "/live"}, Options{})
		snap := r.Wait()
		var unreachable *engine.Unreachable
		if !errors.As(snap.Err, &unreachable) || !strings.Contains(snap.Err.Error(), want) {
			t.Errorf("%s: %v, want %q", address, snap.Err, want)
		}
	}
	tr, err := language.Parse([]byte(strings.Replace(shortTide, "clients = 40", "clients = 4000000", 1)), "x",
		language.Options{Target: "ws://127.0.0.1:1/"})
	if err != nil {
		t.Fatal(err)
	}
	var tooMany *TooMany
	if _, err := Start(context.Background(), Options{Trial: tr}); !errors.As(err, &tooMany) {
		t.Errorf("four million clients: %v", err)
	}
}

func lostIn(truly map[string]bool, number uint64, name string) bool {
	for key := range truly {
		m, _ := mark.Find([]byte(key))
		if m.Number == number && strings.HasSuffix(key, " "+name) {
			return true
		}
	}
	return false
}

// tooFull reports whether this machine had too little for what a run was to do, and says so. Then
// tests hold what is true on any machine: that the books add up, and who is to blame.
func tooFull(t *testing.T, snap *Snapshot) bool {
	t.Helper()
	w := snap.Total
	share, _ := w.Counts.Load.Offered()
	if 100*share >= leastLoad && w.Kept < 200*time.Millisecond {
		return false
	}
	t.Logf("this machine is too full: the load was %.3g %%, and programs waited for a core for up to %v", 100*share,
		w.Kept)
	if l := &w.Total; w.Imbalance() != "" || l.Owed != l.Delivered+l.Late+l.Lost+l.Excused+l.CaughtUp ||
		l.Stray+l.Duplicate+l.Altered+l.Disagreed != 0 || w.Counts.Malformed != 0 {
		t.Errorf("%s: %+v %+v; %v", w.Imbalance(), *l, w.Counts, snap.Reasons)
	}
	if r := &w.Counts.Returns; r.Broke < r.Back+r.GaveUp+r.StillAway+r.NoTime {
		t.Errorf("more came back than went: %+v", *r)
	}
	return true
}

// TestNodes: clients are dealt out to the servers of a target, and each server's own
// truth agrees with the whole ledger. The boards know nothing of each other, so each node
// has rooms of its own.
func TestNodes(t *testing.T) {
	t.Parallel()
	var nodes, servers = []string{}, []*standin.Server{}
	for range 3 {
		s, err := standin.Start(standin.Config{})
		if err != nil {
			t.Fatal(err)
		}
		nodes, servers = append(nodes, fmt.Sprintf("%q", s.URL())), append(servers, s)
	}
	source := strings.NewReplacer(`target "board" {}`, "target \"board\" {\n  nodes = ["+strings.Join(nodes, ", ")+
		"]\n}",
		`"lock-${n % 3}"`, `"lock-${node}"`).Replace(shortTide)
	source = source[:strings.Index(source, "    whisper {")] + "  }\n" +
		source[strings.Index(source, "  pause { lasts = \"1m\" }"):]
	r := begin(t, source, language.Options{}, Options{Loops: 2})
	snap := r.Wait()
	written := int64(0)
	for _, s := range servers {
		if err := s.Stop(); err != nil {
			t.Error(err)
		}
		n := s.Summary().Totals
		if written += n.Written; n.Notices == 0 {
			t.Errorf("one server got nothing: %+v", n)
		}
	}
	if tooFull(t, snap) {
		return
	}
	if l := snap.Total.Total; snap.Err != nil || l.Owed == 0 || l.Delivered+l.Late != written || l.Lost+l.Stray != 0 {
		t.Errorf("%v: %+v, the servers wrote %d", snap.Err, l, written)
	}
}
