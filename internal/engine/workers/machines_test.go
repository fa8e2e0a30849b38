package workers

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
)

// TestDeal: clients are dealt out so that no machine has more than it can carry, nor more processes, and each has
// some if it can; who cannot carry all is told so.
func TestDeal(t *testing.T) {
	dealt := 0
	for seed := range uint64(2000) {
		r := rand.New(rand.NewPCG(seed, 9))
		machines, can := make([]Offer, 1+r.IntN(5)), 0
		for i := range machines {
			machines[i] = Offer{Name: fmt.Sprint(i), Clients: r.IntN(20_000), Workers: 1 + r.IntN(8)}
			can += machines[i].Clients
		}
		clients := 1 + r.IntN(40_000)
		all, err := Deal(clients, machines, 64)
		if can < clients {
			if err == nil || !strings.Contains(err.Error(), "let more machines join") {
				t.Errorf("seed %d: %v", seed, err)
			}
			continue
		}
		if err != nil { // they may have too few processes, or be of too different sizes
			continue
		}
		dealt++
		workers := 0
		for _, s := range all {
			workers += s.Workers
		}
		each := (clients + workers - 1) / workers
		for _, s := range all {
			if s.Workers < 1 || s.Workers > s.Machine.Workers || s.Workers*each > s.Machine.Clients {
				t.Errorf("seed %d: %d workers with %d clients each on %+v", seed, s.Workers, each, s.Machine)
			}
		}
	}
	if dealt < 600 {
		t.Errorf("only %d of 2000 could be dealt out", dealt)
	}
	two, err := Deal(60, []Offer{{Name: "large", Clients: 30_000, Workers: 8}, {Name: "small", Clients: 40,
		Workers: 1}}, 64)
	if err != nil || len(two) != 2 || two[0].Workers != 1 || two[1].Workers != 1 {
		t.Errorf("two machines: %+v, %v", two, err)
	}
	// A small one that cannot carry an equal part is left out if the others have enough.
	two, err = Deal(20_000, []Offer{{Name: "large", Clients: 30_000, Workers: 8}, {Name: "small", Clients: 40,
		Workers: 1}}, 64)
	if err != nil || len(two) != 1 || two[0].Machine.Name != "large" {
		t.Errorf("a large and a small machine: %+v, %v", two, err)
	}
}
