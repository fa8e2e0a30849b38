package logbook

import (
	"cmp"
	"fmt"
	"maps"
	"slices"

	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/meter"
)

// Coarsen merges the details of some seconds that follow each other: the first
// has the cells and latencies of all, the others keep their counts and gauges
// alone. What a sum over all of them gives stays the same; the latencies of each
// one are those of the whole group. A long run would not fit into memory
// otherwise.
func Coarsen(entries []*Entry) ([]*Entry, error) {
	if len(entries) == 0 {
		return nil, nil
	}
	var all, own Window
	out := make([]*Entry, len(entries))
	for i, e := range entries {
		err := all.details(e)
		if err == nil && e.Own != nil {
			err = own.part(e.Own)
		}
		if err != nil {
			return nil, fmt.Errorf("second %d: %w", e.At, err)
		}
		light := *e
		light.Part, light.Own = Part{}, nil
		for _, h := range light.hists() {
			*h = nil
		}
		out[i] = &light
	}
	first := out[0]
	first.Part = all.asPart()
	if own.Cells != nil {
		p := own.asPart()
		first.Own = &p
	}
	for i, h := range all.hists() {
		*first.hists()[i] = h.Pack()
	}
	for _, e := range out {
		e.Group = &first.Part
	}
	return out, nil
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

// hists are the distributions of an entry that are not in its parts.
func (e *Entry) hists() [15]*meter.Packed {
	return [15]*meter.Packed{&e.Connect, &e.Enter, &e.Age, &e.Answer, &e.PushedBack, &e.Usable, &e.Reconnect,
		&e.Back, &e.Pulse.Gap, &e.Pulse.RoundTrip, &e.Pulse.Eviction, &e.Pulse.Told,
		&e.CaughtUp, &e.Health.ReadingLag, &e.Health.ScheduleLag}
}

// hists are the same of a window, in the same order.
func (w *Window) hists() [15]*meter.Hist {
	return [15]*meter.Hist{&w.Connect, &w.Enter, &w.Age, &w.Answer, &w.PushedBack, &w.Usable, &w.Reconnect, &w.Back,
		&w.Pulse.Gap, &w.Pulse.RoundTrip, &w.Pulse.Eviction, &w.Pulse.Told, &w.CaughtUp, &w.ReadingLag, &w.ScheduleLag}
}
