package trial

import (
	"math"
	"time"
)

// A Promise is what a server and its clients have agreed on about heartbeats.
type Promise struct {
	Every    time.Duration // from one to the next
	Deadline time.Duration // within which the server closes who gives no sign of life; 0: it does not say
	Server   bool          // the server sends them
	Client   bool          // its clients send them, and it answers
	AnyData  bool          // whatever the server sends is as good as a heartbeat of its own
	// Tolerance is what part of Every a heartbeat may come early or late, and an eviction late.
	Tolerance float64
}

// Slack is how much a heartbeat may come early or late, and an eviction late.
func (p *Promise) Slack() time.Duration { return time.Duration(p.Tolerance * float64(p.Every)) }

// Misdeed is how a client misbehaves on purpose about signs of life.
type Misdeed uint8

// The misdeeds.
const (
	Silent    Misdeed = iota // it answers no heartbeats and sends none
	Slowly                   // it answers them late
	Wrongly                  // it answers them with something else
	Hurried                  // it sends them too fast
	Deaf                     // it sends them, and never reads
	Frozen                   // it neither reads nor writes
	Unplugged                // nothing that the server sends arrives, not even at its system
)

// Misdeeds are their names.
var Misdeeds = []string{"silent", "late", "wrong", "fast", "deaf", "frozen", "unplugged"}

func (m Misdeed) String() string { return Misdeeds[m] }

// Still reports whether a client that does so says nothing any more.
func (m Misdeed) Still() bool { return m == Silent || m == Slowly || m == Frozen || m == Unplugged }

// Blind reports whether a client that does so does not read.
func (m Misdeed) Blind() bool { return m == Deaf || m == Frozen || m == Unplugged }

// A Misbehaviour is what a client does wrong on purpose.
type Misbehaviour struct {
	Do    Misdeed
	Share float64       // of the crew's clients, from 0 to 1
	After time.Duration // how long after it is connected
	By    time.Duration // Slowly: how late
	Every time.Duration // Hurried: how fast
	Must  Outcome       // what the server must do about it
}

// Outcome is what a server must do about a client that misbehaves.
type Outcome uint8

// The outcomes.
const (
	Either Outcome = iota
	MustEvict
	MustKeep
)

// Outcomes are their names.
var Outcomes = []string{"either", "evicted", "kept"}

// Misbehaves is how client n of the crew misbehaves; nil if it behaves. Each share is spread
// evenly over the clients that those before it leave, and is exact for the first n of them.
func (c *Crew) Misbehaves(n int) *Misbehaviour {
	left := 1.0
	for i := range c.Misbehave {
		m := &c.Misbehave[i]
		share := math.Min(1, m.Share/left)
		if InShare(share, n) {
			return m
		}
		n -= int(math.Floor(float64(n)*share + 1e-9)) // its number among those that are left
		if left -= m.Share; left < 1e-9 {
			return nil
		}
	}
	return nil
}
