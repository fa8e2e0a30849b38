package run

import (
	"slices"
	"time"

	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
)

// Evidence is what limits are held against: all that was measured, and what of it neither
// the tool nor the machine can have spoilt.
type Evidence struct {
	Total *logbook.Window
	// Clean is the seconds that are not marked, without the messages that the tool itself sent
	// late.
	Clean *logbook.Window
	// Apart is by how much the clocks of two machines with clients may be off, together; 0: there is but one.
	Apart time.Duration
	// quiet gives the seconds of Clean in which the machine kept no program waiting for so long
	// that a limit on a latency of this many microseconds may be broken by that; nil: Clean.
	quiet func(limit float64) (*logbook.Window, error)
}

// EvidenceOf takes a window for the whole of a run that nothing spoilt.
func EvidenceOf(w *logbook.Window) *Evidence {
	all := *w
	all.SurelyLost = w.Total.Lost
	return &Evidence{Total: &all, Clean: &all}
}

// Gather gathers the evidence of a run from its seconds, in their order, for these limits and this grace time.
func Gather(limits []trial.Limit, grace time.Duration, entries []*logbook.Entry) (*Evidence, error) {
	p := NewPast(limits, grace)
	if err := p.Add(entries, nil); err != nil {
		return nil, err
	}
	return p.Evidence(), nil
}

// add adds entries to the total, and those in which neither the tool nor the machine was
// the bottleneck to clean.
func add(entries []*logbook.Entry, total, clean *logbook.Window) error {
	for _, e := range entries {
		if err := total.Add(e); err != nil {
			return err
		}
		if Clean(e) {
			if err := clean.AddClean(e); err != nil {
				return err
			}
		}
	}
	return nil
}

// hops is how many times on its way through a server a message may have to wait for a core:
// to be read, to be stored, to be relayed, to be written.
const hops = 4

// quietFor is for how long a program may be kept from a core at a time in a second that a
// limit on a latency, in microseconds, is held against.
func quietFor(limit float64) time.Duration {
	return time.Duration(limit * float64(time.Microsecond) / hops)
}

// addQuiet adds those of entries from one place up to another in which neither the tool nor
// waiting for a core can have done a latency harm; nor the latter in the next second, into which
// it reaches.
func addQuiet(w *logbook.Window, kept time.Duration, entries []*logbook.Entry, from, to int) error {
	for i := from; i < to; i++ {
		if !quiet(kept, entries, i) {
			continue
		}
		if err := w.AddClean(entries[i]); err != nil {
			return err
		}
	}
	return nil
}

// quiet reports whether an entry is one of those.
func quiet(kept time.Duration, entries []*logbook.Entry, i int) bool {
	// How a second that goes on was is not known yet.
	return entries[i].Health.Span > 0 && entries[i].Health.Spares(kept) &&
		(i+1 == len(entries) || entries[i+1].Health.Kept <= kept || entries[i+1].Health.Spares(kept))
}

// surelyLost counts what the server lost, whatever the tool or the machine did, of the
// messages due in entries from one place up to another: what went missing while its recipient
// got what was said later, and what went missing though, until its grace time was over,
// nothing stood still. That a message was sent late is no reason for its loss.
func surelyLost(grace time.Duration, entries []*logbook.Entry, from, to int) (n int64) {
	waits := int((grace + time.Second - 1) / time.Second)
	for i := from; i < to; i++ {
		e := entries[i]
		well := !slices.ContainsFunc(entries[i:min(len(entries), i+waits+1)],
			func(e *logbook.Entry) bool { return e.Health.MayLose(grace) })
		parts := []*logbook.Part{&e.Part, e.SentLate}
		if e.SentLate == nil {
			parts = parts[:1]
		}
		for _, p := range parts {
			for k := range p.Cells {
				if t := &p.Cells[k].Tally; well {
					n += t.Lost
				} else {
					n += t.Overtaken
				}
			}
		}
	}
	return n
}

// A quietSum is the quiet seconds for one limit, of the seconds that are over.
type quietSum struct {
	kept time.Duration
	sum  *logbook.Window
}

// quietSums are those of the limits on latencies.
func quietSums(limits []trial.Limit) (all []quietSum) {
	for _, l := range limits {
		if f := logbook.FigureNamed(l.Figure); f.Unit == logbook.Duration && !f.Self() {
			kept := quietFor(l.Value)
			if !slices.ContainsFunc(all, func(q quietSum) bool { return q.kept == kept }) {
				all = append(all, quietSum{kept, &logbook.Window{}})
			}
		}
	}
	return all
}
