package logbook

import (
	"math/bits"
	"strings"
	"time"
)

// Overload says why the figures of a second may be the tool's or the machine's
// doing and not the server's; 0 means that they are the server's.
type Overload uint16

// The reasons; more than one may hold.
const (
	LoopFull     Overload = 1 << iota // the loop had no time left
	SendsLate                         // messages were sent late
	ReadingLate                       // what arrived was read late
	NoCore                            // the loop, or the whole machine, had to wait for a core
	Stopped                           // the process did not run for a while
	NoPort                            // no local port was free
	NoFile                            // the process, or the system, had no file left
	NoMemory                          // the system had no memory left for sockets
	Dropped                           // the system dropped datagrams that were not read in time
	numOverloads = iota
)

// overloadWords say the reasons so that "because" can stand before them.
var overloadWords = [numOverloads]string{
	"the tool's loop was full", "messages were sent late", "what arrived was read late",
	"this machine kept programs waiting for a core", "the process was stopped", "no local port was free",
	"no file was left to open", "there was no memory left for sockets",
	"datagrams came faster than the tool read them, and the system dropped some",
}

// Words says why, the causes first and the symptoms only if no cause is
// known; "" for 0.
func (o Overload) Words() string {
	if o&^(SendsLate|ReadingLate) != 0 {
		o &^= SendsLate | ReadingLate
	}
	var all []string
	for ; o != 0; o &= o - 1 {
		all = append(all, overloadWords[bits.TrailingZeros16(uint16(o))])
	}
	return strings.Join(all, "; ")
}

// Halts are the reasons for which something may have failed that no delay explains: nothing ran,
// or something could not even be tried.
const Halts = Stopped | NoPort | NoFile | NoMemory | Dropped

// MayLose reports whether the tool or the machine can be why a message of the second did not come within a grace time
// at all. That it was sent or read late is no reason: silence is judged by what was read. Nor is it that programs had
// to wait for a core, if the system says how long, nothing waited for more than a small part of the grace time, no
// core was taken away for more than half of the time, and none of the threads had more to do than it was given time
// for: what then does not come would have taken half the grace time on a machine that does nothing else.
func (h *Health) MayLose(grace time.Duration) bool {
	switch {
	case h.Overload&Halts != 0:
		return true
	case h.Overload&NoCore == 0:
		return false
	}
	return h.Waiting&NoCore != 0 || !h.Watched || h.Kept > grace/keptOfGrace || h.Starved > maxStarved ||
		float64(h.Stolen) > maxSlowed*float64(h.Span)
}

// Bounds for MayLose.
const (
	keptOfGrace = 6
	maxSlowed   = 0.5 // of one core, though it may have been taken from several
)

// Bounds above which a second counts as overloaded. A lag must hold for a tenth
// of what happened in the second: one pause of the machine, which any program
// meets, lengthens a few latencies, but does not make the tool the bottleneck
// (the messages that were late themselves are on the page's Own). Reading late
// does not lengthen any latency, which ends in the kernel, but it holds up
// answers.
const (
	maxBusy        = 0.97
	MaxScheduleLag = 20 * time.Millisecond
	maxReadingLag  = 100 * time.Millisecond
	lagShare       = 0.9 // the quantile that the lags are judged by
	// shortest is the span from which on the share of a page's time that the
	// loop was busy says anything: the last page may be a fraction of a
	// millisecond.
	shortest = 200 * time.Millisecond
	// A loop that waits this long for a core within a second, and that share of
	// the time for which it ran, is on a crowded machine, and so is a server on it;
	// likewise if that share of a core was taken from the machine.
	maxWaited      = 200 * time.Millisecond
	maxWaitedShare = 0.5
	maxStolenShare = 0.1
	// maxKept is how long a thread of the tool or the server may be kept from a core at a time,
	// and maxStarved for how long of a second one of them may get less than it wants.
	maxKept    = 100 * time.Millisecond
	maxStarved = 200 * time.Millisecond
)

// Spares reports whether the second says something of a latency: neither the tool nor the machine
// was the bottleneck, and what waited for a core cannot have lengthened it much, as nothing
// waited for longer than so long at a time, or no longer than it does on a calm machine. A second
// that is marked because a program was kept from a core is not, if that is the one reason and was
// not for so long.
func (h *Health) Spares(kept time.Duration) bool {
	switch h.Overload {
	case 0:
		return h.Kept <= kept || h.Crowded == 0 && h.Kept <= MaxScheduleLag
	case NoCore:
		return h.Watched && h.Kept <= kept && h.Starved <= maxStarved && !h.robbed() && h.Waiting == 0
	}
	return false
}

// robbed reports whether much of the second was taken away by what the machine runs on.
func (h *Health) robbed() bool {
	return h.Span > shortest && float64(h.Stolen) > maxStolenShare*float64(h.Span)
}

// Judge marks the page if the tool was the bottleneck in it.
func (p *Page) Judge() {
	h := &p.Health
	h.Overload = h.Waiting
	if h.Span > shortest && float64(h.Busy) > maxBusy*float64(h.Span) {
		h.Overload |= LoopFull
	}
	if p.Times[ScheduleLag].Quantile(lagShare) > MaxScheduleLag {
		h.Overload |= SendsLate
	}
	if p.Times[ReadingLag].Quantile(lagShare) > maxReadingLag {
		h.Overload |= ReadingLate
	}
	waited := h.Waited > maxWaited && float64(h.Waited) > maxWaitedShare*float64(h.CPU)
	if h.Watched { // many short waits are no harm
		waited = h.Kept > maxKept || h.Starved > maxStarved
	}
	if waited || h.robbed() {
		h.Overload |= NoCore
		if h.Waiting&Stopped == 0 && h.Overload&LoopFull != 0 && h.Busy-h.Waited < h.Span/2 {
			h.Overload &^= LoopFull // it did not work, it waited
		}
	}
}
