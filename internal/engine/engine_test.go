package engine

import (
	"fmt"
	"math/rand/v2"
	"runtime"
	"slices"
	"testing"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/engine/machine"
	"tidepull/internal/engine/poll"
	"tidepull/internal/engine/pressure"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
)

// TestTimers moves random deadlines in the heap and compares the first with
// that of a plain search.
func TestTimers(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	for _, n := range []int{1, 2, 5, 64, 333} {
		h := newTimers(n)
		when := make([]mono.Time, n)
		for i := range when {
			when[i] = mono.Never
		}
		for step := range 5000 {
			c := int32(r.IntN(n))
			at := mono.Time(r.IntN(1000))
			if r.IntN(8) == 0 {
				at = mono.Never
			}
			h.set(c, at)
			when[c] = at
			first, deadline := h.first()
			least := mono.Never
			for _, w := range when {
				least = min(least, w)
			}
			if deadline != least || when[first] != least {
				t.Fatalf("%d clients, step %d: first is %d at %v, want %v", n, step, first, deadline, least)
			}
		}
		for last := mono.Time(-1); ; { // taken out one by one they come in order
			c, at := h.first()
			if at == mono.Never {
				break
			}
			if at < last {
				t.Fatalf("%v comes after %v", at, last)
			}
			last = at
			h.set(c, mono.Never)
		}
	}
	if _, at := newTimers(0).first(); at != mono.Never {
		t.Error("nobody has a deadline")
	}
}

// TestInterleave: at any point of the order each crew has its share, to within
// one client, and everybody is in it once.
func TestInterleave(t *testing.T) {
	crews := []trial.Crew{{Clients: 240}, {Clients: 136}, {Clients: 24}, {Clients: 1}}
	order := interleave(crews, map[int]bool{0: true, 1: true, 2: true, 3: true})
	crewOf := func(id int32) int {
		for i, c := range crews {
			if int(id) < c.Clients {
				return i
			}
			id -= int32(c.Clients)
		}
		return -1
	}
	seen, had := map[int32]bool{}, make([]int, len(crews))
	for i, id := range order {
		seen[id] = true
		had[crewOf(id)]++
		for k, c := range crews {
			fair := float64(c.Clients) * float64(i+1) / float64(len(order))
			if d := float64(had[k]) - fair; d < -1.6 || d > 1.6 {
				t.Fatalf("after %d clients crew %d has %d, its share is %.1f", i+1, k, had[k], fair)
			}
		}
	}
	if len(seen) != 401 {
		t.Errorf("%d clients in the order", len(seen))
	}
}

// TestConductor: nobody goes on before all are there who can still come; who is gone is
// not waited for; and a target that refuses everybody is given up.
func TestConductor(t *testing.T) {
	tr := &trial.Trial{
		Crews: []trial.Crew{{Clients: 3}, {Clients: 4, Groups: 2}},
		Tide:  trial.Tide{Legs: []trial.Leg{{To: 1, Over: time.Second}}},
		Barriers: []trial.Barrier{{Crews: []int{0}}, {Crews: []int{1}, Scope: trial.AmongGroup},
			{Crews: []int{0, 1}, Scope: trial.AmongCrew}},
	}
	c := newConductor(tr)
	var said []string
	tell := func(kind fact.NoteKind, client ledger.Client, which, by int32, want ...string) {
		t.Helper()
		said = said[:0]
		for _, n := range c.take(nil, &fact.Note{Kind: kind, Client: client, Which: which, By: by}) {
			said = append(said, fmt.Sprint(map[fact.NoteKind]string{fact.MayGo: "go", fact.CannotBe: "end"}[n.Kind],
				" ",
				n.Client, " ", n.Which))
		}
		if !slices.Equal(said, want) {
			t.Fatalf("it says %q, want %q", said, want)
		}
	}
	tell(fact.WaitsAt, 2, 0, 0)
	tell(fact.WaitsAt, 0, 0, 0)
	tell(fact.WaitsAt, 1, 0, 0, "go 2 0", "go 0 0", "go 1 0")
	tell(fact.WaitsAt, 1, 0, 0)
	tell(fact.Ended, 0, 0, 1)
	tell(fact.WaitsNot, 1, 0, 0)
	tell(fact.Ended, 2, 0, 1)
	tell(fact.WaitsAt, 1, 0, 0, "go 1 0")
	tell(fact.Ended, 2, 0, -1) // it is back
	tell(fact.WaitsAt, 1, 2, 0)
	tell(fact.Ended, 2, 0, 1, "go 1 2")
	tell(fact.WaitsAt, 3, 1, 0) // in groups of two: 3 and 4, 5 and 6
	tell(fact.WaitsAt, 6, 1, 0)
	tell(fact.WaitsAt, 4, 1, 0, "go 3 1", "go 4 1")
	tell(fact.Ended, 5, 0, 1, "go 6 1")
	tell(fact.ConnsFail, 0, 0, 6)
	tell(fact.ConnsFail, 1, 0, 1, "end 1 0")
	tell(fact.ConnsFail, 1, 0, 1)
	c = newConductor(tr)
	tell(fact.ConnOpen, 1, 0, 1)
	tell(fact.ConnsFail, 1, 0, 100)
}

