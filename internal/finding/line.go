package finding

import "math"

// A line goes through points by least squares.
type line struct {
	slope, off float64 // off is half of the 95 % interval of the slope
	explains   float64 // the share of the variance, from 0 to 1
}

// fit finds the line through some points; there are three or more.
func fit(x, y []float64) line {
	n, mx, my := float64(len(x)), 0.0, 0.0
	for i := range x {
		mx, my = mx+x[i]/n, my+y[i]/n
	}
	sxx, sxy, syy, rest := 0.0, 0.0, 0.0, 0.0
	for i := range x {
		sxx, sxy, syy = sxx+(x[i]-mx)*(x[i]-mx), sxy+(x[i]-mx)*(y[i]-my), syy+(y[i]-my)*(y[i]-my)
	}
	l := line{slope: sxy / sxx}
	for i := range x {
		d := y[i] - my - l.slope*(x[i]-mx)
		rest += d * d
	}
	if syy > 0 {
		l.explains = 1 - rest/syy
	}
	l.off = students(len(x)-2) * math.Sqrt(rest/(n-2)/sxx)
	return l
}

// students is the 97.5 % point of Student's distribution for so many degrees of freedom.
func students(n int) float64 {
	few := []float64{math.Inf(1), 12.71, 4.30, 3.18, 2.78, 2.57, 2.45, 2.36, 2.31, 2.26, 2.23}
	if n < len(few) {
		return few[max(0, n)]
	}
	return 1.96 + 2.5/float64(n)
}
