// Package mono holds the one notion of time that the measuring code uses: a
// monotonic instant as an 8-byte value.
//
// Protocol and client machines never read a clock; they are handed a Time.
// Only drivers and the outermost wiring call Now.
package mono

import "time"

// Time is a count of nanoseconds since the process started, monotonic. The
// zero value is the start of the process.
type Time int64

// Never is later than every instant that occurs; a machine with nothing to
// wait for answers it as its next deadline.
const Never = Time(1<<63 - 1)

var start = time.Now()

// Now reads the monotonic clock. In a process that serves the run of another machine it goes as that one's does
// (Follow).
func Now() Time { return OfOwn(Own()) }

// A Span is when something happened that is not known exactly: not before From,
// and not after To.
type Span struct{ From, To Time }

// At is the span of what is known exactly.
func At(t Time) Span { return Span{t, t} }

// WallOffset is what must be added to a Time to give nanoseconds since 1970.
// Both clocks are read in one call.
func WallOffset() int64 {
	t := time.Now()
	return t.UnixNano() - int64(OfOwn(Time(t.Sub(start))))
}

// OwnWallOffset is WallOffset for a time of this machine's clock (Own).
func OwnWallOffset() int64 {
	t := time.Now()
	return t.UnixNano() - int64(t.Sub(start))
}

// Wall gives the wall-clock time of t, by the offset at the process's start.
func (t Time) Wall() time.Time { return start.Add(time.Duration(t)) }

// Add returns t moved by d, saturating at Never.
func (t Time) Add(d time.Duration) Time {
	if t == Never || d > 0 && t > Never-Time(d) {
		return Never
	}
	return t + Time(d)
}

// Sub returns the time from u to t.
func (t Time) Sub(u Time) time.Duration { return time.Duration(t - u) }
