package store

import (
	"context"
	"encoding/json"
	"net/netip"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"tidepull/internal/client"
	"tidepull/internal/engine"
	"tidepull/internal/engine/machine"
	"tidepull/internal/engine/poll"
	"tidepull/internal/run"
	"tidepull/internal/standin"
	"tidepull/internal/testkit/sim"
	"tidepull/internal/trial/language"
	"tidepull/internal/wire"
)

const day = `
trial "a day" {
  prompt = "2s"
  grace  = "5s"
}
target "board" { websocket = "ws://127.0.0.1:7411/live" }
session "watch" {
  connect {}
  enter { room = "lock-${n % ROOMS}" }
  repeat {
    every  = "200s"
    jitter = "50%"
    say {
      body    = { kind = "notice", room = room, text = "tide gauge ${round} ${mark}" }
      reaches = "room"
    }
  }
}
crew "pilots" {
  clients = CLIENTS
  session = session.watch
}
tide {
  flood "100%" { over = "20s" }
  slack { lasts = "LASTS" }
}
limit "prompt" {
  of    = fanout.p99
  below = "50ms"
}
`

// TestDay carries out a long run in virtual time, as a run on a screen is collected and kept: memory stays where it is
// once the run is older than an hour, and the run that is read back says the same. With SOAK it is a day of a thousand
// clients; otherwise an hour and a quarter of forty.
func TestDay(t *testing.T) {
	clients, rooms, lasts, hours := "40", "4", "75m", 1.25
	if os.Getenv("SOAK") != "" {
		clients, rooms, lasts, hours = "1000", "50", "24h", 24
	}
	tr, err := language.Parse([]byte(strings.NewReplacer("CLIENTS", clients, "ROOMS", rooms, "LASTS",
		lasts).Replace(day)),
		"day.trial.hcl", language.Options{})
	if err != nil {
		t.Fatal(err)
	}
	listening, dialling := sim.New(3 * time.Millisecond)
	server, err := standin.Listen(standin.Config{Records: 100}, listening) // its own memory is flat, too
	if err != nil {
		t.Fatal(err)
	}
	go server.Serve()
	to := netip.MustParseAddrPort("127.0.0.1:7411")
	loop := engine.New(engine.Config{Trial: tr, Drivers: []poll.Driver{dialling},
		Places: client.At(wire.Endpoint{Addr: to}, "sim", "/live"), Web: wire.Endpoint{Addr: to}, WebHost: "sim",
		Run: 77,
		Use: func() (none machine.Use) { return }})
	failed := make(chan error, 1)
	go func() { failed <- loop.Run(context.Background()) }()

	path := filepath.Join(t.TempDir(), "runs.db")
	s, err := Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	c, k := run.NewCollector(run.Limits(tr), tr.Grace), &Keeper{store: s, tool: "test"}
	var snap *run.Snapshot
	var heap []uint64 // in use, by quarter of an hour
	second := -1
	for r := range loop.Reports() {
		if snap, err = c.Add(r, nil); err != nil {
			t.Fatal(err)
		}
		snap.Trial, snap.Started = tr, time.Unix(1_800_000_000, 0)
		if at := int(r.Elapsed / time.Second); at > second {
			second = at
			if !k.try(snap) {
				t.Fatal(k.Trouble())
			}
			if at/900 > len(heap) {
				heap = append(heap, heapInUse())
			}
		}
	}
	if err := <-failed; err != nil {
		t.Fatal(err)
	}
	snap.Finished = true
	if !k.try(snap) || server.Stop() != nil {
		t.Fatal(k.Trouble())
	}
	size := int64(0)
	if _, err := s.db.Exec("PRAGMA wal_checkpoint(TRUNCATE)"); err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(path); err == nil {
		size = info.Size()
	}
	var rows int
	if err := s.db.QueryRow("SELECT count(*) FROM second").Scan(&rows); err != nil || rows != len(snap.Entries) {
		t.Errorf("the store has %d rows of seconds, and the run %d entries: %v", rows, len(snap.Entries), err)
	}
	truth := server.Summary().Totals
	if w := snap.Total; w.Imbalance() != "" || w.Total.Lost != 0 || w.Total.Owed == 0 || w.Seconds < int(hours*3600) {
		t.Errorf("%s: %+v in %d s; the stand-in: %+v", w.Imbalance(), w.Total, w.Seconds, truth)
	}
	began := time.Now()
	back, err := s.Load(k.ID())
	if err != nil {
		t.Fatal(err)
	}
	t.Logf("%s clients for %s: %d deliveries; the store has %.1f MB, %.2f GB a day; read back in %v", clients, lasts,
		snap.Total.Total.Delivered, float64(size)/1e6, float64(size)/1e9*24/hours,
		time.Since(began).Round(time.Millisecond))
	t.Logf("memory in use, in MB, by quarter of an hour: %v", megabytes(heap))
	// The engine may be ahead of who reads its reports, which wait: the least of several counts.
	if n := len(heap); n > 48 && slices.Min(heap[n-24:]) > slices.Min(heap[5:29])+24<<20 {
		t.Errorf("memory in use grows after the first hour: %v MB", megabytes(heap))
	}
	said := func(of any) string {
		text, err := json.Marshal(of)
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
	if a, b := len(snap.Entries), len(back.Entries); a != b || a > 3600+3*60+int(hours*60) {
		t.Errorf("%d seconds as %d entries, read back as %d", snap.Entries.Count(), a, b)
	}
	for i := range min(len(snap.Entries), len(back.Entries)) {
		if a, b := asKept(t, snap.Entries[i]), asKept(t, back.Entries[i]); a != b {
			t.Fatalf("second %d\n%s\nwas read back as\n%s", snap.Entries[i].At, a, b)
		}
	}
	if a, b := said([]any{snap.Total.Total, snap.Total.Counts, snap.Judgements}),
		said([]any{back.Total.Total, back.Total.Counts, back.Judgements}); a != b {
		t.Errorf("%s\nwas read back as\n%s", a, b)
	}
}

func heapInUse() uint64 {
	var m runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&m)
	return m.HeapAlloc
}

func megabytes(all []uint64) (mb []float64) {
	for _, n := range all {
		mb = append(mb, float64(n/1e5)/10)
	}
	return mb
}
