package watch

import (
	"math"
	"time"

	"tidepull/internal/base/units"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/meter"
	"tidepull/internal/run"
	"tidepull/internal/tui/look"
	"tidepull/internal/tui/tide"
)

// A band is the latency of one column of dots.
type band struct {
	p50, p99, last time.Duration
}

// A Cache keeps bands of seconds that have not changed, so that a run is not
// summed up afresh for each picture. The zero value is ready.
type Cache struct{ bands map[[2]int]kept }

// kept is the band of some seconds, and the last of them, which alone may change.
type kept struct {
	band
	last *logbook.Entry
}

// band gives what some seconds come to. It is worked out again only if they have changed.
func (c *Cache) band(entries []*logbook.Entry) band {
	last := entries[len(entries)-1]
	key := [2]int{entries[0].At, last.At}
	if k, ok := c.bands[key]; ok && (k.last == last || k.last.Settled || k.last.Same(last)) {
		return k.band
	}
	b := bandOf(entries)
	for _, e := range entries[:len(entries)-1] {
		if !e.Settled {
			return b
		}
	}
	if c.bands == nil || len(c.bands) > 4096 { // the scale has changed many times
		c.bands = map[[2]int]kept{}
	}
	c.bands[key] = kept{b, last}
	return b
}

// bandRows draws the latency over time, on a logarithmic scale: dots between
// median and p99, the median as a line, and the last recipient above it.
func (c *Cache) bandRows(p *look.Palette, s *run.Snapshot, sc tide.Scale, rows int) []string {
	bands := c.bandsOf(s, sc)
	low, high := decades(bands)
	d := look.NewDots(sc.Width, rows)
	y := func(v time.Duration) int {
		at := (math.Log10(float64(max(v, 1))) - low) / (high - low)
		return 4*rows - 1 - int(math.Round(at*float64(4*rows-1)))
	}
	for x, b := range bands {
		if b == (band{}) {
			continue
		}
		for k := y(b.p99); k < y(b.p50); k++ {
			d.Dot(x, k, look.Deep)
		}
		d.Dot(x, y(b.p50), look.Water)
		if b.last > 0 && x%2 == 0 {
			d.Dot(x, y(b.last), look.Text)
		}
	}
	lines := d.Lines(p)
	labels := make([]string, rows)
	for e := math.Ceil(low); e <= high; e++ {
		row := y(time.Duration(math.Pow(10, e))) / 4
		if row >= 0 && row < rows {
			labels[row] = units.Round(time.Duration(math.Round(math.Pow(10, e))))
		}
	}
	for i := range lines {
		lines[i] = p.Draw(look.Faint, look.Right(labels[i], look.Gutter-1)) + " " + lines[i]
	}
	return lines
}

// bandsOf sums the seconds that each column of dots stands for.
func (c *Cache) bandsOf(s *run.Snapshot, sc tide.Scale) []band {
	bands := make([]band, 2*sc.Width)
	from, upto := -1, -1
	var b band
	for x := range bands {
		f := int(sc.Second(x))
		t := max(f+1, int(sc.Second(x+1)))
		if f >= s.Entries.Count() {
			break
		}
		if f != from || t != upto {
			from, upto = f, t
			b = c.band(s.Entries.Between(f, t))
		}
		bands[x] = b
	}
	return bands
}

// bandOf works it out.
func bandOf(entries []*logbook.Entry) band {
	var all, last meter.Hist
	for _, e := range entries {
		if e, err := e.Whole(); err == nil { // it is what the tool packed
			if h, err := e.Fanout(); err == nil {
				all.Merge(h)
			}
			_ = last.MergePacked(e.Last)
		}
	}
	if all.Count() == 0 {
		return band{}
	}
	return band{all.Quantile(0.5), all.Quantile(0.99), last.Max()}
}

// decades gives the scale's ends, in powers of ten of nanoseconds.
func decades(bands []band) (low, high float64) {
	least, most := time.Duration(math.MaxInt64), time.Duration(0)
	for _, b := range bands {
		if b != (band{}) {
			least, most = min(least, b.p50), max(most, b.p99, b.last)
		}
	}
	if most == 0 {
		return 5, 8 // 100 us to 100 ms
	}
	low = math.Floor(math.Log10(float64(max(least, 1000))))
	high = math.Ceil(math.Log10(float64(most)))
	return low, max(high, low+2)
}
