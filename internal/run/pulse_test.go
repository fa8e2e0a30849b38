package run

import (
	"fmt"
	"net/http"
	"os"
	"runtime"
	"slices"
	"testing"
	"time"

	"tidepull/internal/measure/logbook"
	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
	"tidepull/internal/trial/language"
)

const heartbeats = `
trial "heartbeats" { grace = "2s" }
target "board" {
  websocket = "ws://ADDRESS/live"
  promise {
    every    = "400ms"
    deadline = "800ms"
  }
}
session "watch" {
  connect {}
  enter { room = "lock-${n % 4}" }
  repeat {
    every = "1s"
    say { body = { kind = "notice", room = room, text = mark } }
  }
}
crew "pilots" {
  clients = 100
  session = session.watch
  misbehave {
    do    = "silent"
    share = "20%"
    after = "1s"
  }
  misbehave {
    do    = "frozen"
    share = "10%"
    after = "1s"
  }
  misbehave {
    do    = "unplugged"
    share = "10%"
    after = "1s"
  }
  misbehave {
    do    = "late"
    by    = "300ms"
    share = "10%"
    after = "1s"
  }
}
tide {
  flood "100%" { over = "500ms" }
  slack { lasts = "8s" }
  ebb { over = "500ms" }
}
`

// TestEvictions: over real sockets, too, who gives no sign of life is evicted and nobody else;
// how long that took is what the stand-in's own record says, and the ledger is that of a
// healthy run. A client that is unplugged answers nothing, not even for its system. It does not
// run beside others of this package: it is about milliseconds.
func TestEvictions(t *testing.T) {
	s, err := standin.Start(standin.Config{PingEvery: 400 * time.Millisecond, PongWithin: 800 * time.Millisecond})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Stop()
	r := begin(t, heartbeats, language.Options{Target: s.URL()}, Options{})
	snap := r.Wait()
	if snap.Err != nil {
		t.Fatal(snap.Err)
	}
	var record []board.Eviction
	get(t, s, "/truth/evictions", func(r *http.Response) error {
		return eachLine(r, func(e board.Eviction) { record = append(record, e) })
	})
	w := snap.Total
	c, h, l := &w.Counts.Pulse, &w.Times, &w.Total
	if tooFull(t, snap) || w.Kept > 100*time.Millisecond { // a heartbeat comes each 400 ms, and is asked for as often
		// The stand-in's deadline is 800 ms: it may be over before a healthy client answers, and a
		// late answer may come before the stand-in looks.
		if len(record) < 20 || len(record) > 80 {
			t.Errorf("%d in the record; %+v; %v", len(record), *c, snap.Reasons)
		}
		return
	}
	if len(record) != 40 || c.Misbehave != 50 || c.Evicted != 40 || w.Counts.Evicted != 40 || w.Imbalance() != "" ||
		l.Lost+l.Stray+l.Duplicate != 0 || w.Counts.Broken != 0 {
		t.Errorf("%d in the record\n%+v\n%s %+v\n%v", len(record), *c, w.Imbalance(), *l, snap.Reasons)
	}
	names := map[string]bool{}
	for _, e := range record {
		names[e.Name] = true
	}
	for _, e := range snap.Events {
		if e.What == logbook.Evicted && !names[snap.ClientName(e.Client)] {
			t.Errorf("%s is not in the record", snap.ClientName(e.Client))
		}
	}
	if c.Kept+c.Hasty != 0 || c.TooLate != 0 && w.Overloaded == 0 {
		t.Errorf("%+v", *c)
	}
	var took []time.Duration
	for _, e := range record {
		took = append(took, time.Duration(e.At-e.Asked)*time.Microsecond)
	}
	slices.Sort(took)
	apart := 5 * time.Millisecond
	if w.Overloaded > 0 || w.Kept > 10*time.Millisecond {
		// The stand-in is in this process, and notes times when it comes to it.
		apart = 100*time.Millisecond + 2*w.Kept
		t.Logf("this machine is too full for milliseconds: programs waited up to %v for a core", w.Kept)
	}
	near := func(a, b time.Duration) bool { return (a - b).Abs() < apart }
	if len(took) != 40 || h[logbook.ToEvict].Count() != 40 {
		t.Fatalf("%d evictions were timed, %d are in the record", h[logbook.ToEvict].Count(), len(took))
	}
	for i, want := range took { // the unplugged ones, too: the system says when
		if got := h[logbook.ToEvict].Quantile(float64(i+1) / 40); !near(got, want) {
			t.Errorf("eviction %d took %v, %v in the record", i, got, want)
		}
	}
}

// TestManyBreaks: everybody is back after two thousand breaks. Ten thousand, in make soak, leave the
// tool's memory and its descriptors
// as they were.
func TestManyBreaks(t *testing.T) {
	t.Parallel()
	clients, cuts := 100, 20
	if os.Getenv("SOAK") != "" {
		clients, cuts = 250, 40
	}
	source := fmt.Sprintf(`
trial "breaks" { grace = "2s" }
target "board" { websocket = "ws://ADDRESS/live" }
session "watch" {
  connect {}
  enter { room = "lock-${n %% 10}" }
  pause { lasts = "1m" }
}
crew "pilots" {
  clients = %d
  session = session.watch
  reconnect {
    first  = "0s"
    jitter = "none"
  }
}
tide {
  flood "100%%" { over = "500ms" }
  slack { lasts = "%dms" }
  ebb { over = "500ms" }
}
fault "again and again" {
  do    = "cut"
  at    = "1s"
  every = "240ms"
  times = %d
}
`, clients, 1500+240*cuts, cuts) // a cut each 240 ms
	s, err := standin.Start(standin.Config{Records: -1, Presence: time.Hour})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Stop()
	r := begin(t, source, language.Options{Target: s.URL()}, Options{})
	descriptors := func() int {
		all, err := os.ReadDir("/proc/self/fd")
		if err != nil {
			t.Skip("this system does not say what is open")
		}
		return len(all)
	}
	at := func(second int) (heap uint64, open int) {
		for r.Snapshot().Elapsed < time.Duration(second)*time.Second && !r.Snapshot().Finished {
			time.Sleep(20 * time.Millisecond)
		}
		runtime.GC()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		return m.HeapAlloc, descriptors()
	}
	// In make test others run beside it, and what they have open and keep changes, too.
	heapBefore, before := at(2)
	heapAfter, after := at(1 + 240*cuts/1000)
	snap := r.Wait()
	ret := &snap.Total.Counts.Returns
	enough := int64(clients * cuts * 6 / 10) // who is not back yet when the next cut comes is not cut
	if snap.Total.Overloaded > 0 {
		enough = int64(clients) // a machine that is busy does not come to each of them
	}
	if tooFull(t, snap) {
		return
	}
	if snap.Err != nil || ret.Broke < enough || ret.Back+ret.NoTime != ret.Broke || ret.GaveUp != 0 {
		t.Errorf("%v %+v; %v", snap.Err, *ret, snap.Reasons)
	}
	if os.Getenv("SOAK") == "" {
		return
	}
	if after > before+10 || heapAfter > heapBefore+16<<20 {
		t.Errorf("%d breaks: %d files open and then %d; %d KB and then %d", ret.Broke, before, after, heapBefore>>10,
			heapAfter>>10)
	}
}
