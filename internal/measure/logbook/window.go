package logbook

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/meter"
)

// A Window is the sum of some seconds of a run. The zero value is empty and
// ready.
type Window struct {
	Seconds    int
	Overloaded int      // of them, for whatever reason
	Why        Overload // all the reasons of these seconds
	// SentLate counts messages that the tool itself sent late, and are in none but a whole sum.
	SentLate int64
	// SurelyLost is how many of Total.Lost the server lost, whatever the tool or the machine
	// did; it is set by who knows the seconds around each.
	SurelyLost int64
	Foreign    int64
	Counts     Counts
	Most       Gauges // the highest of each
	Total      ledger.Tally
	Cells      map[ledger.Cell]ledger.Tally
	Latencies  map[SeriesKey]*meter.Hist

	Fit   Fit
	doubt *doubt // nil if everything is known exactly

	First, Median, Last meter.Hist
	Times               Hists
	Checks              []CheckCount // by number
	bunch               bunch
	Server              ServerUse // of a whole run
	Busy, Span          time.Duration
	CPU, GCPause        time.Duration // CPU is the loop's thread's
	Path                time.Duration // of the loop, on faults on the path of clients
	ProcessCPU          time.Duration
	Waited, Stolen      time.Duration
	Kept                time.Duration // the longest that a thread of the tool or the server was kept from a core
	Starved             time.Duration
}

// Add adds a second to w.
func (w *Window) Add(e *Entry) error {
	if err := w.AddClean(e); err != nil {
		return err
	}
	return w.AddLate(e)
}

// AddLate adds what AddClean leaves out of a second: the messages that the tool itself sent late.
func (w *Window) AddLate(e *Entry) error {
	if !e.HasLate() {
		return nil
	}
	e, err := e.Whole()
	if err != nil {
		return err
	}
	if err := w.part(e.SentLate); err != nil {
		return fmt.Errorf("second %d: %w", e.At, err)
	}
	for i := range e.SentLate.Cells {
		w.SentLate += e.SentLate.Cells[i].Tally.Said
	}
	return nil
}

// AddClean adds a second to w, without the messages that the tool itself sent
// late.
func (w *Window) AddClean(e *Entry) error {
	w.AddBeats(e)
	return w.AddMerged(e)
}

// AddBeats adds what AddMerged leaves out of a second: how its heartbeats lie in their interval, which is known of
// single seconds alone, one after another.
func (w *Window) AddBeats(e *Entry) { w.bunch.add(e) }

// AddMerged adds what several seconds come to (Coarsen), but for what AddBeats adds of each.
func (w *Window) AddMerged(e *Entry) error {
	w.Seconds += e.Seconds()
	w.Overloaded += e.Overloaded()
	w.Why |= e.Health.Overload
	w.Foreign += e.Foreign
	w.Counts.add(&e.Counts)
	w.Most = w.Most.most(e.Gauges)
	w.Busy += e.Health.Busy
	w.Span += e.Health.Span
	w.CPU += e.Health.CPU
	w.ProcessCPU += e.Health.Process
	w.GCPause += e.Health.GCPause
	w.Path += e.Health.Path
	w.Waited += e.Health.Waited
	w.Kept = max(w.Kept, e.Health.Kept)
	w.Starved += e.Health.Starved
	w.Stolen += e.Health.Stolen
	if err := w.details(e); err != nil {
		return fmt.Errorf("second %d: %w", e.At, err)
	}
	w.Checks = addChecks(w.Checks, e.Checks)
	return nil
}

// details adds the cells and distributions of a second, but for those of messages
// that the tool itself sent late.
func (w *Window) details(e *Entry) error {
	e, err := e.Whole()
	if err != nil {
		return err
	}
	for d := range w.Times {
		if err := w.Times[d].MergePacked(e.Times[d]); err != nil {
			return err
		}
	}
	return w.part(&e.Part)
}

func (w *Window) part(p *Part) error {
	if w.Cells == nil {
		w.Cells, w.Latencies = map[ledger.Cell]ledger.Tally{}, map[SeriesKey]*meter.Hist{}
	}
	w.Fit.Add(p.Fit)
	if p.Early != nil {
		if w.doubt == nil {
			w.doubt = new(doubt)
		}
		if err := w.doubt.merge(p.Early); err != nil {
			return err
		}
	}
	for i := range p.Cells {
		c := &p.Cells[i]
		t := w.Cells[c.Cell]
		t.Add(&c.Tally)
		w.Cells[c.Cell] = t
		w.Total.Add(&c.Tally)
	}
	for _, s := range p.Latency {
		h := w.Latencies[s.Key]
		if h == nil {
			h = new(meter.Hist)
			w.Latencies[s.Key] = h
		}
		if err := h.MergePacked(s.Latency); err != nil {
			return err
		}
	}
	for _, h := range []struct {
		into *meter.Hist
		from meter.Packed
	}{{&w.First, p.First}, {&w.Median, p.Median}, {&w.Last, p.Last}} {
		if err := h.into.MergePacked(h.from); err != nil {
			return err
		}
	}
	return nil
}

