package trial

import (
	"math"
	"time"

	"tidepull/internal/trial/expr"
)

// A Return says how a crew's clients come back when their connection breaks.
type Return struct {
	First     time.Duration // before the first try
	Factor    float64       // how many times as long the next wait is; 1: always First
	Most      time.Duration // the longest wait
	Jitter    Jitter
	Tries     int           // after which a client gives up; 0: it does not
	Budget    time.Duration // the time after which it does; 0: none
	Within    time.Duration // how long one try may take, for each of its steps
	Obey      bool          // it waits as long as the server wants (Retry-After)
	NotAfter  []uint16      // close codes after which it does not come back
	Elsewhere []uint16      // close codes after which it goes to the target's next node
	// Resume is said once it is connected, instead of its name and its rooms, and Resumed
	// recognises that the server has put it back into them; nil: nothing is waited for.
	Resume  *expr.Template
	Resumed *expr.Program
	CatchUp bool // who comes back is owed what was said meanwhile
	Anew    bool // its session begins again behind its connect step, and not where it was
}

// Jitter is how chance comes into a wait.
type Jitter uint8

// The jitters. The wait grows to w without chance.
const (
	NoJitter     Jitter = iota // it is w
	Full                       // from 0 to w
	Equal                      // from half of w to w
	Decorrelated               // from the first wait to three times the one before
)

// Jitters are their names.
var Jitters = []string{"none", "full", "equal", "decorrelated"}

// Wait is how long a client waits before its next try, after so many, the last of which came
// after a wait of its own; chance is from 0 to 1.
func (r *Return) Wait(tries int, last time.Duration, chance float64) time.Duration {
	w := math.Min(float64(r.Most), float64(r.First)*math.Pow(r.Factor, float64(tries)))
	switch r.Jitter {
	case Full:
		w *= chance
	case Equal:
		w = w/2 + w/2*chance
	case Decorrelated:
		first := float64(r.First)
		w = math.Min(float64(r.Most), first+chance*math.Max(0, 3*math.Max(first, float64(last))-first))
	}
	return time.Duration(w)
}
