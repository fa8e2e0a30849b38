package clocks

import (
	"fmt"
	"time"
)

// A Course is how the time of a machine's processes goes as that of another machine: when this machine's clock shows
// Here, theirs is There, and gains Rate on this machine's clock.
type Course struct {
	Here, There int64 // nanoseconds
	Rate        float64
	Off         time.Duration // by how much it may be off the other machine's clock until the next one
}

// At is their time at an instant of this machine's clock.
func (c *Course) At(here int64) int64 {
	gone := here - c.Here
	return c.There + gone + int64(c.Rate*float64(gone))
}

const (
	courseEvery = 40 * time.Millisecond
	catchUpIn   = time.Second // an error is made up for
	mostSlew    = 1000e-6     // and by no more: what is timed within one machine is to stay true to a thousandth
	jumped      = 20 * time.Millisecond
)

// A Jumped is a clock that was set, or stood still, while a run went on.
type Jumped struct{ By time.Duration }

func (e *Jumped) Error() string {
	return fmt.Sprintf("the clocks of this machine and of the one that leads the run jumped apart by %v", e.By)
}

// Next is the course from an instant on; last is the one before it, nil if there is none.
func (b *Bounds) Next(last *Course, here int64) (*Course, error) {
	offset, off := b.At(here)
	next := &Course{Here: here, There: here + int64(offset), Rate: b.rate}
	slew := 0.0
	if last != nil {
		behind := next.There - last.At(here)
		next.There -= behind // time goes on from where it is
		if d := time.Duration(behind).Abs(); d > jumped+off {
			return nil, &Jumped{time.Duration(behind)}
		} else if off += d; d > 0 {
			slew = max(-mostSlew, min(float64(behind)/float64(catchUpIn), mostSlew))
		}
	}
	next.Rate += slew
	next.Off = off + time.Duration((b.unsure+max(slew, -slew))*float64(2*courseEvery))
	return next, nil
}

// A Skew makes a clock wrong, for tests: by a shift, and faster by parts of a million.
type Skew struct {
	Shift time.Duration
	PPM   float64
	Since int64 // from which instant on it runs away
}

// Of is what the wrong clock shows at an instant.
func (s *Skew) Of(at int64) int64 {
	return at + int64(s.Shift) + int64(s.PPM*1e-6*float64(at-s.Since))
}

// Undo gives a course by the right clock for one by the wrong one.
func (s *Skew) Undo(c Course) Course {
	fast := 1 + s.PPM*1e-6
	c.Here = s.Since + int64(float64(c.Here-int64(s.Shift)-s.Since)/fast)
	c.Rate = (1+c.Rate)*fast - 1
	return c
}
