package engine

import (
	"cmp"
	"slices"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/trial"
)

// A tideGroup is the crews that follow one tide: those without a tide of their own
// together, each other one alone.
type tideGroup struct {
	tide    trial.Tide
	order   []int32 // in which its clients set out
	started int     // how many were sent out, and
	ebbed   int     // to close, counted on for ever
	// witnesses is how many stay when it falls to nothing, to see the others go
	witnesses int
	// behind is since when more are to set out than may in one step; 0: they are not
	behind mono.Time
}

func tideGroups(t *trial.Trial) []tideGroup {
	var all []tideGroup
	shared := map[int]bool{}
	for i, c := range t.Crews {
		if len(c.Tide.Legs) == 0 {
			shared[i] = true
			continue
		}
		all = append(all, tideGroup{tide: c.Tide, order: interleave(t.Crews, map[int]bool{i: true})})
	}
	if len(shared) > 0 {
		all = append(all, tideGroup{tide: t.Tide, order: interleave(t.Crews, shared)})
	}
	for i := range all {
		all[i].witnesses = t.Witnesses(all[i].tide, len(all[i].order))
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

// planned is how many clients of a group there should be.
func (s *share) planned(b *tideGroup, at mono.Time) int {
	if s.stopped.Load() {
		return 0
	}
	since, n := s.since(at), len(b.order)
	if since >= b.tide.Falls() && since < b.tide.Length()+s.trial.Stays() {
		return max(b.tide.Clients(since, n), b.witnesses)
	}
	return b.tide.Clients(since, n)
}

const (
	// tideStep is how often the tide is looked at, and fineStep while more clients are
	// to set out than may in one step.
	tideStep = 5 * time.Millisecond
	fineStep = time.Millisecond
	// startsPerStep bounds the clients of a group that set out in one step: connecting
	// takes the kernel a while, and what arrives in the meantime is to be read.
	startsPerStep = 32
)

// followTide sends clients out, or in, as the tides want. Which client does when
// follows from the tide alone: each share goes through the steps of all, and moves its
// own clients.
func (s *share) followTide(now mono.Time) {
	s.startLate(now)
	if s.stopped.Load() {
		s.grid = min(s.grid, now)
	}
	for started := 0; s.grid <= now && started < startsPerStep; {
		behind := false
		for i := range s.tideGroups {
			b := &s.tideGroups[i]
			started += s.step(b, now)
			behind = behind || b.started-b.ebbed < s.planned(b, s.grid)
		}
		if behind {
			s.grid = s.grid.Add(fineStep)
		} else {
			s.grid = s.start.Add((s.since(s.grid)/tideStep + 1) * tideStep)
		}
	}
}

// step takes a group through one step of its tide, and returns how many of the share's
// clients set out.
func (s *share) step(b *tideGroup, now mono.Time) (started int) {
	want := s.planned(b, s.grid)
	if b.behind == 0 && want-(b.started-b.ebbed) > startsPerStep {
		b.behind = max(1, s.grid)
	}
	due, together := s.grid, b.behind != 0
	if together {
		due = b.behind
	}
	for n := 0; n < startsPerStep && b.started-b.ebbed < want; n++ {
		if id := b.order[b.started%len(b.order)]; s.mine(id) {
			s.late = append(s.late, lateStart{id, due, together})
			started++
		}
		b.started++
	}
	if b.started-b.ebbed >= want {
		b.behind = 0
	}
	s.startLate(now)
	for b.started-b.ebbed > want {
		s.env.Fell = max(s.env.Fell, s.grid)
		if id := b.order[b.ebbed%len(b.order)]; s.mine(id) {
			s.plans(-1, now)
			if i := slices.IndexFunc(s.late, func(l lateStart) bool { return l.id == id }); i >= 0 {
				s.setsOut(&s.late[i], now) // by now it would have
				s.late = slices.Delete(s.late, i, i+1)
			} else {
				s.before(s.local(id), s.grid)
				s.clients[s.local(id)].Ebb(s.env, now)
				s.after(s.local(id))
			}
		}
		b.ebbed++
	}
	return started
}

// startLate sends those out that should have set out: one that is still closing does so
// once it has closed.
func (s *share) startLate(now mono.Time) {
	s.late = slices.DeleteFunc(s.late, func(l lateStart) bool {
		i := s.local(l.id)
		if !s.clients[i].Idle() {
			return false
		}
		s.setsOut(&l, now)
		s.clients[i].Start(s.env, now)
		s.after(i)
		return true
	})
}
