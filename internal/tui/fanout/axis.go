package fanout

import (
	"math"
	"time"

	"tidepull/internal/base/units"
	"tidepull/internal/tui/look"
)

// An axis maps durations to dots on a logarithmic scale of whole decades.
type axis struct {
	low, high float64 // powers of ten of nanoseconds
	dots      int
}

func logAxis(least, most time.Duration, dots int) axis {
	a := axis{low: math.Floor(math.Log10(float64(max(least, 1000)))), dots: dots}
	a.high = max(a.low+1, math.Ceil(math.Log10(float64(max(most, 1000)))))
	return a
}

func (a axis) x(d time.Duration) int {
	at := (math.Log10(float64(max(d, 1))) - a.low) / (a.high - a.low)
	return min(max(0, int(at*float64(a.dots-1)+0.5)), a.dots-1)
}

func decade(e float64) time.Duration { return time.Duration(math.Round(math.Pow(10, e))) }

// ruler labels the decades below a drawing.
func (a axis) ruler(p *look.Palette, width int) string {
	d := look.NewDots(width, 1)
	for e := a.low; e <= a.high; e++ {
		name := units.Round(decade(e))
		x := a.x(decade(e)) / 2
		d.Char(min(x, width-1), 0, '╵', look.Faint)
		if x+1+len(name) <= width {
			d.Text(x+1, 0, name, look.Faint)
		} else {
			d.Text(x-len(name), 0, name, look.Faint)
		}
	}
	return look.Right("", look.Gutter) + d.Lines(p)[0]
}

// sideways labels the decades left of a drawing that has this as its y axis.
func (a axis) sideways(p *look.Palette, d *look.Dots) []string {
	labels := make([]string, d.Height)
	for e := a.low; e <= a.high; e++ {
		labels[(a.dots-1-a.x(decade(e)))/4] = units.Round(decade(e))
	}
	return d.Labelled(p, labels)
}
