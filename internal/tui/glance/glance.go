// Package glance has small drawings of a run, for where there is little room.
package glance

import (
	"fmt"
	"math"
	"strings"
	"time"

	"tidepull/internal/base/units"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/run"
	"tidepull/internal/tui/look"
)

// Seconds draws the deliveries of each second as a bar, and above it, on a scale of its own, the median and the last
// recipient's latency. Of a run that has more seconds than there is room for, several are one.
func Seconds(p *look.Palette, s *run.Snapshot, width, height int) []string {
	if height < 3 || s.Trial == nil {
		return nil
	}
	seconds := max(int(s.Trial.Length()/time.Second)+1, s.Entries.Count())
	d := look.NewDots(width-look.Gutter, height)
	each := (seconds + 2*d.Width - 1) / (2 * d.Width) // seconds in a column
	wide := max(1, 2*d.Width/max(1, (seconds+each-1)/each))
	most, slowest := int64(1), time.Millisecond
	sums := map[int]second{}
	for i := 0; i < len(s.Entries); {
		n := i + 1
		for n < len(s.Entries) && s.Entries[n].At/each == s.Entries[i].At/each {
			n++
		}
		if sec, ok := sumOf(s.Entries[i:n]); ok {
			sums[s.Entries[i].At/each] = sec
			most, slowest = max(most, sec.came+sec.lost), max(slowest, sec.last)
		}
		i = n
	}
	top := 4*d.Height - 1
	half := top / 2
	height01 := func(v time.Duration) int { // by its logarithm, from a tenth of a millisecond on
		return half + 2 + int(float64(half-3)*log01(v, slowest))
	}
	for at, sec := range sums {
		bar := int(float64(half-1) * float64(sec.came) / float64(most))
		lost := int(float64(half-1) * float64(sec.came+sec.lost) / float64(most))
		for x := at * wide; x < (at+1)*wide && x < 2*d.Width; x++ {
			if wide > 1 && x == (at+1)*wide-1 {
				continue // a gap between seconds
			}
			for y := range lost {
				ink := look.Water
				if y >= bar {
					ink = look.Lost
				}
				d.Dot(x, top-y, ink)
			}
			if sec.last > 0 {
				d.Dot(x, top-height01(sec.median), look.Strong)
				d.Dot(x, top-height01(sec.last), look.Plan)
			}
		}
	}
	return d.Scaled(p, units.Round(slowest), "0.1 ms", units.Count(most))
}

// A second is what came in one, and how long it took.
type second struct {
	came, lost   int64
	median, last time.Duration
}

func sumOf(entries []*logbook.Entry) (second, bool) {
	w, err := logbook.Sum(entries, nil)
	if err != nil {
		return second{}, false
	}
	t, h := &w.Total, w.Fanout()
	s := second{came: t.Delivered + t.Late, lost: t.Lost}
	if h.Count() > 0 {
		s.median, s.last = h.Quantile(0.5), h.Max()
	}
	return s, true
}

// log01 is where a latency lies between a tenth of a millisecond and the slowest, by its logarithm, from 0 to 1.
func log01(v, slowest time.Duration) float64 {
	const least = 100 * time.Microsecond
	if v <= least || slowest <= least {
		return 0
	}
	return min(1, math.Log(float64(v)/float64(least))/math.Log(float64(slowest)/float64(least)))
}

// Sizes draws how long half of the deliveries took, and 99 in 100, in audiences of each size.
func Sizes(p *look.Palette, s *run.Snapshot, width, height int) (lines []string) {
	slowest := time.Duration(1)
	sizes := s.Total.BySize()
	for _, size := range sizes {
		slowest = max(slowest, size.Latency.Quantile(0.99))
	}
	const label = 24
	room := width - label - 2*10
	for _, size := range sizes {
		if len(lines) == height || room < 8 {
			break
		}
		half, most := size.Latency.Quantile(0.5), size.Latency.Quantile(0.99)
		cells := func(v time.Duration) int { return int(math.Ceil(float64(room) * float64(v) / float64(slowest))) }
		name := fmt.Sprintf("audiences of %d to %d", size.From, size.To)
		lines = append(lines, look.Fit("  "+p.Draw(look.Faint, name), label)+p.Draw(look.Water,
			strings.Repeat("▄", cells(half)))+p.Draw(look.Faint, strings.Repeat("▁", max(0, cells(most)-cells(half))))+
			" "+units.Round(half)+p.Draw(look.Faint, " to "+units.Round(most)))
	}
	return lines
}
