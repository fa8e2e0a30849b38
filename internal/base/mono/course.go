package mono

import (
	"sync/atomic"
	"time"
)

// A Course makes the clock of this process go as another one does, which is on another machine: it says what Now is,
// from this machine's own time. Own clocks drift apart by up to some tens of microseconds a second.
type Course struct {
	From Time    // by this machine's clock
	To   Time    // what Now was then
	Rate float64 // by how much Now goes faster than this machine's clock: 1e-6 is a microsecond a second
}

// At is what Now is at an instant of this machine's clock.
func (c *Course) At(own Time) Time {
	gone := own - c.From
	return c.To + gone + Time(c.Rate*float64(gone))
}

var course atomic.Pointer[Course] // nil: the process has its machine's own time

// Follow has Now take a course from here on. A course that begins where the one before is at that moment keeps time
// monotonic, as long as its Rate is above -1.
func Follow(c Course) { course.Store(&c) }

// Own reads this machine's clock, whatever course Now takes.
func Own() Time { return Time(time.Since(start)) }

// OfOwn is what Now was at an instant of this machine's clock.
func OfOwn(t Time) Time {
	if c := course.Load(); c != nil {
		return c.At(t)
	}
	return t
}
