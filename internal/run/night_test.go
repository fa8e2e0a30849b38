package run

import (
	"math/rand/v2"
	"runtime"
	"testing"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/engine/account"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/mark"
)

// TestNight: seconds that are old take next to nothing of the memory of new ones, and the sums are those of every
// second.
func TestNight(t *testing.T) {
	const seconds, rooms, clients = 14400, 8, 64
	r := rand.New(rand.NewPCG(1, 2))
	b := logbook.NewBook(0, 1)
	l := ledger.New(ledger.Config{Run: 1, Crews: 1, Prompt: time.Second, Grace: time.Second,
		Spread: func(s ledger.Spread) { b.Second(s.Sheet.Second).Spread(s) }})
	var room [rooms]ledger.Room
	for i := range room {
		room[i] = l.Room(string(rune('a' + i)))
	}
	for i := range clients {
		c := l.AddClient(0)
		l.Ask(c, room[i%rooms], 0)
		l.Enter(c, room[i%rooms], 0)
	}
	c := NewCollector(nil, 0)
	var snap *Snapshot
	owed := int64(0)
	heap := func() int64 {
		var m runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&m)
		return int64(m.HeapAlloc)
	}
	before, half := heap(), int64(0)
	for s := range seconds {
		now := mono.Time(s) * mono.Time(time.Second)
		b.Advance(now)
		l.Settle(now)
		page := b.At(now)
		for i := range 4 {
			n := l.Say(ledger.Say{Room: room[(s+i)%rooms], Sender: ledger.Client((s + i) % rooms), Due: now, Sent: now,
				Sheet: &page.Sheet})
			page.Counts.Sent++
			for to := (s + i) % rooms; to < clients; to += rooms {
				owed++
				latency := time.Duration(r.ExpFloat64() * 3e6)
				v := l.Arrive(ledger.Arrival{To: ledger.Client(to),
					Mark: mark.Mark{Run: 1, Room: uint32(room[(s+i)%rooms]), Number: n}, At: now.Add(latency),
					Sheet: &page.Sheet})
				page.Counts.Marked++
				b.Second(v.Sheet.Second).Delivery(0, v.Owed, v.Latency, v.Least)
				page.Times[logbook.ReadingLag].Record(latency / 10)
			}
		}
		if s%MergedTogether == MergedTogether-1 {
			closed, _ := b.Take(false)
			var err error
			if snap, err = c.Add(account.Report{Closed: closed}, nil); err != nil {
				t.Fatal(err)
			}
			if s+1 == KeptWhole {
				half = heap()
			}
		}
	}
	fresh, old := float64(half-before)/KeptWhole, float64(heap()-half)/(seconds-KeptWhole)
	t.Logf("a new second takes %.0f B, an old one %.0f B", fresh, old)
	if old > fresh/20 {
		t.Errorf("a new second takes %.0f B, an old one %.0f B", fresh, old)
	}
	if n := snap.Entries.Count(); len(snap.Entries) > KeptWhole+3*MergedTogether+seconds/MergedTogether ||
		n < seconds-60 ||
		snap.Total.Total.Delivered < owed-owed/100 ||
		snap.Total.Total.Delivered > owed {
		t.Errorf("%d seconds of %d, %d delivered of %d", n, seconds, snap.Total.Total.Delivered, owed)
	}
	runtime.KeepAlive(c)
}
