// Package capacity finds out how much load a server bears: the load at which half of all windows break a limit. It
// says which load to try next, and reckons from what came of all windows so far how sure that is. It is pure: who uses
// it makes the load, and judges the windows.
//
// The load is doubled until a window breaks; then it goes up after each window that holds and down after each that
// breaks, by a factor that shrinks at each turn. A server does not break at one load: it breaks in some windows and
// not in others. So what a window says is taken as a probit: it breaks with the probability Phi(ln(load/capacity)/s),
// of which neither the capacity nor the spread s is known. Both are reckoned on a grid, with all loads as likely before
// anything is tried, and spreads that servers have; that gives an interval that also holds when nothing but breaking
// above and holding below was ever seen.
package capacity

import "math"

// An Outcome is what came of one window.
type Outcome struct {
	Load  float64 // that was tried
	Broke bool
}

// A Plan bounds a search.
type Plan struct {
	From, Most float64 // the first load, and the greatest one
	Windows    int     // at most so many; 0: 30
	Narrow     float64 // it is enough if the interval's ends are within this factor; 0: 1.1
	Whole      bool    // loads are whole numbers
}

// A Search is under way.
type Search struct {
	plan     Plan
	outcomes []Outcome
	next     float64
	step     float64 // ln of the factor by which the load changes
	doubling bool
	turns    int // at the smallest step
	done     bool
}

const (
	firstStep = 0.35 // ln of a factor of 1.42
	leastStep = 0.05 // 5 %
	leastTurn = 4    // turns at the least step before the interval is asked whether it is narrow enough
)

// New begins a search.
func New(p Plan) *Search {
	if p.Windows == 0 {
		p.Windows = 30
	}
	if p.Narrow == 0 {
		p.Narrow = 1.1
	}
	s := &Search{plan: p, step: firstStep, doubling: true}
	s.next = s.within(p.From)
	return s
}

// within bounds a load, and makes it whole if it is to be.
func (s *Search) within(load float64) float64 {
	load = min(max(load, math.SmallestNonzeroFloat64), s.plan.Most)
	if s.plan.Whole {
		load = max(1, math.Round(load))
	}
	return load
}

// Next is the load to try next; false if the search is over.
func (s *Search) Next() (load float64, more bool) { return s.next, !s.done }

// Outcomes are those of all windows so far, in their order.
func (s *Search) Outcomes() []Outcome { return s.outcomes }

// Add tells what came of a window at the load that Next gave.
func (s *Search) Add(broke bool) {
	at := s.next
	s.outcomes = append(s.outcomes, Outcome{at, broke})
	n := len(s.outcomes)
	switch {
	case s.doubling && !broke:
		if at >= s.plan.Most {
			s.done = true // it bears all there is
			return
		}
		s.next = s.within(2 * at)
	case s.doubling:
		s.doubling = false
		s.next = s.within(at * math.Exp(-s.step))
	default:
		if s.outcomes[n-2].Broke != broke { // a turn
			if s.step <= leastStep {
				s.turns++
			}
			s.step = max(leastStep, s.step/2)
		}
		if broke {
			s.next = s.within(at * math.Exp(-s.step))
		} else {
			s.next = s.within(at * math.Exp(s.step))
		}
	}
	if s.next == at && s.plan.Whole { // a step is less than one
		if broke {
			s.next = s.within(at - 1)
		} else {
			s.next = s.within(at + 1)
		}
	}
	if s.turns >= leastTurn {
		if f := Of(s.outcomes); f.High <= f.Low*s.plan.Narrow {
			s.done = true
		}
	}
	s.done = s.done || n >= s.plan.Windows
}

// A Fit is what the outcomes say.
type Fit struct {
	At        float64 // the capacity: half of the windows break there; 0: none has broken, or all have
	Low, High float64 // with 95 % it is between these; Low is 0 if no window held, High +Inf if none has broken
	Spread    float64 // s: how wide the range is in which some break and others do not, as a share of the load
}

// Breaks is how likely a window is to break at a load.
func (f *Fit) Breaks(load float64) float64 {
	return 0.5 * math.Erfc(-math.Log(load/f.At)/max(f.Spread, narrowest)/math.Sqrt2)
}

// narrowest is the spread below which a curve would be a step.
const narrowest = 0.01

// The grid of the spread, as ln of a factor: what servers and windows were seen to have.
const (
	leastSpread = 0.02
	mostSpread  = 0.4
	spreads     = 8
	loads       = 200
)

// Of fits outcomes.
func Of(outcomes []Outcome) Fit {
	broke, held, first := math.Inf(1), math.Inf(-1), 0.0
	at := make([]float64, len(outcomes)) // ln of the load
	for i, o := range outcomes {
		x := math.Log(o.Load)
		at[i] = x
		if o.Broke {
			broke = min(broke, x)
		} else {
			held = max(held, x)
		}
		if i == 0 {
			first = x
		}
	}
	switch {
	case len(outcomes) == 0:
		return Fit{High: math.Inf(1)}
	case math.IsInf(broke, 1):
		return Fit{Low: math.Exp(held), High: math.Inf(1)}
	}
	noneHeld := math.IsInf(held, -1)
	if noneHeld {
		held = min(first, broke)
	}
	// Far beyond what was tried nothing is known: the grid ends where the widest spread leaves next to no doubt.
	from, to := min(held, broke)-2*mostSpread, max(held, broke)+2*mostSpread
	width := (to - from) / (loads - 1)
	marginal := make([]float64, loads)
	var total, spreadSum float64
	for k := range spreads {
		s := leastSpread * math.Pow(mostSpread/leastSpread, float64(k)/(spreads-1))
		for i := range marginal {
			mu, l := from+float64(i)*width, 0.0
			for n := range outcomes {
				z := (at[n] - mu) / s
				if !outcomes[n].Broke {
					z = -z
				}
				l += logPhi(z)
			}
			p := math.Sqrt(s) * math.Exp(l) // wide spreads count more: better too wide an interval
			marginal[i] += p
			total += p
			spreadSum += p * s
		}
	}
	quantile := func(q float64) float64 {
		sum := 0.0
		for i, p := range marginal {
			if sum += p; sum >= q*total {
				return math.Exp(from + (float64(i)-(sum-q*total)/p)*width)
			}
		}
		return math.Exp(to)
	}
	f := Fit{High: quantile(0.975), Spread: spreadSum / total}
	if !noneHeld { // else how little it bears is not known
		f.At, f.Low = quantile(0.5), quantile(0.025)
	}
	return f
}

// logPhi is the logarithm of the normal distribution's probability below z, from a table between -8 and 8.
func logPhi(z float64) float64 {
	switch at := (z + tableTo) * tablePer; {
	case at < 0:
		return -z*z/2 - math.Log(-z) - 0.92
	case at >= 2*tableTo*tablePer:
		return 0
	default:
		i := int(at)
		return table[i] + (at-float64(i))*(table[i+1]-table[i])
	}
}

const (
	tableTo  = 8
	tablePer = 128
)

var table = func() (t [2*tableTo*tablePer + 1]float64) {
	for i := range t {
		t[i] = math.Log(0.5 * math.Erfc((tableTo-float64(i)/tablePer)/math.Sqrt2))
	}
	return t
}()
