package play

import (
	"cmp"
	"context"
	"slices"
	"sync"
	"time"

	"tidepull/internal/capture/replay"
)

// An order is that in which the recorded clients did things, for all copies of them.
type order struct {
	deeds    []replay.Deed
	number   map[*replay.Actor]map[int]int // of an actor's step among the deeds
	hearings map[*replay.Actor][]int       // the deeds of others before which it has heard something
	deaf     []int32                       // how many clients have to hear something before a deed
}

func newOrder(p *replay.Plan) *order {
	o := &order{deeds: p.Deeds(), number: map[*replay.Actor]map[int]int{}, hearings: map[*replay.Actor][]int{}}
	o.deaf = make([]int32, len(o.deeds))
	for i, d := range o.deeds {
		if o.number[d.Actor] == nil {
			o.number[d.Actor] = map[int]int{}
		}
		o.number[d.Actor][d.Step] = i
	}
	for _, a := range p.Actors {
		last := -1
		for _, m := range a.Moments() {
			if m.Step.Do != replay.Hear && !m.Answer {
				continue
			}
			n := o.before(m.At)
			if n < len(o.deeds) && n != last && o.deeds[n].Actor != a {
				o.hearings[a] = append(o.hearings[a], n)
				o.deaf[n]++
				last = n
			}
		}
	}
	return o
}

// before is how many deeds there were before an instant of the recording.
func (o *order) before(at time.Duration) int {
	n, _ := slices.BinarySearchFunc(o.deeds, at, func(d replay.Deed, at time.Duration) int {
		return cmp.Compare(d.At, at)
	})
	return n
}

// lastBy is when, in the recording, the last deed up to an instant was; 0 if there was none.
func (o *order) lastBy(at time.Duration) time.Duration {
	n := o.before(at + 1)
	if n == 0 {
		return 0
	}
	return o.deeds[n-1].At
}

// turns has one copy of the recorded clients do what they do in the order of the
// recording: before each deed all earlier ones are done, and every client has heard what
// had come to it by then, or has given up on it. So what waited for another client waits
// for it again, and what one client does not get delays the others, and makes nothing
// different for them.
type turns struct {
	*order

	mu      sync.Mutex // guards all below
	done    []bool
	deaf    []int32 // how many clients have still to hear something before a deed
	first   int     // all before it are done
	last    time.Time
	vain    time.Duration  // for which clients waited for what did not come
	shared  map[int]string // by guess: what one client was given, and others say
	changed chan struct{}  // closed when anything changes
}

func newTurns(o *order) *turns {
	return &turns{order: o, done: make([]bool, len(o.deeds)), deaf: slices.Clone(o.deaf), last: time.Now(),
		shared: map[int]string{}, changed: make(chan struct{})}
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

// waited books that a client waited for something that did not come.
func (t *turns) waited(in time.Duration) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.vain += in
}

// inVain is for how long clients waited for what did not come: what the server does by the clock may be
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

// gives books what a client was given that others say.
func (t *turns) gives(guess int, value string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.shared[guess] = value
}

// given is what a client was given that others say; "" if it was not yet.
func (t *turns) given(guess int) string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.shared[guess]
}
