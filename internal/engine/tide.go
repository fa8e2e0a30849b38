package engine

import (
	"cmp"
	"slices"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/trial"
)

// A basin is the crews that follow one tide: those without a tide of their own
// together, each other one alone.
type basin struct {
	tide    trial.Tide
	order   []int32 // in which its clients set out
	started int     // how many were sent out, and
	ebbed   int     // to close, counted on for ever
}

func basins(t *trial.Trial) []basin {
	var all []basin
	shared := map[int]bool{}
	for i, c := range t.Crews {
		if len(c.Tide.Legs) == 0 {
			shared[i] = true
			continue
		}
		all = append(all, basin{tide: c.Tide, order: interleave(t.Crews, map[int]bool{i: true})})
	}
	if len(shared) > 0 {
		all = append(all, basin{tide: t.Tide, order: interleave(t.Crews, shared)})
	}
	return all
}

// interleave gives an order in which some of the crews set out side by side,
// each in its share.
func interleave(crews []trial.Crew, which map[int]bool) []int32 {
	type place struct {
		share  float64
		client int32
	}
	var all []place
	next := int32(0)
	for i, c := range crews {
		for n := range c.Clients {
			if which[i] {
				all = append(all, place{(float64(n) + 0.5) / float64(c.Clients), next})
			}
			next++
		}
	}
	slices.SortStableFunc(all, func(a, b place) int { return cmp.Compare(a.share, b.share) })
	order := make([]int32, len(all))
	for i, p := range all {
		order[i] = p.client
	}
	return order
}

// planned is how many clients of a basin there should be.
func (l *Loop) planned(b *basin, now mono.Time) int {
	if l.stopped {
		return 0
	}
	return b.tide.Clients(now.Sub(l.start), len(b.order))
}

// allPlanned is how many clients there should be.
func (l *Loop) allPlanned(now mono.Time) (n int) {
	for i := range l.basins {
		n += l.planned(&l.basins[i], now)
	}
	return n
}

// behind reports whether more clients are to set out.
func (l *Loop) behind(now mono.Time) bool {
	for i := range l.basins {
		if b := &l.basins[i]; b.started-b.ebbed < l.planned(b, now) {
			return true
		}
	}
	return false
}

// followTide sends clients out, or in, as the tides want.
func (l *Loop) followTide(now mono.Time) {
	for i := range l.basins {
		b := &l.basins[i]
		want := l.planned(b, now)
		for n := 0; n < startsPerTurn && b.started-b.ebbed < want; n++ {
			id := b.order[b.started%len(b.order)]
			if !l.clients[id].Idle() {
				break // it is still closing
			}
			b.started++
			l.clients[id].Start(l.env, now)
			l.after(id)
		}
		for b.started-b.ebbed > want {
			id := b.order[b.ebbed%len(b.order)]
			b.ebbed++
			l.clients[id].Ebb(l.env, now)
			l.after(id)
		}
	}
}

// followed is how many clients of each crew have all that happens to them kept.
const followed = 3

// follow picks the clients whose whole lanes are kept: the first of each crew,
// up to the recorder's bound.
func (l *Loop) follow() {
	next := ledger.Client(0)
	for _, c := range l.cfg.Trial.Crews {
		for n := range min(followed, c.Clients) {
			l.env.Lanes.Follow(next + ledger.Client(n))
		}
		next += ledger.Client(c.Clients)
	}
}
