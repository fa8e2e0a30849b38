package meter

import (
	"math"
	"time"
)

// Latencies are a distribution as results have it: percentiles in
// microseconds, to the nanosecond.
type Latencies struct {
	Count uint64  `json:"count"`
	P50   float64 `json:"p50_us"`
	P90   float64 `json:"p90_us"`
	P99   float64 `json:"p99_us"`
	P999  float64 `json:"p999_us"`
	Max   float64 `json:"max_us"`
}

// Latencies gives the distribution of what was recorded.
func (h *Hist) Latencies() Latencies {
	us := func(d time.Duration) float64 { return math.Round(float64(d)) / 1000 }
	return Latencies{h.n, us(h.Quantile(0.5)), us(h.Quantile(0.9)), us(h.Quantile(0.99)), us(h.Quantile(0.999)),
		us(h.Max())}
}
