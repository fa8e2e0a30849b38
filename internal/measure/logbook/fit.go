package logbook

import "math"

// A Fit holds the sums that a straight line through points needs; those of
// several seconds add up. x is the size of a message's audience, y how long
// the last recipient took, in microseconds.
type Fit struct {
	N, X, Y, XX, XY, YY float64
}

// Point adds a point.
func (f *Fit) Point(x, y float64) {
	f.N++
	f.X += x
	f.Y += y
	f.XX += x * x
	f.XY += x * y
	f.YY += y * y
}

// Add adds the points of g.
func (f *Fit) Add(g Fit) {
	f.N += g.N
	f.X += g.X
	f.Y += g.Y
	f.XX += g.XX
	f.XY += g.XY
	f.YY += g.YY
}

// A FittedLine is a line with the uncertainty of its slope.
type FittedLine struct {
	Base, Slope float64 // microseconds, microseconds a recipient
	Error       float64 // half of the 95 % confidence interval of Slope
}

// Line fits the line by least squares; ok is false if there are too few
// points, or all audiences are of one size.
func (f *Fit) Line() (l FittedLine, ok bool) {
	if f.N < 3 {
		return l, false
	}
	sxx := f.XX - f.X*f.X/f.N
	if sxx < 1e-9*f.XX || sxx <= 0 {
		return l, false
	}
	sxy := f.XY - f.X*f.Y/f.N
	syy := f.YY - f.Y*f.Y/f.N
	l.Slope = sxy / sxx
	l.Base = (f.Y - l.Slope*f.X) / f.N
	rest := max(0, syy-l.Slope*sxy)
	l.Error = 1.96 * math.Sqrt(rest/(f.N-2)/sxx)
	return l, true
}
