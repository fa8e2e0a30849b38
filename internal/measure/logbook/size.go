package logbook

import (
	"cmp"
	"slices"

	"tidepull/internal/measure/meter"
)

// A Size is the latencies of all messages with about as many recipients: From
// up to To of them.
type Size struct {
	Class    uint8
	From, To int
	Latency  *meter.Hist
}

// BySize sums the latencies by the size of the audience, in rising order.
func (w *Window) BySize() []Size {
	byClass := map[uint8]*meter.Hist{}
	for key, h := range w.Latencies {
		if byClass[key.Class] == nil {
			byClass[key.Class] = new(meter.Hist)
		}
		byClass[key.Class].Merge(h)
	}
	sizes := make([]Size, 0, len(byClass))
	for class, h := range byClass {
		sizes = append(sizes, Size{class, 1 << class >> 1, 1<<class - 1, h})
	}
	slices.SortFunc(sizes, func(a, b Size) int { return cmp.Compare(a.Class, b.Class) })
	return sizes
}

// KeptUp reports whether the entry is one second, in which the tool and the machine were no bottleneck.
func (e *Entry) KeptUp() bool { return e.Health.Overload == 0 && e.Merged == 0 }

// CrewLatency is that of the second's deliveries to one crew, without those that the tool itself sent late.
func (e *Entry) CrewLatency(crew int) (*meter.Hist, error) {
	e, err := e.Whole()
	if err != nil {
		return nil, err
	}
	var h meter.Hist
	for _, l := range e.Latency {
		if int(l.Key.Crew) == crew {
			if err := h.MergePacked(l.Latency); err != nil {
				return nil, err
			}
		}
	}
	return &h, nil
}

// Fanout is the latency of every owed delivery of the second.
func (e *Entry) Fanout() (*meter.Hist, error) {
	var h meter.Hist
	e, err := e.Whole()
	if err != nil {
		return nil, err
	}
	parts := []*Part{&e.Part}
	if e.SentLate != nil {
		parts = append(parts, e.SentLate)
	}
	for _, p := range parts {
		for _, s := range p.Latency {
			if err := h.MergePacked(s.Latency); err != nil {
				return nil, err
			}
		}
	}
	return &h, nil
}
