// Package tide draws the tide strip: how many clients there are against the
// plan, over the whole run, with ticks for what went wrong. It is also the
// ruler: charts below it take their time scale from its Scale.
package tide

import (
	"fmt"
	"time"

	"tidepull/internal/base/units"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/run"
	"tidepull/internal/tui/look"
	"tidepull/internal/tui/scene"
)

// A Scale maps the seconds of a run to columns of dots.
type Scale struct {
	Seconds float64 // that the whole width stands for
	Width   int     // in characters, without the gutter
}

// NewScale makes the scale for a run: its whole planned length, or as long as
// it took.
func NewScale(s *run.Snapshot, width int) Scale {
	length := max(s.Trial.Length(), s.Elapsed, time.Second)
	return Scale{Seconds: length.Seconds(), Width: max(1, width-look.Gutter)}
}

// Dot gives the column of dots of a second.
func (sc Scale) Dot(second float64) int { return int(second / sc.Seconds * float64(2*sc.Width)) }

// Second gives the second at which a column of dots starts.
func (sc Scale) Second(dot int) float64 { return float64(dot) / float64(2*sc.Width) * sc.Seconds }

// Strip draws the strip: a rule, rows of water, a row of ticks and the ruler,
// with the window on it.
func Strip(p *look.Palette, s *run.Snapshot, window scene.Span, width, rows int) []string {
	sc := NewScale(s, width)
	g := now(s)
	right := fmt.Sprintf("planned %s  open %s", units.Count(int64(g.Planned)), units.Count(int64(g.Open)))
	label := "tide"
	switch {
	case s.Finished:
		label += ", over after " + units.Clock(s.Elapsed)
	case s.Leg == "":
		label += ", closing " + units.Clock(s.Elapsed)
	default:
		label += fmt.Sprintf(", %s %s of %s", s.Leg, units.Clock(s.Elapsed), units.Clock(s.Trial.Length()))
	}
	lines := []string{p.Rule(label, right, width)}
	lines = append(lines, water(p, s, sc, window, rows)...)
	return append(lines, ticks(p, s, sc), Ruler(p, sc, window))
}

func now(s *run.Snapshot) logbook.Gauges {
	if len(s.Entries) == 0 {
		return logbook.Gauges{}
	}
	return s.Entries[len(s.Entries)-1].Gauges
}

// water draws the number of clients: dots up to the surface, and the plan as a
// dotted line.
func water(p *look.Palette, s *run.Snapshot, sc Scale, window scene.Span, rows int) []string {
	d := look.NewDots(sc.Width, rows)
	all := s.Trial.Clients()
	top := float64(4*rows - 1)
	height := func(clients float64) int { return int(clients/float64(max(1, all))*top + 0.5) }
	for x := range 2 * sc.Width {
		second := sc.Second(x)
		if shaded(s, second) {
			for y := x % 4; y < 4*rows; y += 4 {
				d.Dot(x, y, look.Beware)
			}
		}
		if x%3 == 0 {
			d.Dot(x, 4*rows-1-height(float64(s.Trial.Planned(time.Duration(second*1e9)))), look.Plan)
		}
		i := int(second)
		e := s.Entries.Of(i)
		if e == nil {
			continue
		}
		h := height(float64(e.Gauges.Open))
		for y := 0; y < h; y++ {
			// outside the window the water is thin
			if !window.Set() || i >= window.From && i < window.To || (x+y)%2 == 0 {
				d.Dot(x, 4*rows-1-y, look.Deep)
			}
		}
		if h > 0 {
			d.Dot(x, 4*rows-1-h, look.Water)
		}
	}
	return d.Scaled(p, units.Count(int64(all)), "", "0")
}

// shaded reports whether a fault of the trial's was under way in a second.
func shaded(s *run.Snapshot, second float64) bool {
	at := time.Duration(second * float64(time.Second))
	for _, h := range s.Happened {
		to := h.To
		if to == 0 {
			to = s.Elapsed
		}
		if at >= h.From && at <= max(to, h.From+time.Second/2) {
			return true
		}
	}
	return false
}

// TickOf gives the signal of what went wrong in a second; ok is false where
// nothing did.
func TickOf(e *logbook.Entry) (signal look.Signal, ok bool) {
	lost, odd := e.Wrong()
	for _, c := range e.Checks {
		odd = odd || c.Failed > 0
	}
	switch {
	case lost:
		return look.SomethingLost, true
	case e.Counts.Broken > 0 || e.Counts.Malformed > 0 || e.Counts.Refused > 0:
		return look.InDanger, true
	case odd || e.Counts.Missed > 0 || e.Counts.Denied > 0 || e.Counts.Unsent > 0:
		return look.Attention, true
	}
	return 0, false
}

// ticks draws what went wrong and, as hatching, the seconds in which the tool
// was the bottleneck.
func ticks(p *look.Palette, s *run.Snapshot, sc Scale) string {
	d := look.NewDots(sc.Width, 1)
	for x := range sc.Width {
		if e := s.Entries.Of(int(sc.Second(2 * x))); e != nil && e.Health.Overload != 0 {
			d.Char(x, 0, '╱', look.Faint)
		}
	}
	for _, e := range s.Entries {
		if signal, ok := TickOf(e); ok {
			r := []rune(signal.Shape())[0]
			if x := sc.Dot(float64(e.At)) / 2; signal == look.SomethingLost || d.Ink(x, 0) != look.SomethingLost.Ink() {
				d.Char(x, 0, r, signal.Ink())
			}
		}
	}
	return p.Draw(look.Faint, look.Right("problem", look.Gutter-1)) + " " + d.Lines(p)[0]
}

// Ruler draws the time scale, and a bracket round the window.
func Ruler(p *look.Palette, sc Scale, window scene.Span) string {
	d := look.NewDots(sc.Width, 1)
	step := rulerStep(sc)
	for t := 0.0; t <= sc.Seconds; t += step {
		x := sc.Dot(t) / 2
		text := units.Clock(time.Duration(t) * time.Second)
		if x+1+len(text) < sc.Width {
			d.Char(x, 0, '╵', look.Faint)
			d.Text(x+1, 0, text, look.Faint)
		}
	}
	if window.Set() {
		from, to := sc.Dot(float64(window.From))/2, max(sc.Dot(float64(window.From))/2+1, sc.Dot(float64(window.To))/2)
		for x := from + 1; x < to; x++ {
			if d.Ink(x, 0) == look.Text {
				d.Char(x, 0, '─', look.Strong)
			}
		}
		d.Char(from, 0, '├', look.Strong)
		d.Char(min(to, sc.Width-1), 0, '┤', look.Strong)
	}
	return look.Right("", look.Gutter) + d.Lines(p)[0]
}

// rulerStep picks seconds between labels so that they do not touch.
func rulerStep(sc Scale) float64 {
	for _, step := range []float64{1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 14400} {
		if step/sc.Seconds*float64(sc.Width) >= 10 {
			return step
		}
	}
	return 43200
}
