package engine

import (
	"cmp"
	"iter"
	"slices"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/client"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
	"tidepull/internal/wire/transport"
)

// A faultEdge is when a fault of the trial begins for the share's clients, or ends.
type faultEdge struct {
	at    time.Duration // since the start of the run
	fault *trial.Fault
	ends  *activeFault // nil: it begins
}

// An activeFault is one time that a fault happens to clients, while it does.
type activeFault struct {
	fault  *trial.Fault
	kernel bool    // it is the system that does it
	whom   []int32 // clients, by where they stand in the share
}

// faultEdges lists when the trial's faults that happen to clients begin.
func faultEdges(t *trial.Trial) (edges []faultEdge) {
	for _, m := range t.Moments(func(f *trial.Fault) bool { return !f.Do.AtServer() }) {
		edges = append(edges, faultEdge{at: m.At, fault: m.Fault})
	}
	return edges
}

// happen has the faults happen to the share's clients that are due: each share sees to
// its own.
func (s *share) happen(now mono.Time) {
	for len(s.faultEdges) > 0 && s.faultEdges[0].at <= s.since(now) && !s.stopped.Load() {
		t := s.faultEdges[0]
		s.faultEdges = s.faultEdges[1:]
		if t.ends != nil {
			s.endFault(t.ends, now)
		} else {
			s.begin(t.fault, t.at, now)
		}
	}
}

// begin has a fault begin for the clients that it is about, and end in time. A cut is over at
// once.
func (s *share) begin(f *trial.Fault, at time.Duration, now mono.Time) {
	if f.Do == trial.CutClients {
		s.cut(f)
		return
	}
	b := &activeFault{fault: f, kernel: s.byKernel(f)}
	for i := range s.clients {
		if s.meets(&f.Whom, int32(i)) {
			b.whom = append(b.whom, int32(i))
		}
	}
	s.activeFaults = append(s.activeFaults, b)
	s.change(b, now, true)
	if f.Lasts > 0 {
		s.addEdge(faultEdge{at: at + f.Lasts, fault: f, ends: b})
	}
}

// thrown is a fault that is made to happen by hand, or ended.
type thrown struct {
	fault *trial.Fault
	on    bool
}

// throw does what is ordered by hand.
func (s *share) throw(t thrown) {
	now, f := s.drv.Now(), t.fault
	s.env.Broken(f, t.on, time.Duration(s.since(now)))
	switch {
	case f.Do.AtServer(): // which is not the share's to do
	case t.on && s.stopped.Load(): // the clients close
	case t.on:
		s.begin(f, s.since(now), now)
	default:
		for _, b := range s.activeFaults {
			if b.fault == f {
				s.endFault(b, now)
				return
			}
		}
	}
}

// addEdge puts an edge among the others, in the order of time.
func (s *share) addEdge(t faultEdge) {
	s.faultEdges = append(s.faultEdges, t)
	slices.SortStableFunc(s.faultEdges, func(a, b faultEdge) int { return cmp.Compare(a.at, b.at) })
}

// meets reports whether a fault is about a client.
func (s *share) meets(w *trial.Whom, i int32) bool {
	c := &s.clients[i]
	n := int(c.ID())
	if w.Crew >= 0 { // of its crew, the share is exact
		n = c.InCrew()
	}
	return (w.Crew < 0 || c.Crew() == w.Crew) && (w.Node < 0 || c.Node(s.env) == w.Node) &&
		(w.Room == "" || c.IsIn(s.env, w.Room)) && trial.InShare(w.Share, n)
}

// cut breaks the connections of the clients that a fault is about.
func (s *share) cut(f *trial.Fault) {
	for i := range s.clients {
		if c := &s.clients[i]; s.meets(&f.Whom, int32(i)) {
			c.CutOff(s.env, s.drv.Now(), f.Name, f.Lasts, f.Reset)
			s.after(int32(i))
		}
	}
}

func (s *share) endFault(b *activeFault, now mono.Time) {
	n := len(s.activeFaults)
	if s.activeFaults = slices.DeleteFunc(s.activeFaults,
		func(o *activeFault) bool { return o == b }); len(s.activeFaults) < n {
		s.change(b, now, false)
	}
}

// change has a fault begin or end for its clients. What then applies to each of them follows from
// the faults that go on, and not from this one: several may be about the same client.
func (s *share) change(b *activeFault, now mono.Time, on bool) {
	f := b.fault
	lossy := b.kernel && (f.Do.Datagrams() || f.Do == trial.Corrupt) && s.trial.Target.HasDatagrams()
	for _, i := range b.whom {
		s.clients[i].Impaired(s.env, now, f, on, s.hampersOf(i))
		if lossy {
			s.clients[i].Lossy(s.env, now, f.Up, f.Down, on)
		}
		s.after(i)
		s.effects[i] = s.effectsOn(i, false)
		unplugged := s.unplugged(i) || s.clients[i].UnplugsItself()
		for line := range int32(2 * transport.NumLines) {
			id := s.lineID(i, int(line))
			if f.Do == trial.Unplug {
				s.drv.Unplug(id, unplugged)
			}
			if s.path != nil {
				s.path.Changed(id)
			}
			if s.kernel != nil {
				s.kernel.Changed(id)
			}
		}
	}
}

// faultsOn gives the faults that go on and are about a client.
func (s *share) faultsOn(i int32) iter.Seq[*activeFault] {
	return func(yield func(*activeFault) bool) {
		for _, b := range s.activeFaults {
			if _, is := slices.BinarySearch(b.whom, i); is && !yield(b) {
				return
			}
		}
	}
}

// hampersOf says what the faults that go on mean for what a client says and hears.
func (s *share) hampersOf(i int32) (h client.Hampered) {
	for b := range s.faultsOn(i) {
		by := b.fault.Hampers()
		by.Resends = by.Resends || b.kernel
		h.Add(by)
		h.Faults++
	}
	return h
}

// unplugged reports whether a fault that goes on unplugs a client.
func (s *share) unplugged(i int32) bool {
	for b := range s.faultsOn(i) {
		if b.fault.Do == trial.Unplug {
			return true
		}
	}
	return false
}

// byKernel reports whether it is the system that does what a fault does.
func (s *share) byKernel(f *trial.Fault) bool {
	if s.kernel == nil || !f.Do.ByKernel() {
		return false
	}
	effects := f.Effects()
	return s.kernel.Does(&effects)
}

// effectsOn is what the path of a client does at the moment, or what of it the system does; nil:
// nothing.
func (s *share) effectsOn(i int32, kernel bool) (e *trial.Effects) {
	for b := range s.faultsOn(i) {
		if b.kernel == kernel {
			if e == nil {
				e = &trial.Effects{}
			}
			effects := b.fault.Effects()
			e.Add(&effects)
		}
	}
	return e
}

// onPath gives who is to hear what the path did with a datagram of a client.
func (s *share) onPath(tell func(c *client.Client, e *client.Env, now mono.Time, up bool, b []byte)) func(int32, bool,
	[]byte) {
	return func(id int32, up bool, b []byte) {
		i, _ := s.lineOf(id)
		tell(&s.clients[i], s.env, s.drv.Now(), up, b)
	}
}

// countPath books what the path did since it was last asked.
func (s *share) countPath() {
	if s.path == nil {
		return
	}
	page := s.book.Now()
	page.Counts.Path.Add(&s.path.Counts)
	page.Health.Path += s.path.Spent
	s.path.Counts, s.path.Spent = logbook.PathCounts{}, 0
}
