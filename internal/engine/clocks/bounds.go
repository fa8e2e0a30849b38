// Package clocks finds out how far the clock of another machine is from this one's, all the time, and within which
// bounds that is certain; and makes a course by which this machine's time goes as the other's.
//
// A question and its answer bound the offset from both sides (as in NTP, RFC 5905 section 8): what left here at Sent
// was there at Received, not before; what left there at Answered was here at Back, not before. That holds whatever the
// network does. Half of the least round trip of late is how well the offset is known.
package clocks

import "time"

// An Exchange is a question to the other machine and its answer. Sent and Back are instants of this machine's clock,
// Received and Answered of the other's, in nanoseconds. Nothing left before Sent and Answered, nor came after Received
// and Back.
type Exchange struct{ Sent, Received, Answered, Back int64 }

// RoundTrip is how long both ways took.
func (x *Exchange) RoundTrip() time.Duration {
	return time.Duration(x.Back - x.Sent - (x.Answered - x.Received))
}

// How fast clocks may drift apart, in nanoseconds for each nanosecond.
const (
	unknownDrift = 500e-6 // before anything is known: what a system's clock is slewed by at the most
	driftChanges = 20e-6  // by how much it may differ from what it was of late: crystals warm up
)

// Bounds are the bounds within which the other clock's offset lies: what it shows more than this machine's. The zero
// value knows nothing.
type Bounds struct {
	at     int64 // of this machine's clock
	lo, hi float64
	rate   float64 // by how much the other clock gains, about
	unsure float64 // by how much that may be wrong
	seen   []bound // of the last seconds
	Broken int     // times that an exchange contradicted those before it: one of the clocks jumped
}

type bound struct {
	at     int64
	lo, hi float64
}

const (
	seenEvery = int64(time.Second / 2)
	seenMost  = 32
	seenLeast = int64(time.Second)
)

// longestTrip is how long an exchange may take that says anything.
const longestTrip = time.Second

// Known reports whether there was an exchange.
func (b *Bounds) Known() bool { return b.at != 0 }

// Rate is by how much the other clock gains on this one, about: 1e-6 is a microsecond a second.
func (b *Bounds) Rate() float64 { return b.rate }

// Unsure is by how much Rate may be wrong.
func (b *Bounds) Unsure() float64 { return b.unsure }

// Take takes an exchange into account; false if it says nothing.
func (b *Bounds) Take(x Exchange) bool {
	if x.Answered < x.Received || x.RoundTrip() < 0 || x.Back-x.Sent > int64(longestTrip) || x.Back < b.at {
		return false
	}
	if b.at == 0 {
		b.unsure = unknownDrift
	}
	gone := float64(x.Back - x.Sent)
	lo, hi := float64(x.Answered-x.Back), float64(x.Received-x.Sent)+b.rate*gone+b.unsure*gone
	if b.at != 0 {
		b.moveTo(x.Back)
		if lo > b.hi || hi < b.lo {
			b.Broken++
			b.seen, b.rate, b.unsure = b.seen[:0], 0, unknownDrift
		} else {
			lo, hi = max(lo, b.lo), min(hi, b.hi)
		}
	}
	b.at, b.lo, b.hi = x.Back, lo, hi
	b.learnRate()
	return true
}

// moveTo moves the bounds to a later instant.
func (b *Bounds) moveTo(at int64) {
	gone := float64(at - b.at)
	b.at, b.lo, b.hi = at, b.lo+(b.rate-b.unsure)*gone, b.hi+(b.rate+b.unsure)*gone
}

// learnRate finds out how fast the clocks drift apart, from bounds that are some seconds apart.
func (b *Bounds) learnRate() {
	if n := len(b.seen); n > 0 && b.at-b.seen[n-1].at < seenEvery {
		return
	}
	if len(b.seen) == seenMost {
		b.seen = append(b.seen[:0], b.seen[1:]...)
	}
	b.seen = append(b.seen, bound{b.at, b.lo, b.hi})
	first := b.seen[0]
	gone := float64(b.at - first.at)
	if b.at-first.at < seenLeast {
		return
	}
	least, most := (b.lo-first.hi)/gone, (b.hi-first.lo)/gone
	if unsure := (most-least)/2 + driftChanges; unsure < unknownDrift {
		b.rate, b.unsure = (least+most)/2, unsure
	}
}

// At is the offset at an instant of this machine's clock, and by how much that may be wrong.
func (b *Bounds) At(at int64) (offset, off time.Duration) {
	c := *b
	c.moveTo(max(at, b.at))
	return time.Duration((c.lo + c.hi) / 2), time.Duration((c.hi-c.lo)/2) + 1
}
