package account

import (
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
)

// TestApart: clients on two machines, whose clocks are off by more than a message takes, against a server that does all
// as it should, or loses some for certain. It is blamed for nothing that it did not do, and the truth lies between the
// two ends of each figure of latencies.
func TestApart(t *testing.T) {
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 4))
		const off = 300 * time.Microsecond
		some := func(most int) mono.Time { return mono.Time(r.IntN(most)) }
		wrong := [2]time.Duration{time.Duration(some(int(2*off))) - off, time.Duration(some(int(2*off))) - off}
		way := func() mono.Time { return 1000 + some(40_000) }
		const clients = 8
		type told struct {
			true mono.Time
			f    fact.Fact
		}
		var all [2][]told // by machine
		tell := func(at mono.Time, f fact.Fact) {
			m := int(f.Client) % 2
			f.At = at.Add(wrong[m])
			if f.Time != 0 {
				f.Time = f.Time.Add(wrong[m])
			}
			all[m] = append(all[m], told{at, f})
		}
		// Each client is in the room for a while, again and again; the server knows from when to when.
		var inside [clients][]mono.Span
		var down [clients]mono.Time // what comes to a client takes, so that all comes in its order
		for c := range inside {
			tell := func(at mono.Time, kind fact.Kind) {
				tell(at, fact.Fact{Kind: kind, Client: ledger.Client(c),
					Room: 1})
			}
			down[c] = way()
			for now := ms + some(1_000_000); now < 80*ms; now += some(2_000_000) {
				tell(now, fact.Asks)
				now += way()
				in := now
				now += down[c]
				tell(now, fact.Enters)
				now += ms + some(20_000_000)
				tell(now, fact.Quits)
				now += way()
				inside[c] = append(inside[c], mono.Span{From: in, To: now})
				now += down[c]
				tell(now, fact.IsOut)
			}
		}
		times := make([]mono.Time, 200)
		for i := range times {
			times[i] = 2*ms + some(76_000_000)
		}
		slices.Sort(times)
		var said [2]uint64
		var latencies []time.Duration
		lost := int64(0)
		for _, at := range times {
			from := r.IntN(clients)
			number := ledger.Number(said[from%2], from%2, 2)
			said[from%2]++
			tell(at, fact.Fact{Kind: fact.Says, Client: ledger.Client(from), Peer: -1, Room: 1, Number: number,
				Time: at,
				What: uint8(ledger.ToRoom)})
			relayed := at + way()
			for c := range inside {
				sure := false
				switch is := slices.ContainsFunc(inside[c], func(s mono.Span) bool {
					sure = sure || s.From+2*ms <= at && at+6*ms < s.To
					return s.From <= relayed && relayed < s.To
				}); {
				case !is:
				case seed%2 == 1 && sure && r.IntN(20) == 0:
					lost++
				default:
					comes := relayed + down[c]
					tell(comes, fact.Fact{Kind: fact.Gets, Client: ledger.Client(c), Peer: ledger.Client(from),
						Room: 1, Number: number, Time: comes})
					if sure {
						latencies = append(latencies, comes.Sub(at))
					}
				}
			}
		}
		a := New(Config{Trial: &trial.Trial{Prompt: 3 * time.Millisecond, Grace: 4 * time.Millisecond,
			Crews: []trial.Crew{{Clients: clients}}, Tide: trial.Tide{Legs: []trial.Leg{{To: 1, Over: time.Minute}}}},
			Run: 3, Shares: 2, Machines: []int{0, 1}, Names: make([]string, clients),
			Sharers: func(ledger.Client) []ledger.Client { return nil }})
		for m := range all {
			slices.SortStableFunc(all[m], func(x, y told) int { return int(x.true - y.true) })
			first := fact.Batch{Off: off}
			first.AddText(fact.Fact{Kind: fact.NamesRoom, Room: 1}, []byte("lock-1"))
			a.Take(m, &first)
		}
		for upTo := mono.Time(0); upTo < 300*ms; upTo += some(3_000_000) {
			for m := range all {
				b := fact.Batch{UpTo: upTo, Off: off}
				for ; len(all[m]) > 0 && all[m][0].f.At < upTo; all[m] = all[m][1:] {
					b.Add(all[m][0].f)
				}
				b.Add(fact.Fact{Kind: fact.Caught, Client: fact.AfterAll, At: max(0, upTo-1), Time: upTo, Since: upTo})
				a.Take(m, &b)
			}
			if err := a.Work(); err != nil {
				t.Fatalf("seed %d: %v", seed, err)
			}
		}
		closed, open := a.book.Take(true)
		sum, err := logbook.Sum(append(closed, open...), nil)
		if err != nil {
			t.Fatal(err)
		}
		got := sum.Total
		if sum.Foreign+got.Stray+got.Duplicate+got.Overdue != 0 || got.Lost != lost || got.Owed < 200 ||
			a.apart.waiting+len(a.apart.putOff)+len(a.apart.ofClient)+len(a.apart.early)+len(a.apart.unsaid) != 0 {
			t.Fatalf("seed %d, clocks off by %v: %d lost of %d, %d foreign, %+v", seed, wrong, got.Lost, lost,
				sum.Foreign,
				got)
		}
		slices.Sort(latencies)
		for _, q := range []float64{0.05, 0.2, 0.4} {
			most, truth := sum.Fanout().Quantile(q), latencies[int(q*float64(len(latencies)-1))]
			if truth > most+5*time.Microsecond {
				t.Errorf("seed %d, clocks off by %v: of %.2f it is %v, said to be up to %v", seed, wrong, q, truth,
					most)
			}
		}
		for name, q := range map[string]float64{"fanout.p50": 0.5, "fanout.p90": 0.9, "fanout.p99": 0.99} {
			f := logbook.FigureNamed(name)
			most, _ := f.Of(sum)
			least, truth := f.Early(sum), logbook.Micros(latencies[int(q*float64(len(latencies)-1))])
			// The truth is of somewhat fewer deliveries: those that are owed for certain.
			if truth < least-5 || truth > most+5 || most-least > 4*logbook.Micros(off) {
				t.Errorf("seed %d, clocks off by %v: %s is %.1f us, said to be from %.1f to %.1f", seed, wrong,
					name, truth,
					least, most)
			}
		}
	}
}