// TestConductorAtHalfTide: nobody is waited for that the tide never sends out.
func TestConductorAtHalfTide(t *testing.T) {
	tr := &trial.Trial{
		Crews:    []trial.Crew{{Clients: 3}, {Clients: 5, Groups: 2}},
		Tide:     trial.Tide{Legs: []trial.Leg{{To: 0.5, Over: time.Second}}},
		Barriers: []trial.Barrier{{Crews: []int{0, 1}}, {Crews: []int{1}, Scope: trial.AmongGroup}},
	}
	c, order := newConductor(tr), tideGroups(tr)[0].order
	come := tr.Tide.Most(len(order))
	for i, id := range order[:come] {
		went := len(c.take(nil, &fact.Note{Kind: fact.WaitsAt, Client: id, Which: 0}))
		if want := []int{0, come}[max(0, i-come+2)]; went != want {
			t.Errorf("%d are there, and %d go on", i+1, went)
		}
	}
	went := 0
	for _, id := range order[:come] {
		if c.crews[id] == 1 {
			went += len(c.take(nil, &fact.Note{Kind: fact.WaitsAt, Client: id, Which: 1}))
		}
	}
	if went != c.expected[1] || c.expected[0]+c.expected[1] != come {
		t.Errorf("of groups that are not whole %d go on, %v are expected", went, c.expected)
	}
}

// TestSlot: what a share puts into its slot comes out once, and in order.
func TestSlot(t *testing.T) {
	s, done := slot{}, make(chan bool)
	const batches, size = 500, 100
	go func() {
		defer close(done)
		for i := range batches {
			batch := fact.Batch{UpTo: mono.Time(i), Ended: i == batches-1}
			for range size {
				batch.AddText(fact.Fact{Number: uint64(i)}, []byte(fmt.Sprint(i)))
			}
			if i%7 == 0 {
				batch.Part = &fact.Part{Tick: i, Closed: []*logbook.Entry{{At: i}}}
			}
			s.put(&batch)
			if len(batch.Facts) != 0 {
				t.Error("a batch that was put is not empty")
			}
		}
	}()
	var got fact.Batch
	facts, seconds := 0, []int{}
	for !got.Ended {
		if !s.take(&got) {
			runtime.Gosched()
			continue
		}
		for i := range got.Facts {
			if f := &got.Facts[i]; f.Number != uint64(facts/size) || string(got.TextOf(f)) != fmt.Sprint(facts/size) {
				t.Fatalf("fact %d is of batch %d, %q", facts, f.Number, got.TextOf(f))
			}
			facts++
		}
		if got.Part != nil {
			for _, e := range got.Part.Closed {
				seconds = append(seconds, e.At)
			}
		}
		got.Clear()
	}
	if <-done; facts != batches*size || len(seconds) != 72 || !slices.IsSorted(seconds) {
		t.Errorf("%d facts, seconds %v", facts, seconds)
	}
}

// still is a driver that stands still.
type still struct{ poll.Driver }