// ChecksFailed is how often any check failed, and ChecksHeld how often one held.
func (w *Window) ChecksFailed() (n int64) {
	for _, c := range w.Checks {
		n += c.Failed
	}
	return n
}

// ChecksHeld is how often any check held.
func (w *Window) ChecksHeld() (n int64) {
	for _, c := range w.Checks {
		n += c.Held
	}
	return n
}

// Sum adds up the entries for which keep, if it is given, holds.
func Sum(entries []*Entry, keep func(*Entry) bool) (*Window, error) {
	w := &Window{}
	for _, e := range entries {
		if keep == nil || keep(e) {
			if err := w.Add(e); err != nil {
				return nil, err
			}
		}
	}
	return w, nil
}

// Clone returns a copy that shares nothing with w.
func (w *Window) Clone() *Window {
	c := *w
	c.Cells = make(map[ledger.Cell]ledger.Tally, len(w.Cells))
	for k, v := range w.Cells {
		c.Cells[k] = v
	}
	c.Latencies = make(map[SeriesKey]*meter.Hist, len(w.Latencies))
	for k, h := range w.Latencies {
		c.Latencies[k] = h.Clone()
	}
	c.Checks = slices.Clone(w.Checks)
	c.doubt = w.doubt.clone()
	for _, h := range [...]*meter.Hist{&c.First, &c.Median, &c.Last} {
		*h = *h.Clone()
	}
	for d := range c.Times {
		c.Times[d] = *c.Times[d].Clone()
	}
	return &c
}

// Imbalance says where the books disagree, or "". Marks are counted by the
// clients, fates by the ledger, latencies by the meters: each where it happens,
// so a delivery that one of them missed shows. It is for windows that begin
// with the run, as arrivals are booked on the second of their message.
func (w *Window) Imbalance() string {
	t := &w.Total
	timed := t.Delivered + t.Late // those with a recorded latency
	for c, cell := range w.Cells {
		if !c.Kind.Said() {
			timed -= cell.Delivered + cell.Late
		}
	}
	deliveries := int64(0)
	for _, h := range w.Latencies {
		deliveries += int64(h.Count())
	}
	switch {
	case t.Open() < 0:
		return "more came than was owed"
	case t.Arrivals()+w.Foreign != w.Counts.Marked:
		return "arrivals are missing"
	case timed-w.Counts.Piled+w.Counts.Overtime != deliveries:
		return "latencies are missing"
	case t.Said != w.Counts.Sent:
		return "messages are missing"
	}
	return ""
}

// Fanout is the latency of every owed delivery.
func (w *Window) Fanout() *meter.Hist {
	var h meter.Hist
	for _, s := range w.Latencies {
		h.Merge(s)
	}
	return &h
}

// A Line is one line of the balance sheet.
type Line struct {
	Key   int // the room or crew
	Tally ledger.Tally
}

// By sums the cells by what key gives for them, in rising order of the key.
func (w *Window) By(key func(ledger.Cell) int) []Line {
	sums := map[int]*ledger.Tally{}
	for c, t := range w.Cells {
		k := key(c)
		if sums[k] == nil {
			sums[k] = &ledger.Tally{}
		}
		sums[k].Add(&t)
	}
	lines := make([]Line, 0, len(sums))
	for k, t := range sums {
		lines = append(lines, Line{k, *t})
	}
	slices.SortFunc(lines, func(a, b Line) int { return cmp.Compare(a.Key, b.Key) })
	return lines
}

// ByRoom sums the cells by room.
func (w *Window) ByRoom() []Line { return w.By(func(c ledger.Cell) int { return int(c.Room) }) }

// ByCrew sums the cells by the recipients' crew.
func (w *Window) ByCrew() []Line { return w.By(func(c ledger.Cell) int { return int(c.Crew) }) }

func (g Gauges) most(h Gauges) Gauges {
	return Gauges{max(g.Planned, h.Planned), max(g.Out, h.Out), max(g.Open, h.Open), max(g.Entered, h.Entered)}
}
