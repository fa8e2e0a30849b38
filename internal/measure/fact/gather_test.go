package fact

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/ledger"
)

// TestGather: whatever comes, and whatever else is told in between, each client's facts keep their order and their
// times, nothing is lost or told twice, the log goes forward, no round is longer than a second, and most arrivals are
// told together.
func TestGather(t *testing.T) {
	type told struct {
		kind   Kind
		number uint64
		time   mono.Time
		sum    uint64
	}
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 1))
		var g Gatherer
		var log Log
		want, got := map[ledger.Client][]told{}, map[ledger.Client][]told{}
		saidAt := map[string]mono.Time{}
		now, clients, span := mono.Time(0), 2+r.IntN(60), mono.Time(1+r.IntN(50_000_000))
		for range 400 {
			now += mono.Time(r.Int64N(int64(span)))
			f := Fact{Kind: Gets, Client: ledger.Client(r.IntN(clients)), Number: uint64(r.IntN(8) * 3), Peer: 5,
				Room: 2, Size: 40, Time: now - mono.Time(r.IntN(1000))}
			switch r.IntN(40) {
			case 0:
				f.Sum = 9 // it came otherwise
			case 1:
				f.Since = f.Time - 5
			case 2:
				f.Flags = History
			case 3:
				f.Kind = IsGone
			case 4:
				g.End(&log)
			}
			if f.Kind == Gets {
				g.Gather(&log, &f, now)
			} else {
				g.Tell(&log, &f, now)
			}
			want[f.Client] = append(want[f.Client], told{f.Kind, f.Number, f.Time, f.Sum})
			saidAt[fmt.Sprint(f.Client, len(want[f.Client]))] = now
		}
		g.End(&log)
		last, together := mono.Time(0), 0
		for i := range log.Facts {
			f := &log.Facts[i]
			if f.At < last {
				t.Fatalf("seed %d: the log goes back", seed)
			}
			last = f.At
			one := func(c ledger.Client, at mono.Time, kind Kind) {
				got[c] = append(got[c], told{kind, f.Number, at, f.Sum})
				if was := saidAt[fmt.Sprint(c, len(got[c]))]; was > f.At || was/1e9 != f.At/1e9 {
					t.Fatalf("seed %d: told at %v, in a fact of %v", seed, was, f.At)
				}
			}
			if f.Kind != Reaches {
				one(f.Client, f.Time, f.Kind)
				continue
			}
			next, rest, ok := NextReached(log.TextOf(f), Reached{At: f.Time})
			for ; ok; next, rest, ok = NextReached(rest, next) {
				one(next.To, next.At, Gets)
				together++
			}
			if len(rest) > 0 || f.Client != BeforeAll {
				t.Fatalf("seed %d: %d bytes are left of %+v", seed, len(rest), *f)
			}
		}
		for c := range want {
			if !slices.Equal(want[c], got[c]) {
				t.Fatalf("seed %d, client %d:\n%v\n%v", seed, c, want[c], got[c])
			}
		}
		if together < 300 {
			t.Errorf("seed %d: %d of 400 were told together", seed, together)
		}
	}
}

// BenchmarkEncode tells arrivals one by one and together, for another process: a message comes to all of a room within
// a turn, 5 us from one client to the next, with digests.
func BenchmarkEncode(b *testing.B) {
	for _, room := range []int{20, 4000} {
		for _, together := range []bool{false, true} {
			b.Run(fmt.Sprintf("room of %d, together %v", room, together), func(b *testing.B) {
				var g Gatherer
				var batch Batch
				var code []byte
				now, sent, r := mono.Time(0), 0, rand.New(rand.NewPCG(1, 2))
				n := 0
				for ; b.Loop(); n++ {
					now += 5000
					f := Fact{Kind: Gets, Client: ledger.Client(n % 8000), Number: uint64(n / room), Peer: 77, Room: 3,
						Size: 120, Sum: uint64(n/room) * 0x9e3779b97f4a7c15,
						Time: now - mono.Time(r.IntN(40_000))}
					if together {
						g.Gather(&batch.Log, &f, now)
					} else {
						f.At = now
						batch.Add(f)
					}
					if n%500 == 499 {
						g.End(&batch.Log)
						code = AppendBatch(code[:0], &batch)
						sent += len(code)
						if _, err := ParseBatch(code); err != nil {
							b.Fatal(err)
						}
						batch.Clear()
					}
				}
				b.ReportMetric(float64(sent)/float64(n), "B/delivery")
			})
		}
	}
}
