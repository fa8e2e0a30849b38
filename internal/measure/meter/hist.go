// Package meter measures durations and counts by the second, exactly enough
// that any window of a run can be summed afterwards.
package meter

import (
	"encoding/binary"
	"errors"
	"math"
	"math/bits"
	"time"
)

// A Hist is a high dynamic range histogram of durations: 64 ns resolution up
// to 131 us, and 0.1 % of the value above, up to 18 minutes; longer ones count
// as that. Its counters lie in pages that exist only where something was
// recorded, so an empty one is small and a copy is cheap. The zero value is
// empty and ready. A Hist has one owner.
type Hist struct {
	pages    [numPages]*[pageSize]uint32
	n        uint64
	sum      uint64 // of what was recorded, ns
	min, max int64  // ns, exact
}

const (
	unitBits = 6  // values are counted in units of 64 ns
	subBits  = 10 // half a bucket has 1024 counters: 0.1 %
	pageSize = 128
	maxUnits = 1 << 34 // 18 minutes
	numPages = (2*1024 + (34-subBits-1)*1024) / pageSize
)

// index gives the counter of a value in units: the first 2048 values have a
// counter each, after that each doubling has 1024.
func index(units uint64) int {
	if units < 2<<subBits {
		return int(units)
	}
	shift := bits.Len64(units) - subBits - 1
	return shift<<subBits + int(units>>shift)
}

// lowest gives the smallest number of units that has this counter.
func lowest(i int) uint64 {
	if i < 2<<subBits {
		return uint64(i)
	}
	shift := i>>subBits - 1
	return uint64(i-shift<<subBits) << shift
}

// Record counts d; a negative one counts as 0.
func (h *Hist) Record(d time.Duration) {
	ns := max(0, int64(d))
	if h.n == 0 || ns < h.min {
		h.min = ns
	}
	h.max = max(h.max, ns)
	h.n++
	h.sum += uint64(ns)
	h.add(index(min(uint64(ns)>>unitBits, maxUnits-1)), 1)
}

func (h *Hist) add(i int, n uint32) {
	p := h.pages[i/pageSize]
	if p == nil {
		p = new([pageSize]uint32)
		h.pages[i/pageSize] = p
	}
	p[i%pageSize] += n
}

// Count is how many durations were recorded.
func (h *Hist) Count() uint64 { return h.n }

// Max is the longest duration recorded, exactly; 0 if there is none.
func (h *Hist) Max() time.Duration { return time.Duration(h.max) }

// Min is the shortest duration recorded, exactly.
func (h *Hist) Min() time.Duration { return time.Duration(h.min) }

// Mean is the arithmetic mean of what was recorded, 0 if there is none.
func (h *Hist) Mean() time.Duration {
	if h.n == 0 {
		return 0
	}
	return time.Duration(h.sum / h.n)
}

// Quantile returns the duration below or at which the share q (0 to 1) of the
// recorded ones lies: the upper end of its counter, and never more than Max.
// It is 0 if nothing was recorded.
func (h *Hist) Quantile(q float64) time.Duration {
	if h.n == 0 {
		return 0
	}
	rank := max(1, uint64(math.Ceil(q*float64(h.n))))
	seen := uint64(0)
	for i, p := range h.pages {
		if p == nil {
			continue
		}
		for j, n := range p {
			if seen += uint64(n); seen >= rank {
				upper := int64(lowest(i*pageSize+j+1)<<unitBits) - 1
				return time.Duration(min(max(upper, h.min), h.max))
			}
		}
	}
	return time.Duration(h.max)
}

// Each calls f, in rising order, with the upper end of every counter that is
// not 0.
func (h *Hist) Each(f func(upper time.Duration, n uint32)) {
	for i, p := range h.pages {
		if p == nil {
			continue
		}
		for j, n := range p {
			if n != 0 {
				f(time.Duration(min(int64(lowest(i*pageSize+j+1)<<unitBits)-1, h.max)), n)
			}
		}
	}
}

// EachCount is Each in nanoseconds, and never more than the longest duration
// that has a counter of its own.
func (h *Hist) EachCount(f func(ns int64, n uint32)) {
	h.Each(func(upper time.Duration, n uint32) { f(min(int64(upper), maxUnits<<unitBits-1), n) })
}

