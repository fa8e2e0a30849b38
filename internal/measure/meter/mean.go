package meter

// MeanOf gives the mean of some values, and the square of its standard error; that is 0 of fewer than two.
func MeanOf(values []float64) (mean, variance float64) {
	n := float64(len(values))
	if n == 0 {
		return 0, 0
	}
	for _, v := range values {
		mean += v / n
	}
	if n < 2 {
		return mean, 0
	}
	for _, v := range values {
		variance += (v - mean) * (v - mean)
	}
	return mean, variance / (n - 1) / n
}
