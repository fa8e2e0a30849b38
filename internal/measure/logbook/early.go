package logbook

import (
	"time"

	"tidepull/internal/measure/meter"
)

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
	// When a connection ended is known to within what the tool had not read yet.
	Reconnect meter.Packed `json:",omitempty"`
	Return    meter.Packed `json:",omitempty"`
	Evict     meter.Packed `json:",omitempty"`
}

// The distributions of an EarlyPart, by number.
const (
	fanout = iota
	first
	median
	last
	reconnect
	comeback
	evict
	numEarly
)

// boundedTimes are the distributions of times that an EarlyPart has.
var boundedTimes = map[Dist]int{ToReconnect: reconnect, ToReturn: comeback, ToEvict: evict}

// Between records a time of which it is known that it lies between two. It counts as the longer.
func (p *Page) Between(d Dist, least, most time.Duration) {
	least, most = max(0, least), max(0, most)
	p.Times[d].Record(most)
	if which, bounded := boundedTimes[d]; bounded && least < most {
		x := p.inDoubt()
		x.late[which].Record(most)
		x.soon[which].Record(least)
	}
}

// TimesEarly is a distribution of times with each as short as it can have been.
func (w *Window) TimesEarly(d Dist) *meter.Hist {
	which, bounded := boundedTimes[d]
	if !bounded {
		return &w.Times[d]
	}
	return w.early(&w.Times[d], which)
}

func (p *EarlyPart) hists() [numEarly]*meter.Packed {
	return [numEarly]*meter.Packed{fanout: &p.Fanout, first: &p.First, median: &p.Median, last: &p.Last,
		reconnect: &p.Reconnect, comeback: &p.Return, evict: &p.Evict}
}

// earlyHists are an EarlyPart as it is being counted.
type earlyHists [numEarly]meter.Hist

func (e *earlyHists) pack() (p EarlyPart) {
	for i, into := range p.hists() {
		*into = e[i].Pack()
	}
	return p
}

func (e *earlyHists) merge(p *EarlyPart) error {
	for i, from := range p.hists() {
		if err := e[i].MergePacked(*from); err != nil {
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
	for i := range numEarly {
		c.late[i], c.soon[i] = *d.late[i].Clone(), *d.soon[i].Clone()
	}
	return &c
}

// early gives a distribution as it would be if everything had come as early as it
// can have: h itself if all of it is known exactly.
func (w *Window) early(h *meter.Hist, which int) *meter.Hist {
	if w.doubt == nil || w.doubt.late[which].Count() == 0 {
		return h
	}
	c := h.Clone()
	c.Replace(&w.doubt.late[which], &w.doubt.soon[which])
	return c
}

// FanoutEarly is Fanout with each arrival as early as it can have been.
func (w *Window) FanoutEarly() *meter.Hist { return w.early(w.Fanout(), fanout) }

// FirstEarly is First with each arrival as early as it can have been.
func (w *Window) FirstEarly() *meter.Hist { return w.early(&w.First, first) }

// MedianEarly is Median with each arrival as early as it can have been.
func (w *Window) MedianEarly() *meter.Hist { return w.early(&w.Median, median) }

// LastEarly is Last with each arrival as early as it can have been.
func (w *Window) LastEarly() *meter.Hist { return w.early(&w.Last, last) }
