package finding

import (
	"fmt"
	"math"
	"strconv"

	"tidepull/internal/base/units"
)

// A Share is how often something happened, of how often it could have.
type Share struct {
	N  int64 `json:"n"`
	Of int64 `json:"of"`
	// Low and High are the ends of the 95 % interval of the true share, from 0 to 1 (Wilson's).
	Low  float64 `json:"low"`
	High float64 `json:"high"`
}

// shareOf gives the share of n in some.
func shareOf(n, of int64) *Share {
	if of <= 0 {
		return nil
	}
	const z = 1.96
	p, m := float64(n)/float64(of), float64(of)
	mid := (p + z*z/(2*m)) / (1 + z*z/m)
	half := z / (1 + z*z/m) * math.Sqrt(p*(1-p)/m+z*z/(4*m*m))
	return &Share{n, of, max(0, mid-half), min(1, mid+half)}
}

// Words say it in one line: "12 of 60 (20 %; 12 to 32 %, 95 %)".
func (s *Share) Words() string {
	return fmt.Sprintf("%s of %s (%s; between %s and %s with 95 %% certainty)", units.Count(s.N),
		units.Count(s.Of),
		percent(float64(s.N)/float64(s.Of)), percent(s.Low), percent(s.High))
}

// percent writes a share; a small one with two digits.
func percent(share float64) string {
	if share > 0 && share < 0.01 {
		return strconv.FormatFloat(100*share, 'g', 2, 64) + " %"
	}
	return units.Percent(share)
}

// Unseen says how rare something can be that did not happen in so many cases, with 95 % certainty: "fewer than 1
// in 31,000 deliveries".
func Unseen(of int64, what string) string {
	if of < 3 {
		return "too few " + what + " to say"
	}
	return fmt.Sprintf("fewer than 1 in %s %s, with 95 %% certainty", units.Count(of/3), what) // the rule of three
}

// chance is how likely it is that something with a probability happens k times of n or more.
func chance(k, n int, p float64) float64 {
	switch {
	case k <= 0 || p >= 1:
		return 1
	case p <= 0:
		return 0
	}
	sum, lp, lq := 0.0, math.Log(p), math.Log1p(-p)
	ln, _ := math.Lgamma(float64(n + 1))
	for i := k; i <= n; i++ {
		li, _ := math.Lgamma(float64(i + 1))
		lr, _ := math.Lgamma(float64(n - i + 1))
		sum += math.Exp(ln - li - lr + float64(i)*lp + float64(n-i)*lq)
	}
	return min(1, sum)
}

// unlikely is how likely something may be by chance, at most, for a finding to rest on it.
const unlikely = 1e-4
