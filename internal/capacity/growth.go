package capacity

import "math"

// A Growth says how a figure grows with the load: as its Power, which is between Low and High with 95 %.
type Growth struct {
	Power, Low, High float64
	Points           int
}

// student are the 97.5 % quantiles of Student's t, by degrees of freedom from 1.
var student = [...]float64{12.71, 4.303, 3.182, 2.776, 2.571, 2.447, 2.365, 2.306, 2.262, 2.228, 2.201, 2.179, 2.160,
	2.145, 2.131, 2.120, 2.110, 2.101, 2.093, 2.086, 2.080, 2.074, 2.069, 2.064, 2.060, 2.056, 2.052, 2.048, 2.045,
	2.042}

// leastPoints is how many loads and figures it takes to say how one grows with the other.
const leastPoints = 5

// GrowthOf fits a line through the logarithms of loads and figures, which are greater than 0; false if there are too
// few of them, or all at one load.
func GrowthOf(load, figure []float64) (g Growth, ok bool) {
	n := float64(len(load))
	if len(load) < leastPoints {
		return g, false
	}
	var sx, sy float64
	for i := range load {
		sx, sy = sx+math.Log(load[i]), sy+math.Log(figure[i])
	}
	var xx, xy, yy float64
	for i := range load {
		x, y := math.Log(load[i])-sx/n, math.Log(figure[i])-sy/n
		xx, xy, yy = xx+x*x, xy+x*y, yy+y*y
	}
	if xx < 1e-9 {
		return g, false
	}
	g.Power, g.Points = xy/xx, len(load)
	rest := math.Sqrt(max(0, yy-xy*xy/xx) / (n - 2) / xx)
	t := 1.96
	if df := len(load) - 2; df <= len(student) {
		t = student[df-1]
	}
	g.Low, g.High = g.Power-t*rest, g.Power+t*rest
	return g, true
}

// Reaches is the load at which a figure that grows so, and is what it is at a load, comes to a bound; +Inf if it never
// does.
func (g *Growth) Reaches(load, figure, bound float64) float64 {
	if g.Low <= 0 || figure <= 0 || bound <= 0 {
		return math.Inf(1)
	}
	return load * math.Pow(bound/figure, 1/g.Power)
}
