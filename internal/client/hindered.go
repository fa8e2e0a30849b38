package client

import (
	"fmt"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/excuse"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/mark"
	"tidepull/internal/trial"
)

// Hampered is what all faults on a client's path mean for it together, and how many they are.
type Hampered struct {
	trial.Hampers
	Faults int
}

// Impaired tells that a fault on the client's path begins or ends, and what all those mean that go
// on now.
func (c *Client) Impaired(e *Env, now mono.Time, f *trial.Fault, on bool, h Hampered) {
	e.at(c, now)
	x := c.path.own()
	what := logbook.Mended
	if on {
		what = logbook.Impaired
		e.counts().Path.Clients++
	}
	if !c.path.is(idle) {
		e.event(what, noRoom, fmt.Sprintf("%s: %s", f.Do, f.Name))
	}
	over := now // of what is kept back
	if x.resends && !h.Says {
		// TCP has waited twice as long before each try (RFC 6298 5.5): the next one comes within as long
		// as it has gone on.
		since, _ := e.excuses.Last(c.id, excuse.Disturbed)
		over = now.Add(min(now.Sub(since.From), mostResend))
	}
	x.resends = h.Resends || x.resends && h.Faults > 0 // while any goes on, what one has lost is sent again
	e.hinderIf(h.Faults > 0, excuse.Disturbed, now)
	e.hinderIf(h.Says, excuse.HeldUp, over)
	e.hinderIf(h.Hears, excuse.HeldDown, over.Add(e.Trial.Prompt)) // what waited comes then
}

// mostResend is the longest that TCP waits before it sends again: Linux's (TCP_RTO_MAX).
const mostResend = 2 * time.Minute

// hinder notes that something is in the way of what the client says or hears, from now on, and
// tells of it if it was not before.
func (e *Env) hinder(by excuse.Cause) {
	if e.excuses.Begin(e.c.id, by, e.now) && by != excuse.Disturbed { // heartbeats are judged here
		e.tell(fact.Fact{Kind: fact.IsHindered, Client: e.c.id, Room: noRoom, What: uint8(by), Time: e.rel(e.now)})
	}
}

// frees notes that it is in the way until a time and no longer.
func (e *Env) frees(by excuse.Cause, until mono.Time) {
	if e.excuses.End(e.c.id, by, until) && by != excuse.Disturbed {
		e.tell(fact.Fact{Kind: fact.IsFree, Client: e.c.id, Room: noRoom, What: uint8(by), Time: e.rel(until)})
	}
}

// hinderIf is one or the other.
func (e *Env) hinderIf(is bool, by excuse.Cause, until mono.Time) {
	if is {
		e.hinder(by)
	} else {
		e.frees(by, until)
	}
}

// hindered reports whether something has been in the client's way at some time since one.
func (e *Env) hindered(of excuse.Set, since mono.Time) bool {
	_, was := e.excuses.Since(e.c.id, of, since)
	return was
}

// Nothing that happens on a connection of which a byte was changed is the server's doing: it may have
// read, or said, anything.
var changed = excuse.Of(excuse.ChangedUp, excuse.ChangedDown)

// garbled reports whether a fault has changed a byte of the client's connection.
func (e *Env) garbled() bool { return e.hindered(changed, e.now) }

// pathBad reports whether some fault was on the client's path since a time, or a byte was changed:
// heartbeats that did not come in time since then are not the server's doing.
func (e *Env) pathBad(since mono.Time) bool {
	return e.hindered(changed|excuse.Of(excuse.Disturbed), since)
}

// cutFromServer reports whether a fault keeps the server and the client from hearing each other, or
// did so lately, or a byte was changed: that the connection ends is not the server's doing then.
func (e *Env) cutFromServer() bool {
	return e.hindered(excuse.Of(excuse.HeldUp, excuse.HeldDown), e.now.Add(-e.faultLingers())) || e.garbled()
}

// LostOnPath tells that a fault lost a datagram of the client's: what it said is not said, and
// what it was to hear is nobody's fault.
func (c *Client) LostOnPath(e *Env, now mono.Time, up bool, b []byte) {
	e.at(c, now)
	f := fact.Fact{Kind: fact.Pardons, What: uint8(ledger.LostOnPath)}
	if up {
		f = fact.Fact{Kind: fact.Unsays}
	}
	e.tellOfMarks(f, b)
}

// DoubledOnPath tells that a fault has a datagram of the client's come twice: that its
// recipient, or all of them if it goes to the server, get it again is no fault of the server's.
func (c *Client) DoubledOnPath(e *Env, now mono.Time, up bool, b []byte) {
	e.at(c, now)
	what := ledger.Doubled
	if up {
		what = ledger.DoubledUp
	}
	e.tellOfMarks(fact.Fact{Kind: fact.Pardons, What: uint8(what)}, b)
}

// CorruptedOnPath tells that a fault has changed a byte of what the client says, or is told.
func (c *Client) CorruptedOnPath(e *Env, now mono.Time, up bool, _ []byte) {
	e.about(c, now)
	// What is said by requests waits for answers: those that were changed keep it back.
	up = up || e.Trial.Target.Route(int(c.path.route)).Kind == trial.OverHTTP
	if up { // what it has just said is among it
		for _, f := range e.Facts.Facts[min(e.before, len(e.Facts.Facts)):] {
			if f.Kind == fact.Says && f.Client == c.id {
				e.tell(fact.Fact{Kind: fact.Pardons, Client: c.id, Room: noRoom, Number: f.Number,
					What: uint8(ledger.ChangedUp)})
			}
		}
		e.hinder(excuse.ChangedUp)
	}
	e.hinder(excuse.ChangedDown)
}

// Lossy tells that the system loses or mixes up datagrams of the client's by a fault, and
// does not say which; or, without on, that it does no more.
func (c *Client) Lossy(e *Env, now mono.Time, up, down, on bool) {
	e.at(c, now)
	if !on { // what is under way comes yet, and the system may be told a little later
		e.mends(now.Add(e.Trial.Prompt))
		return
	}
	if up {
		c.CorruptedOnPath(e, now, true, nil)
	}
	if down {
		c.CorruptedOnPath(e, now, false, nil)
	}
}

// mends notes that nothing of what the client says or hears is changed from a time on: it has a new
// connection, for one.
func (e *Env) mends(from mono.Time) {
	e.frees(excuse.ChangedUp, from)
	e.frees(excuse.ChangedDown, from)
}

// tellOfMarks tells a fact about each message that is in some bytes.
func (e *Env) tellOfMarks(f fact.Fact, b []byte) {
	e.at(e.c, e.now)
	marks := mark.In(b)
	for m, end := marks.Next(); end > 0; m, end = marks.Next() {
		if m.Run == e.Run {
			f.Client, f.Room, f.Number = e.c.id, noRoom, m.Number
			e.tell(f)
		}
	}
}
