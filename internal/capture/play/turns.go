package play

import (
	"cmp"
	"context"
	"slices"
	"sync"
	"time"

	"tidepull/internal/capture/replay"
)

// turns has one copy of the recorded clients do what they do in the order of the
// recording: before each deed all earlier ones are done, and every client has heard what
// had come to it by then, or has given up on it. So what waited for another client waits
// for it again, and what one client does not get delays the others, and makes nothing
// different for them.
type turns struct {
	deeds  []replay.Deed
	number map[*replay.Actor]map[int]int // of an actor's step among the deeds

	mu      sync.Mutex // guards all below
	done    []bool
	deaf    []int // how many clients have still to hear something before a deed
	first   int   // all before it are done
	last    time.Time
	vain    time.Duration // for which clients waited in vain
	changed chan struct{} // closed when anything changes
}

// newTurns makes the turns of a copy. hears gives, for each client, the deeds before which
// it has heard something since the one before.
func newTurns(deeds []replay.Deed, hears map[*replay.Actor][]int) *turns {
	t := &turns{deeds: deeds, number: map[*replay.Actor]map[int]int{}, done: make([]bool, len(deeds)),
		deaf: make([]int, len(deeds)), last: time.Now(), changed: make(chan struct{})}
	for i, d := range deeds {
		if t.number[d.Actor] == nil {
			t.number[d.Actor] = map[int]int{}
		}
		t.number[d.Actor][d.Step] = i
	}
	for _, before := range hears {
		for _, n := range before {
			t.deaf[n]++
		}
	}
	return t
}

// hearings gives, for each client, the deeds of others before which it has to have heard
// something.
func hearings(p *replay.Plan, deeds []replay.Deed) map[*replay.Actor][]int {
	all := map[*replay.Actor][]int{}
	for _, a := range p.Actors {
		last := -1
		for _, m := range moments(a) {
			if m.step.Do != replay.Hear && !m.answer {
				continue
			}
			n := (&turns{deeds: deeds}).before(m.at)
			if n < len(deeds) && n != last && deeds[n].Actor != a {
				all[a] = append(all[a], n)
				last = n
			}
		}
	}
	return all
}

// wait waits until all deeds before one are done and, if heard is set, everybody has heard
// what comes before it.
func (t *turns) wait(ctx context.Context, n int, heard bool, listen func(<-chan struct{})) {
	for ctx.Err() == nil {
		t.mu.Lock()
		ready, changed := t.first >= n && (!heard || n == len(t.deaf) || t.deaf[n] <= 0), t.changed
		t.mu.Unlock()
		if ready {
			return
		}
		listen(changed)
	}
}

// begins books that something is being done: what comes of it may come before it is booked
// as done.
func (t *turns) begins(at time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.last = at
}

// did books that a deed is done.
func (t *turns) did(n int, at time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.last = at
	t.mark(n)
	t.tell()
}

// hears books that a client has heard what comes before a deed.
func (t *turns) hears(n int) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.deaf[n]--
	t.tell()
}

// gaveUp books that a client does nothing more, from one of its steps on, and has still to
// hear nothing.
func (t *turns) gaveUp(a *replay.Actor, from int, hearings []int) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for step, n := range t.number[a] {
		if step >= from {
			t.mark(n)
		}
	}
	for _, n := range hearings {
		t.deaf[n]--
	}
	t.tell()
}

// mark marks a deed as done; t.mu is held.
func (t *turns) mark(n int) {
	t.done[n] = true
	for t.first < len(t.done) && t.done[t.first] {
		t.first++
	}
}

// tell wakes those that wait; t.mu is held.
func (t *turns) tell() {
	close(t.changed)
	t.changed = make(chan struct{})
}

// waited books that a client waited in vain for something.
func (t *turns) waited(in time.Duration) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.vain += in
}

// inVain is for how long clients waited in vain: what the server does by the clock may be
// later by that, beside what clients do.
func (t *turns) inVain() time.Duration {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.vain
}

// lastDid is when any client last did something.
func (t *turns) lastDid() time.Time {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.last
}

// before is how many deeds there were before an instant of the recording.
func (t *turns) before(at time.Duration) int {
	n, _ := slices.BinarySearchFunc(t.deeds, at, func(d replay.Deed, at time.Duration) int {
		return cmp.Compare(d.At, at)
	})
	return n
}

// lastBy is when, in the recording, the last deed up to an instant was; 0 if there was none.
func (t *turns) lastBy(at time.Duration) time.Duration {
	n := t.before(at + 1)
	if n == 0 {
		return 0
	}
	return t.deeds[n-1].At
}
