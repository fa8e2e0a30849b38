package logbook

import (
	"slices"
	"time"
)

// PulseSlots is into how many parts the promised interval is cut, to see whether all
// clients get their heartbeats in one burst.
const PulseSlots = 20

// PulseCounts are the heartbeats of one second, if the trial says what the server promised.
type PulseCounts struct {
	Heard     int64 // heartbeats of the server
	Early     int64 // of them: sooner after the one before than was promised
	Late      int64 // of them: later
	Missing   int64 // that should have come and did not
	Asked     int64 // heartbeats of clients that the server is to answer
	Answered  int64 // of them
	Unheard   int64 // of them: not answered when the next was due
	Misbehave int64 // clients that began to misbehave on purpose
	Evicted   int64 // of them: the server closed the connection
	TooLate   int64 // of them: after the deadline
	Kept      int64 // clients that should have been closed, and were not by the deadline
	Hasty     int64 // clients closed by the server that gave all the signs of life they owed
	// The intervals in which none is missing, in microseconds, and how long as many should
	// have been: the drift is in their ratio.
	Took, Promised int64
	// Slots is when in the promised interval heartbeats came, counted from the start of the
	// run; Cycle how many seconds it is long, rounded up.
	Slots [PulseSlots]int64
	Cycle int64
}

// Beat books a heartbeat of the server that came at a time since the start of the run, with
// the interval that was promised.
func (c *PulseCounts) Beat(at, every time.Duration) {
	c.Heard++
	c.Slots[int64(at%every)*PulseSlots/int64(every)%PulseSlots]++
	c.Cycle = int64((every + time.Second - 1) / time.Second)
}

// A bunch finds out what part of the heartbeats come in the fullest part of each interval. It
// is fed second by second.
type bunch struct {
	cycle          int64
	slots          [PulseSlots]int64
	full, all, had int64
}

func (b *bunch) add(e *Entry) {
	c := &e.Counts.Pulse
	if c.Cycle == 0 {
		return
	}
	if cycle := int64(e.At) / c.Cycle; cycle != b.cycle {
		b.fold()
		b.cycle = cycle
	}
	for i, n := range c.Slots {
		b.slots[i] += n
	}
}

func (b *bunch) fold() {
	for _, n := range b.slots {
		b.all += n
	}
	if most := slices.Max(b.slots[:]); most > 0 {
		b.full += most
		b.had++
	}
	b.slots = [PulseSlots]int64{}
}

// enoughBeats is how many heartbeats an interval must have at least, on average, for their
// bunching to be more than chance.
const enoughBeats = 40

// Bunched is what part of the server's heartbeats come in the fullest twentieth of the
// promised interval, from 0.05 if they are spread evenly to 1 if all come at once; false if
// there are too few to say.
func (w *Window) Bunched() (float64, bool) {
	b := w.bunch
	b.fold()
	if b.had == 0 || b.all < enoughBeats*b.had {
		return 0, false
	}
	return float64(b.full) / float64(b.all), true
}

// Drift is by how many percent the server's intervals are longer than promised, on average;
// below 0: shorter. It is false if there was none.
func (w *Window) Drift() (float64, bool) {
	c := &w.Counts.Pulse
	if c.Promised == 0 {
		return 0, false
	}
	return 100 * (float64(c.Took)/float64(c.Promised) - 1), true
}

// pulseFigures are the figures of heartbeats.
func pulseFigures(add func(name string, unit Unit, doc string, of func(*Window) float64) *Figure) {
	add("pulse.too_often", Count, "heartbeats of the server that came sooner than was promised, if that is more "+
		"than one "+
		"in twenty", func(w *Window) float64 {
		if c := &w.Counts.Pulse; 20*c.Early > c.Heard {
			return float64(c.Early)
		}
		return 0
	}).some = func(w *Window) bool { return w.Counts.Pulse.some() }
	for _, f := range []struct {
		name, doc string
		of        func(*PulseCounts) int64
	}{
		{"heard", "heartbeats of the server", func(c *PulseCounts) int64 { return c.Heard }},
		{"early", "heartbeats of the server that came sooner after the one before than was promised",
			func(c *PulseCounts) int64 { return c.Early }},
		{"late", "heartbeats of the server that came later", func(c *PulseCounts) int64 { return c.Late }},
		{"missing", "heartbeats of the server that did not come", func(c *PulseCounts) int64 { return c.Missing }},
		{"asked", "heartbeats of clients that the server is to answer", func(c *PulseCounts) int64 { return c.Asked }},
		{"unanswered", "heartbeats of clients that the server had not answered when the next was due",
			func(c *PulseCounts) int64 { return c.Unheard }},
		{"misbehaved", "clients that began to misbehave on purpose", func(c *PulseCounts) int64 { return c.Misbehave }},
		{"evicted", "clients that misbehaved and were closed for it", func(c *PulseCounts) int64 { return c.Evicted }},
		{"evicted_late", "clients that were closed for it after the deadline",
			func(c *PulseCounts) int64 { return c.TooLate }},
		{"not_evicted", "clients that should have been closed, and were not by the deadline",
			func(c *PulseCounts) int64 { return c.Kept }},
		{"hasty", "clients that the server closed though they gave every sign of life that they owed",
			func(c *PulseCounts) int64 { return c.Hasty }},
	} {
		add("pulse."+f.name, Count, f.doc, func(w *Window) float64 { return float64(f.of(&w.Counts.Pulse)) }).
			some = func(w *Window) bool { return w.Counts.Pulse.some() }
	}
	add("pulse.bunched", Ratio, "percent of the server's heartbeats that come in the fullest twentieth of the "+
		"promised interval: 5 if they are spread evenly", func(w *Window) float64 {
		b, _ := w.Bunched()
		return 100 * b
	}).some = func(w *Window) bool { _, ok := w.Bunched(); return ok }
	add("pulse.drift", Ratio, "percent by which the server's intervals differ from the promised one, on average, "+
		"either way", func(w *Window) float64 {
		d, _ := w.Drift()
		return max(d, -d)
	}).some = func(w *Window) bool { return w.Counts.Pulse.Promised > 0 }
}

// some reports whether there was anything about heartbeats to count.
func (c *PulseCounts) some() bool {
	return c.Heard+c.Missing+c.Asked+c.Misbehave+c.Hasty > 0
}
