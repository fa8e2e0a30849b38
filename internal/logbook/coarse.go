package logbook

import (
	"fmt"

	"tidepull/internal/ledger"
	"tidepull/internal/meter"
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
	var all, own merged
	var extra [7]meter.Hist
	out := make([]*Entry, len(entries))
	for i, e := range entries {
		if err := all.add(&e.Part); err != nil {
			return nil, fmt.Errorf("second %d: %w", e.At, err)
		}
		if e.Own != nil {
			if err := own.add(e.Own); err != nil {
				return nil, fmt.Errorf("second %d: %w", e.At, err)
			}
		}
		light := *e
		for k, h := range light.hists() {
			if err := extra[k].MergePacked(*h); err != nil {
				return nil, fmt.Errorf("second %d: %w", e.At, err)
			}
			*h = nil
		}
		light.Part, light.Own = Part{}, nil
		out[i] = &light
	}
	first := out[0]
	first.Part = all.part()
	if own.any {
		p := own.part()
		first.Own = &p
	}
	for k, h := range first.hists() {
		*h = extra[k].Pack()
	}
	for _, e := range out {
		e.Group = &first.Part
	}
	return out, nil
}

// hists are the distributions of an entry that are not in its parts.
func (e *Entry) hists() [7]*meter.Packed {
	return [7]*meter.Packed{&e.Connect, &e.Enter, &e.Age, &e.Answer, &e.PushedBack, &e.Health.ReadingLag, &e.Health.ScheduleLag}
}

// merged sums parts up.
type merged struct {
	any                 bool
	cells               map[ledger.Cell]ledger.Tally
	order               []ledger.Cell
	series              map[SeriesKey]*meter.Hist
	keys                []SeriesKey
	first, median, last meter.Hist
	fit                 Fit
}

func (m *merged) add(p *Part) error {
	if m.cells == nil {
		m.cells, m.series = map[ledger.Cell]ledger.Tally{}, map[SeriesKey]*meter.Hist{}
	}
	m.any = true
	for i := range p.Cells {
		c := &p.Cells[i]
		t, known := m.cells[c.Cell]
		if !known {
			m.order = append(m.order, c.Cell)
		}
		t.Add(&c.Tally)
		m.cells[c.Cell] = t
	}
	for _, s := range p.Latency {
		h := m.series[s.Key]
		if h == nil {
			h = new(meter.Hist)
			m.series[s.Key] = h
			m.keys = append(m.keys, s.Key)
		}
		if err := h.MergePacked(s.Latency); err != nil {
			return err
		}
	}
	m.fit.Add(p.Fit)
	for into, from := range map[*meter.Hist]meter.Packed{&m.first: p.First, &m.median: p.Median, &m.last: p.Last} {
		if err := into.MergePacked(from); err != nil {
			return err
		}
	}
	return nil
}

func (m *merged) part() Part {
	p := Part{First: m.first.Pack(), Median: m.median.Pack(), Last: m.last.Pack(), Fit: m.fit}
	for _, c := range m.order {
		p.Cells = append(p.Cells, CellTally{c, m.cells[c]})
	}
	for _, k := range m.keys {
		p.Latency = append(p.Latency, Series{k, m.series[k].Pack()})
	}
	return p
}
