package look

import (
	"tidepull/internal/base/units"
	"tidepull/internal/measure/meter"
)

// Quantile writes a quantile of a distribution; "-" if it is empty.
func Quantile(h *meter.Hist, q float64) string {
	if h.Count() == 0 {
		return "-"
	}
	return units.Duration(h.Quantile(q))
}

// Zero draws a number that should be 0.
func (p *Palette) Zero(n int64, wrong Ink) string {
	if n == 0 {
		return "0"
	}
	return p.Draw(wrong, units.Count(n))
}
