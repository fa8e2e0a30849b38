package logbook

import (
	"fmt"
	"slices"

	"tidepull/internal/measure/meter"
)

// Merge puts a second together: what the account booked, and what each share of the
// clients measured itself. The tool was the bottleneck if one of them was.
func Merge(account *Entry, shares ...*Entry) (*Entry, error) {
	e := *account
	for i, s := range shares {
		if err := e.merge(s, i == 0); err != nil {
			return nil, fmt.Errorf("second %d: %w", e.At, err)
		}
	}
	return &e, nil
}

func (e *Entry) merge(s *Entry, first bool) error {
	e.Foreign += s.Foreign
	e.Counts.add(&s.Counts)
	e.Gauges.Out += s.Gauges.Out
	e.Gauges.Open += s.Gauges.Open
	for d := range e.Times {
		if err := mergePacked(&e.Times[d], s.Times[d]); err != nil {
			return err
		}
	}
	if first {
		e.Checks = slices.Clone(e.Checks)
	}
	e.Checks = addChecks(e.Checks, s.Checks)
	e.Told = addTold(e.Told, s.Told)
	h, g := &e.Health, &s.Health
	h.Span, h.Busy = max(h.Span, g.Span), max(h.Busy, g.Busy) // the fullest one counts
	h.CPU += g.CPU
	h.Path += g.Path
	h.Process, h.GCPause = max(h.Process, g.Process), max(h.GCPause, g.GCPause) // of the same process
	h.Waited, h.Stolen = max(h.Waited, g.Waited), max(h.Stolen, g.Stolen)
	h.Watched = h.Watched || g.Watched
	h.Kept, h.Starved = max(h.Kept, g.Kept), max(h.Starved, g.Starved) // each share sees all of them
	h.Crowded = max(h.Crowded, g.Crowded)
	h.Waiting |= g.Waiting
	h.Overload |= g.Overload
	return nil
}

func mergePacked(into *meter.Packed, from meter.Packed) error {
	switch {
	case len(from) == 0:
		return nil
	case len(*into) == 0:
		*into = from
		return nil
	}
	var h meter.Hist
	for _, p := range []meter.Packed{*into, from} {
		if err := h.MergePacked(p); err != nil {
			return err
		}
	}
	*into = h.Pack()
	return nil
}