func (still) Now() mono.Time { return mono.Time(10 * time.Second) }

// TestCauseOf: a loop that stood still for a second had no core, had too much to do, or was stopped, by
// what the system says of it.
func TestCauseOf(t *testing.T) {
	const most, some = 600 * time.Millisecond, 400 * time.Millisecond // of a second
	for name, tc := range map[string]struct {
		use     machine.Use
		pressed pressure.Pressure
		want    logbook.Overload
	}{
		"it waited for a core":       {use: machine.Use{Waited: most}, want: logbook.NoCore},
		"it waited for less of it":   {use: machine.Use{Waited: some}, want: logbook.Stopped},
		"cores were stolen":          {use: machine.Use{Stolen: most}, want: logbook.NoCore},
		"it ran":                     {use: machine.Use{Thread: most}, want: logbook.LoopFull},
		"it was stopped":             {pressed: pressure.Pressure{Known: true, Stopped: true}, want: logbook.Stopped},
		"another thread had no core": {pressed: pressure.Pressure{Known: true}, want: logbook.NoCore},
		"nobody knows":               {want: logbook.Stopped},
	} {
		s := &share{drv: still{}, cfg: &Config{Use: func() machine.Use { return tc.use },
			Pressure: func(mono.Time, mono.Time) pressure.Pressure { return tc.pressed }}}
		if got := s.causeOf(time.Second, mono.Time(9*time.Second)); got != tc.want {
			t.Errorf("%s: %v, want %v", name, got.Words(), tc.want.Words())
		}
	}
}

// TestDoubtful: what did not happen within a second is the tool's or the machine's doing, perhaps, if one
// of them was late by more than a quarter of that, starved for half of it, or could do nothing.
func TestDoubtful(t *testing.T) {
	const quarter, half = 250 * time.Millisecond, 500 * time.Millisecond
	for name, tc := range map[string]struct {
		pressed pressure.Pressure
		lag     time.Duration
		mark    logbook.Overload
		want    bool
	}{
		"nothing":               {},
		"kept from a core":      {pressed: pressure.Pressure{Longest: quarter + 1}, want: true},
		"kept for a quarter":    {pressed: pressure.Pressure{Longest: quarter}},
		"starved":               {pressed: pressure.Pressure{Starved: half + 1}, want: true},
		"starved for half":      {pressed: pressure.Pressure{Starved: half}},
		"stood still":           {pressed: pressure.Pressure{Stood: quarter + 1}, want: true},
		"stood for a quarter":   {pressed: pressure.Pressure{Stood: quarter}},
		"read late":             {lag: 2 * quarter, want: true},
		"read a little late":    {lag: quarter / 2},
		"stopped":               {mark: logbook.Stopped, want: true},
		"busy, and not stopped": {mark: logbook.LoopFull},
	} {
		s := &share{drv: still{}, book: logbook.NewBook(0, 1), cfg: &Config{
			Pressure: func(mono.Time, mono.Time) pressure.Pressure { return tc.pressed }}}
		s.book.Advance(mono.Time(9500 * time.Millisecond))
		if tc.lag > 0 {
			s.book.Now().Times[logbook.ReadingLag].Record(tc.lag)
		}
		if tc.mark != 0 {
			s.mark(mono.Time(9100*time.Millisecond), mono.Time(9200*time.Millisecond), tc.mark)
		}
		if got := s.doubtful(mono.Time(9*time.Second), mono.Time(9500*time.Millisecond), time.Second); got != tc.want {
			t.Errorf("%s: %v", name, got)
		}
	}
	// What is longer ago than anything is kept for takes nothing away from what is.
	s := &share{drv: still{}, book: logbook.NewBook(0, 1), cfg: &Config{
		Pressure: func(mono.Time, mono.Time) (none pressure.Pressure) { return none }}}
	now := mono.Time(time.Duration(len(s.troubles)+2)*time.Second + half)
	s.book.Advance(now)
	s.mark(now.Add(-time.Second), now.Add(-time.Second), logbook.Stopped)
	if !s.doubtful(0, now, time.Second) {
		t.Error("it stood still a second ago")
	}
}
