package watch

import (
	"math"
	"strconv"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/run"
	"tidepull/internal/tui/look"
	"tidepull/internal/tui/tide"
)

// value writes a number that a feed told, in the width of a gutter.
func value(v float64) string { return strconv.FormatFloat(v, 'g', 4, 64) }

// telling are the feeds that told numbers, by number.
func telling(s *run.Snapshot) (feeds []int) {
	for i := range s.Trial.Feeds {
		for _, e := range s.Entries {
			if i < len(e.Told) && e.Told[i].N > 0 {
				feeds = append(feeds, i)
				break
			}
		}
	}
	return feeds
}

// chartRows are the latencies over time and what feeds told, below each other in so many rows. Feeds stand
// alone if nothing was delivered.
func (c *Cache) chartRows(p *look.Palette, s *run.Snapshot, sc tide.Scale, rows int) (lines []string) {
	feeds := telling(s)
	const least = 5
	parts := len(feeds) + 1
	alone := s.Total.Fanout().Count() == 0 && len(feeds) > 0
	if alone {
		parts--
	}
	for parts > 1 && rows/parts < least {
		parts--
	}
	if !alone {
		lines = append(lines, p.Rule("how soon", p.Draw(look.Faint, "dots from the median up to p99, above them the "+
			"last recipient"), sc.Width+look.Gutter))
		lines = append(lines, c.bandRows(p, s, sc, rows/parts+rows%parts-1)...)
		parts--
	}
	for i := range parts {
		n := rows / (parts + by(!alone))
		if alone && i == 0 {
			n += rows % parts
		}
		lines = append(lines, toldRows(p, s, feeds[i], sc, n)...)
	}
	return lines
}

func by(more bool) int {
	if more {
		return 1
	}
	return 0
}

// toldRows draw what one feed told: from the least to the most of each column.
func toldRows(p *look.Palette, s *run.Snapshot, feed int, sc tide.Scale, rows int) []string {
	all := logbook.SumTold(s.Entries, feed)
	right := value(all.Least) + " to " + value(all.Most) + ", " + units.Count(all.N) + " readings"
	lines := []string{p.Rule("what "+plain.Text(s.Trial.Feeds[feed].Name, 40)+" told", p.Draw(look.Faint, right),
		sc.Width+look.Gutter)}
	d := look.NewDots(sc.Width, rows-1)
	height, span := 4*(rows-1)-1, all.Most-all.Least
	y := func(v float64) int {
		if span == 0 {
			return height / 2
		}
		return height - int(math.Round((v-all.Least)/span*float64(height)))
	}
	for x := range 2 * sc.Width {
		f := int(sc.Second(x))
		if f >= s.Entries.Count() {
			break
		}
		t := logbook.SumTold(s.Entries.Between(f, max(f+1, int(sc.Second(x+1)))), feed)
		if t.N == 0 {
			continue
		}
		for k := y(t.Most); k <= y(t.Least); k++ {
			d.Dot(x, k, look.Water)
		}
	}
	return append(lines, d.Scaled(p, value(all.Most), "", value(all.Least))...)
}