// Merge adds everything in g to h.
func (h *Hist) Merge(g *Hist) {
	if g.n == 0 {
		return
	}
	h.joins(g.n, g.sum, g.min, g.max)
	for i, p := range g.pages {
		if p == nil {
			continue
		}
		if h.pages[i] == nil {
			h.pages[i] = new([pageSize]uint32)
		}
		for j, n := range p {
			h.pages[i][j] += n
		}
	}
}

// joins adds what another has beside its counters, which is not empty.
func (h *Hist) joins(n, sum uint64, least, most int64) {
	if h.n == 0 || least < h.min {
		h.min = least
	}
	h.max = max(h.max, most)
	h.n += n
	h.sum += sum
}

// Replace takes what is in out, all of which must be in h, out of h, and puts in
// what is in in. The shortest and the longest are exact no longer, but the ends of
// their counters.
func (h *Hist) Replace(out, in *Hist) {
	most := max(h.max, in.max)
	for i, p := range out.pages {
		if p == nil || h.pages[i] == nil {
			continue
		}
		for j, n := range p {
			h.pages[i][j] -= min(n, h.pages[i][j])
		}
	}
	h.n -= min(out.n, h.n)
	h.sum -= min(out.sum, h.sum)
	h.min, h.max = math.MaxInt64, 0
	for i, p := range h.pages {
		if p == nil {
			continue
		}
		for j, n := range p {
			if n != 0 {
				at := i*pageSize + j
				h.min = min(h.min, int64(lowest(at)<<unitBits))
				h.max = max(h.max, min(most, int64(lowest(at+1)<<unitBits)-1))
			}
		}
	}
	if h.n == 0 {
		h.min, h.max = 0, 0
	}
	h.Merge(in)
}

// Clone returns a copy that shares nothing with h.
func (h *Hist) Clone() *Hist {
	c := *h
	for i, p := range h.pages {
		if p != nil {
			page := *p
			c.pages[i] = &page
		}
	}
	return &c
}

// Reset empties h and keeps its memory.
func (h *Hist) Reset() {
	for _, p := range h.pages {
		if p != nil {
			clear(p[:])
		}
	}
	h.n, h.sum, h.min, h.max = 0, 0, 0, 0
}

// A Packed is a Hist as bytes: uvarints of n, sum, min and max, and then for
// each counter that is not 0 the distance from the one before and the count.
// An empty one has no bytes.
type Packed []byte

// Pack returns h as bytes.
func (h *Hist) Pack() Packed {
	if h.n == 0 {
		return nil
	}
	b := binary.AppendUvarint(make([]byte, 0, 64), h.n)
	b = binary.AppendUvarint(b, h.sum)
	b = binary.AppendUvarint(b, uint64(h.min))
	b = binary.AppendUvarint(b, uint64(h.max))
	last := 0
	for i, p := range h.pages {
		if p == nil {
			continue
		}
		for j, n := range p {
			if n != 0 {
				at := i*pageSize + j
				b = binary.AppendUvarint(b, uint64(at-last))
				b = binary.AppendUvarint(b, uint64(n))
				last = at
			}
		}
	}
	return b
}

var errPacked = errors.New("meter: not a packed histogram")

// MergePacked adds everything in p to h. On an error h is as it was.
func (h *Hist) MergePacked(p Packed) error {
	if len(p) == 0 {
		return nil
	}
	head := [4]uint64{}
	var err error
	for i := range head {
		if head[i], p, err = uvarint(p); err != nil {
			return err
		}
	}
	// First only to see that it is whole: it is done many times a second, and a Hist of its own would be garbage.
	total := uint64(0)
	if err := p.each(func(_ int, n uint32) { total += uint64(n) }); err != nil {
		return err
	}
	if total != head[0] {
		return errPacked
	}
	if total == 0 {
		return nil
	}
	h.joins(head[0], head[1], int64(head[2]), int64(head[3]))
	return p.each(h.add)
}

// each calls f with the counters of what is left of a Packed behind its head, and what is in them.
func (p Packed) each(f func(at int, n uint32)) error {
	for at := uint64(0); len(p) > 0; {
		var step, n uint64
		var err error
		if step, p, err = uvarint(p); err == nil {
			n, p, err = uvarint(p)
		}
		at += step
		if err != nil || step > numPages*pageSize || at >= numPages*pageSize || n > math.MaxUint32 {
			return errPacked
		}
		f(int(at), uint32(n))
	}
	return nil
}

func uvarint(p Packed) (uint64, Packed, error) {
	v, n := binary.Uvarint(p)
	if n <= 0 {
		return 0, nil, errPacked
	}
	return v, p[n:], nil
}
