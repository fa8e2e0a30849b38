package chart

import (
	"fmt"
	"math"
	"strings"
	"time"

	"gonum.org/v1/plot"

	"tidepull/internal/base/units"
)

// An Axis has a label, and may be logarithmic. Ticks, where given, are named
// positions; else Name, where given, names the positions that a person would
// choose.
type Axis struct {
	Label string
	Log   bool
	Ticks []Tick
	Name  func(float64) string
	Clock bool // seconds: steps are those of a clock
	Few   bool // there is little room for names
}

// A Tick is a named position on an axis.
type Tick struct {
	At   float64
	Name string
}

// Millis names a time in milliseconds: "20 us", "1 ms", "2.5 s".
func Millis(v float64) string {
	switch {
	case v == 0:
		return "0"
	case v < 0.9995:
		return short(v*1000) + " us"
	case v < 999.5:
		return short(v) + " ms"
	}
	return short(v/1000) + " s"
}

// Percent names a share of 1.
func Percent(v float64) string { return short(100*v) + " %" }

// Count names a number of things.
func Count(v float64) string {
	if math.Abs(v) < 10_000 {
		return short(v)
	}
	if v < 999_500 {
		return short(v/1000) + " k"
	}
	return short(v/1e6) + " M"
}

func short(v float64) string {
	s := fmt.Sprintf("%.3g", v)
	if strings.Contains(s, "e") {
		return fmt.Sprintf("%.0f", v)
	}
	return s
}

// wanted is about how many named positions an axis has.
const wanted, wantedOfFew = 6, 2

var clockSteps = []float64{1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 14400, 21600, 43200, 86400}

// positions are where a person would put names on a linear axis.
func (a *Axis) positions(least, most float64) (ticks []plot.Tick) {
	if !(most > least) || math.IsInf(most-least, 0) {
		return nil
	}
	wanted := float64(wanted)
	if a.Few {
		wanted = wantedOfFew
	}
	step := math.Pow(10, math.Floor(math.Log10((most-least)/wanted)))
	for _, k := range []float64{1, 2, 2.5, 5, 10} {
		if (most-least)/(step*k) <= wanted+1 {
			step *= k
			break
		}
	}
	if a.Clock {
		for _, s := range clockSteps {
			if step = s; (most-least)/s <= wanted+1 {
				break
			}
		}
	}
	for i := math.Ceil(least/step - 1e-9); i*step <= most+step*1e-9 && len(ticks) < 100; i++ {
		v := i*step + 0 // no negative nothing
		ticks = append(ticks, plot.Tick{Value: v, Label: a.name(v)})
	}
	return ticks
}

func (a *Axis) name(v float64) string {
	switch {
	case a.Name != nil:
		return a.Name(v)
	case a.Clock:
		return units.Clock(time.Duration(math.Round(v)) * time.Second)
	}
	return short(v)
}

// Ticks implements plot.Ticker.
func (a *Axis) ticker() plot.Ticker {
	if len(a.Ticks) > 0 {
		var ticks plot.ConstantTicks
		for _, t := range a.Ticks {
			ticks = append(ticks, plot.Tick{Value: t.At, Label: safe(t.Name)})
		}
		return ticks
	}
	return plot.TickerFunc(func(least, most float64) []plot.Tick {
		if a.Log && least > 0 { // an axis of nothing goes from 0 to 1
			return a.decades(least, most)
		}
		return a.positions(least, most)
	})
}

// decades ticks powers of ten, with names for as many as there is room for.
func (a *Axis) decades(least, most float64) []plot.Tick {
	var ticks []plot.Tick
	span := math.Log10(most / least)
	named := func(k float64, e float64) bool {
		switch {
		case span > 6:
			return k == 1 && int(e)%2 == 0
		case span > 2.5:
			return k == 1
		case span > 0.7:
			return k == 1 || k == 2 || k == 5
		}
		return true
	}
	for e := math.Floor(math.Log10(least)); e <= math.Ceil(math.Log10(most)); e++ {
		for k := 1.0; k < 10; k++ {
			if v := math.Pow(10, e) * k; v >= least*0.9999 && v <= most*1.0001 {
				t := plot.Tick{Value: v}
				if named(k, e) {
					t.Label = a.name(v)
				}
				ticks = append(ticks, t)
			}
		}
	}
	return ticks
}

// apply sets an axis up for what is drawn on it. One with nothing, or a single
// value, gets some room all the same.
func (a *Axis) apply(to *plot.Axis, r reach) {
	switch {
	case r.most < r.least:
		to.Min, to.Max = 0, 1
	case a.Log:
		to.Min, to.Max = r.least, r.most
		if r.most < 1.2*r.least {
			to.Min, to.Max = r.least/1.5, r.most*1.5
		}
	case r.least == r.most:
		to.Min, to.Max = r.least-0.5, r.most+0.5
	default:
		to.Min, to.Max = r.least, r.most
	}
	if a.Log && r.most >= r.least {
		to.Scale = plot.LogScale{}
	}
	to.Tick.Marker = a.ticker()
}
