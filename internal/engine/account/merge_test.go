package account

import (
	"fmt"
	"testing"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/trial"
)

// BenchmarkShares is a delivery among clients in one room, dealt out to shares so that each delivery is another share's
// than the one before; told one by one, and together with those of the same message.
func BenchmarkShares(b *testing.B) {
	for _, shares := range []int{1, 4, 16} {
		b.Run(fmt.Sprint(shares), func(b *testing.B) { benchmarkShares(b, shares, false) })
		b.Run(fmt.Sprint(shares, " together"), func(b *testing.B) { benchmarkShares(b, shares, true) })
	}
}

func benchmarkShares(b *testing.B, shares int, together bool) {
	const clients = 4096
	tr := &trial.Trial{Prompt: 50 * time.Millisecond, Grace: 100 * time.Millisecond,
		Crews: []trial.Crew{{Clients: clients}},
		Tide:  trial.Tide{Legs: []trial.Leg{{To: 1, Over: time.Hour}}}}
	a := New(Config{Trial: tr, Run: 3, Shares: shares, Names: make([]string, clients),
		Sharers: func(ledger.Client) []ledger.Client { return nil }})
	all := make([]fact.Batch, shares)
	for i := range all {
		all[i].AddText(fact.Fact{Kind: fact.NamesRoom, Room: 1}, []byte("quay"))
	}
	for c := range int32(clients) {
		to := &all[int(c)%shares]
		to.Add(fact.Fact{Kind: fact.Asks, Client: c, Room: 1})
		to.Add(fact.Fact{Kind: fact.Enters, Client: c, Room: 1})
	}
	now, gatherers := ms, make([]fact.Gatherer, shares)
	work := func() {
		for i := range all {
			gatherers[i].End(&all[i].Log)
			all[i].UpTo = now
			all[i].Add(fact.Fact{Kind: fact.Caught, Client: fact.AfterAll, At: now - 1, Time: now, Since: now})
			a.Take(i, &all[i])
		}
		if err := a.Work(); err != nil {
			b.Fatal(err)
		}
	}
	work()
	number := uint64(0)
	for n := 0; b.Loop(); n++ {
		if n%clients == 0 {
			if n > 0 {
				work()
			}
			all[0].Add(fact.Fact{Kind: fact.Says, Client: 0, Peer: -1, Room: 1, Number: number, At: now,
				Time: now})
			number += uint64(shares)
		}
		c := int32(n % clients)
		now += mono.Time(time.Microsecond)
		to, f := int(c)%shares, fact.Fact{Kind: fact.Gets, Client: c, Number: number - uint64(shares), Room: 1, At: now,
			Time: now, Size: 100}
		if together {
			gatherers[to].Gather(&all[to].Log, &f, now)
		} else {
			all[to].Add(f)
		}
	}
}
