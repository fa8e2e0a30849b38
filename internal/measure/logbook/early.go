package logbook

import "tidepull/internal/measure/meter"

// Where several messages share a read, the kernel's stamp is the last one's; the
// others came between the read before and that. Latencies count to the latest they
// can have been. An Early is what the distributions would be if each of them had
// come as early as it can have: those that change, as they count (Late), and as
// they would (Soon).
type Early struct {
	Late, Soon EarlyPart
}

// An EarlyPart is those of a second's distributions that an Early changes.
type EarlyPart struct {
	Fanout meter.Packed `json:",omitempty"`
	First  meter.Packed `json:",omitempty"`
	Median meter.Packed `json:",omitempty"`
	Last   meter.Packed `json:",omitempty"`
}

// earlyHists are an EarlyPart as it is being counted.
type earlyHists struct{ fanout, first, median, last meter.Hist }

func (e *earlyHists) pack() EarlyPart {
	return EarlyPart{e.fanout.Pack(), e.first.Pack(), e.median.Pack(), e.last.Pack()}
}

func (e *earlyHists) merge(p *EarlyPart) error {
	for _, h := range []struct {
		into *meter.Hist
		from meter.Packed
	}{{&e.fanout, p.Fanout}, {&e.first, p.First}, {&e.median, p.Median}, {&e.last, p.Last}} {
		if err := h.into.MergePacked(h.from); err != nil {
			return err
		}
	}
	return nil
}

// A doubt counts what is only known within bounds.
type doubt struct{ late, soon earlyHists }

func (d *doubt) pack() *Early {
	if d == nil {
		return nil
	}
	return &Early{d.late.pack(), d.soon.pack()}
}

func (d *doubt) merge(e *Early) error {
	if e == nil {
		return nil
	}
	if err := d.late.merge(&e.Late); err != nil {
		return err
	}
	return d.soon.merge(&e.Soon)
}

func (d *doubt) clone() *doubt {
	if d == nil {
		return nil
	}
	var c doubt
	for _, h := range [][2]*meter.Hist{{&c.late.fanout, &d.late.fanout}, {&c.late.first, &d.late.first},
		{&c.late.median, &d.late.median}, {&c.late.last, &d.late.last},
		{&c.soon.fanout, &d.soon.fanout}, {&c.soon.first, &d.soon.first}, {&c.soon.median, &d.soon.median},
		{&c.soon.last, &d.soon.last}} {
		*h[0] = *h[1].Clone()
	}
	return &c
}

// early gives a distribution as it would be if everything had come as early as it
// can have: h itself if all of it is known exactly.
func early(h, late, soon *meter.Hist) *meter.Hist {
	if late.Count() == 0 {
		return h
	}
	c := h.Clone()
	c.Replace(late, soon)
	return c
}

// FanoutEarly is Fanout with each arrival as early as it can have been.
func (w *Window) FanoutEarly() *meter.Hist {
	h := w.Fanout()
	if w.doubt == nil {
		return h
	}
	return early(h, &w.doubt.late.fanout, &w.doubt.soon.fanout)
}

// FirstEarly is First with each arrival as early as it can have been.
func (w *Window) FirstEarly() *meter.Hist {
	if w.doubt == nil {
		return &w.First
	}
	return early(&w.First, &w.doubt.late.first, &w.doubt.soon.first)
}

// MedianEarly is Median with each arrival as early as it can have been.
func (w *Window) MedianEarly() *meter.Hist {
	if w.doubt == nil {
		return &w.Median
	}
	return early(&w.Median, &w.doubt.late.median, &w.doubt.soon.median)
}

// LastEarly is Last with each arrival as early as it can have been.
func (w *Window) LastEarly() *meter.Hist {
	if w.doubt == nil {
		return &w.Last
	}
	return early(&w.Last, &w.doubt.late.last, &w.doubt.soon.last)
}
