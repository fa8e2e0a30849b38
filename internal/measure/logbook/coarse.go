package logbook

import (
	"cmp"
	"fmt"
	"maps"
	"slices"

	"tidepull/internal/measure/ledger"
)

// Coarsen merges some seconds that follow each other into one entry: counts and latencies are those of all, the gauges
// the highest of each. What a sum over all of them gives stays the same; what is known of one of them alone is gone. A
// long run would not fit into memory otherwise.
func Coarsen(entries []*Entry) (*Entry, error) {
	first := entries[0]
	var all, own Window
	e := &Entry{At: first.At, Settled: true}
	for _, one := range entries {
		one, err := one.Whole()
		if err == nil {
			err = all.AddClean(one)
		}
		if err == nil && one.SentLate != nil {
			err = own.part(one.SentLate)
		}
		if err != nil {
			return nil, fmt.Errorf("second %d: %w", one.At, err)
		}
		e.Merged += one.Seconds()
		e.MergedOverloaded += one.Overloaded()
		e.Settled = e.Settled && one.Settled
		e.Health.add(&one.Health)
		e.Told = addTold(e.Told, one.Told)
	}
	e.Foreign, e.Counts, e.Gauges, e.Checks = all.Foreign, all.Counts, all.Most, all.Checks
	e.Part, e.Times = all.asPart(), all.Times.pack()
	if own.Cells != nil {
		p := own.asPart()
		e.SentLate = &p
	}
	return e, nil
}

// add adds the health of the next second.
func (h *Health) add(next *Health) {
	h.Busy += next.Busy
	h.Span += next.Span
	h.CPU += next.CPU
	h.Process += next.Process
	h.GCPause += next.GCPause
	h.Path += next.Path
	h.Waited += next.Waited
	h.Stolen += next.Stolen
	h.Watched = h.Watched || next.Watched
	h.Kept = max(h.Kept, next.Kept)
	h.Starved += next.Starved
	h.Crowded += next.Crowded
	h.Waiting |= next.Waiting
	h.Overload |= next.Overload
}

// asPart packs what a window knows of messages.
func (w *Window) asPart() Part {
	p := Part{First: w.First.Pack(), Median: w.Median.Pack(), Last: w.Last.Pack(), Fit: w.Fit, Early: w.doubt.pack()}
	for _, c := range slices.SortedFunc(maps.Keys(w.Cells), func(a, b ledger.Cell) int {
		return cmp.Or(cmp.Compare(a.Room, b.Room), cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Crew, b.Crew))
	}) {
		p.Cells = append(p.Cells, CellTally{c, w.Cells[c]})
	}
	for _, k := range slices.SortedFunc(maps.Keys(w.Latencies), func(a, b SeriesKey) int {
		return cmp.Or(cmp.Compare(a.Crew, b.Crew), cmp.Compare(a.Class, b.Class))
	}) {
		p.Latency = append(p.Latency, Series{k, w.Latencies[k].Pack()})
	}
	return p
}
