// Package excuse keeps what was in the way between clients and their server, and is not the
// server's doing: a client reads slowly on purpose, a fault of the trial keeps back or changes
// what goes over its path, its connection is broken. Whoever judges what came of a message asks a
// Store whether something was in its way, and the answer says what.
//
// A client is known by its number in the run. A Store has one owner and reads no clock.
package excuse

// A Cause is something that may be in the way. What it means is its row in causes.
type Cause uint8

// The causes. Those before LostOnPath go on for a while, and a Store keeps them.
const (
	None          Cause = iota
	SlowReader          // it reads slowly on purpose
	NotReading          // it reads nothing on purpose
	HeldDown            // a fault keeps back what it is told
	ChangedDown         // a fault has changed a byte of what it is told
	Away                // its connection is broken, and it may catch up once it is back
	HungUp              // it ended its connection without reading the rest
	HeldUp              // a fault keeps back what it says
	ChangedUp           // a fault has changed a byte of what it says
	CutOff              // its connection was about to break
	BetweenRoutes       // it has gone down to its next route, and is not in its rooms again
	WorkerLost          // the process of the tool that had it ended
	Disturbed           // some fault is on its path, which may keep nothing back: heartbeats come late
	LostOnPath          // a fault lost the one message on its way
	Left                // its recipient left, or was cut off
	Behind              // the tool has not read so far
	NumCauses
)

// An Effect is what becomes of a message by what is in its way.
type Effect uint8

// The effects.
const (
	Unknown Effect = iota // it may have come or not, and nobody knows
	Late                  // it comes late, or not at all if the connection ends first
	Changed               // it may come changed, twice, to somebody else or not at all
)

// Way is the direction in which a cause is in the way.
type Way uint8

// The directions.
const (
	Hears Way = iota // of what a client is told
	Says             // of what it says
)

var causes = [NumCauses]struct {
	name   string
	way    Way
	effect Effect
	why    string // of a message that did not come, in words
}{
	None:       {"", Hears, Unknown, ""},
	SlowReader: {"slow reader", Hears, Late, "its recipient read slowly on purpose"},
	NotReading: {"not reading", Hears, Late, "its recipient read nothing on purpose"},
	HeldDown:   {"held down", Hears, Late, "a fault of the trial kept back what its recipient was told"},
	ChangedDown: {"changed down", Hears, Changed,
		"a fault of the trial had changed bytes of its recipient's connection"},
	Away:      {"away", Hears, Late, "its recipient's connection was broken when it was said"},
	HungUp:    {"hung up", Hears, Unknown, "its recipient ended its connection without reading the rest"},
	HeldUp:    {"held up", Says, Late, "a fault of the trial kept back what its sender said"},
	ChangedUp: {"changed up", Says, Changed, "a fault of the trial had changed bytes of its sender's connection"},
	CutOff:    {"cut off", Says, Unknown, "its sender was cut off just as it was said, and nobody has it"},
	BetweenRoutes: {"between routes", Hears, Unknown,
		"its recipient was on its way from one route to the next"},
	WorkerLost: {"worker lost", Hears, Unknown, "the process of the tool that had its sender or its recipient was " +
		"lost"},
	Disturbed: {"disturbed", Says, Late, "a fault of the trial was on the path"},
	LostOnPath: {"lost on the path", Hears, Unknown,
		"a fault of the trial lost it on its way, or gave it out at another time"},
	Left:   {"left", Hears, Unknown, "its recipient left, or was cut off, before it could be expected"},
	Behind: {"behind", Hears, Unknown, "the tool was too far behind to tell"},
}

func (c Cause) String() string { return causes[c].name }

// Way is the direction that the cause is in the way of.
func (c Cause) Way() Way { return causes[c].way }

// Effect is what becomes of messages by the cause.
func (c Cause) Effect() Effect { return causes[c].effect }

// Why says in words why a message that did not come is nobody's loss; "" for None.
func (c Cause) Why() string { return causes[c].why }

// Lasts reports whether the cause goes on for a while, so that a Store keeps it.
func (c Cause) Lasts() bool { return c > None && c < LostOnPath }

// Named gives the cause with a name; None if there is none.
func Named(name string) Cause {
	for c := range NumCauses {
		if causes[c].name == name {
			return c
		}
	}
	return None
}

// A Set is some of the causes.
type Set uint32

// Of is the set of some causes.
func Of(some ...Cause) (s Set) {
	for _, c := range some {
		s |= 1 << c
	}
	return s
}

// With is the set of all causes that last, in a direction and with an effect.
func With(w Way, e Effect) (s Set) {
	for c := range NumCauses {
		if c.Lasts() && c.Way() == w && c.Effect() == e {
			s |= 1 << c
		}
	}
	return s
}

// Has reports whether a cause is in the set.
func (s Set) Has(c Cause) bool { return s&(1<<c) != 0 }
