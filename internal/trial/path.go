package trial

import "time"

// Effects are what the path of a client does at the moment. They must not be changed while a
// driver has them.
type Effects struct {
	Up, Down Way
	Refuse   bool          // new connections are refused
	Stall    bool          // new connections do not come to be open
	Strip    bool          // a request to upgrade loses the fields that say so
	Status   int           // a request to upgrade is answered with this status; 0: it goes through
	Idle     time.Duration // a connection over which nothing went for so long is cut; 0: none is
}

// A Way is what happens in one direction.
type Way struct {
	Frozen  bool
	Delay   time.Duration
	Jitter  time.Duration // the delay varies by up to so much, either way
	Spread  Spread
	Rate    int           // bytes that go through in a second; 0: as many as come
	Piece   int           // bytes that go on at once; 0: as they come
	Join    time.Duration // what comes within so long goes on together; 0: as it comes
	Corrupt float64       // the chance that a byte of what goes on at once is changed
	// the chances that a datagram is lost, comes twice, or after the next
	Lose, Double, Reorder float64
}

// Spread is how a delay varies.
type Spread uint8

// The spreads.
const (
	Even        Spread = iota // every delay in the range is as likely
	Normal                    // a bell; the jitter is its standard deviation
	Exponential               // most are short and some are very long; the jitter is the mean of what is added
)

// Spreads are their names.
var Spreads = []string{"even", "normal", "exponential"}

// Plain reports whether a way does nothing.
func (w *Way) Plain() bool { return *w == Way{} }

// Add adds what another fault does.
func (e *Effects) Add(f *Effects) {
	e.Up.add(&f.Up)
	e.Down.add(&f.Down)
	e.Refuse, e.Stall, e.Strip = e.Refuse || f.Refuse, e.Stall || f.Stall, e.Strip || f.Strip
	if f.Status != 0 {
		e.Status = f.Status
	}
	if e.Idle == 0 || f.Idle != 0 && f.Idle < e.Idle {
		e.Idle = f.Idle
	}
}

func (w *Way) add(v *Way) {
	w.Frozen = w.Frozen || v.Frozen
	w.Delay += v.Delay
	if v.Jitter > 0 {
		w.Jitter, w.Spread = w.Jitter+v.Jitter, v.Spread
	}
	least := func(a, b int) int {
		if a == 0 || b != 0 && b < a {
			return b
		}
		return a
	}
	w.Rate, w.Piece, w.Join = least(w.Rate, v.Rate), least(w.Piece, v.Piece), max(w.Join, v.Join)
	either := func(a, b float64) float64 { return a + b - a*b }
	w.Corrupt, w.Lose = either(w.Corrupt, v.Corrupt), either(w.Lose, v.Lose)
	w.Double, w.Reorder = either(w.Double, v.Double), either(w.Reorder, v.Reorder)
}

// Hampers is what a fault on the path means for a client: what it says leaves late, or what it is
// told comes late, by the trial's own doing. If it Resends, what does not get through is lost
// meanwhile, and the systems on both sides send it again.
type Hampers struct{ Says, Hears, Resends bool }

// Add adds what another fault means.
func (h *Hampers) Add(o Hampers) {
	h.Says, h.Hears, h.Resends = h.Says || o.Says, h.Hears || o.Hears, h.Resends || o.Resends
}
