package run

import (
	"math/rand/v2"
	"reflect"
	"testing"
	"time"

	"tidepull/internal/engine/account"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/meter"
)

// TestCollectorSums: whatever changes from one report to the next, also at the last moment,
// what is summed up is the sum of all seconds as they stand.
func TestCollectorSums(t *testing.T) {
	for seed := range uint64(10) {
		random := rand.New(rand.NewPCG(seed, 1))
		c := NewCollector(nil, 0)
		var closed, open []*logbook.Entry
		changed := func(e logbook.Entry) *logbook.Entry {
			var h meter.Hist
			for range random.IntN(4) {
				h.Record(time.Duration(random.IntN(1000)) * time.Microsecond)
			}
			e.Counts.Sent, e.Times[logbook.ToConnect], e.Last = random.Int64N(9), h.Pack(), h.Pack()
			if random.IntN(4) == 0 {
				e.Health.Overload = logbook.LoopFull
			}
			return &e
		}
		for at := 0; at < 40; {
			r := account.Report{}
			for range random.IntN(3) {
				open = append(open, changed(logbook.Entry{At: at}))
				at++
			}
			for i := range open {
				if e := *open[i]; random.IntN(5) == 0 {
					open[i] = changed(e)
				} else {
					open[i] = &e // a copy that says the same
				}
			}
			n := 0
			if len(open) > 3 {
				n = random.IntN(len(open) - 1)
			}
			r.Closed, r.Open = open[:n:n], open[n:]
			open = append([]*logbook.Entry(nil), open[n:]...)
			closed = append(closed, r.Closed...)
			got, err := c.take(&r)
			if err != nil {
				t.Fatal(err)
			}
			want := newSums()
			if err := want.add(append(closed[:len(closed):len(closed)], r.Open...)...); err != nil {
				t.Fatal(err)
			}
			want = want.clone() // as the other was
			if !reflect.DeepEqual(got.total, want.total) || !reflect.DeepEqual(got.clean, want.clean) {
				t.Fatalf("seed %d, second %d: it sums up to %+v, not to %+v", seed, at, got.total.Counts,
					want.total.Counts)
			}
		}
	}
}
