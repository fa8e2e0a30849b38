package logbook

import (
	"cmp"
	"fmt"
	"maps"
	"slices"

	"tidepull/internal/measure/ledger"
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
		if err == nil && e.SentLate != nil {
			err = own.part(e.SentLate)
		}
		if err != nil {
			return nil, fmt.Errorf("second %d: %w", e.At, err)
		}
		light := *e
		light.Part, light.SentLate, light.Times = Part{}, nil, Times{}
		out[i] = &light
	}
	first := out[0]
	first.Part = all.asPart()
	if own.Cells != nil {
		p := own.asPart()
		first.SentLate = &p
	}
	first.Times = all.Times.pack()
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
