package client

import (
	"fmt"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/mark"
	"tidepull/internal/trial"
)

// Hampered is what all faults on a client's path mean for it together, and how many they are.
type Hampered struct {
	trial.Hampers
	Faults int
}

// Crew is the client's crew, by number.
func (c *Client) Crew() int { return int(c.crew) }

// InCrew is the client's number in its crew.
func (c *Client) InCrew() int { return int(c.n) }

// Node is which of the nodes of its route the client connects to.
func (c *Client) Node(e *Env) int { return e.nodeOf(c, c.route) }

// IsIn reports whether the client entered a room last.
func (c *Client) IsIn(e *Env, room string) bool {
	return c.room != noRoom && string(e.roomName(c.room)) == room
}

// Impaired tells that a fault on the client's path begins or ends, and what all those mean that go
// on now.
func (c *Client) Impaired(e *Env, now mono.Time, f *trial.Fault, on bool, h Hampered) {
	e.at(c, now)
	x := c.optional()
	what := logbook.Mended
	if on {
		what = logbook.Impaired
		e.counts().Path.Clients++
	}
	if c.phase != idle {
		e.event(c, now, what, noRoom, fmt.Sprintf("%s: %s", f.Do, f.Name))
	}
	was := x.path.Hampers
	x.path.change(now, h)
	over := now // of what is kept back
	if was.Resends && !h.Says {
		// TCP has waited twice as long before each try (RFC 6298 5.5): the next one comes within as long
		// as it has gone on.
		over = now.Add(min(now.Sub(x.path.since), mostResend))
	}
	switch {
	case h.Says && !was.Says:
		e.tell(now, fact.Fact{Kind: fact.Mutes, Client: c.id, Room: noRoom, Flags: fact.Good})
	case !h.Says && was.Says:
		e.tell(now, fact.Fact{Kind: fact.Mutes, Client: c.id, Room: noRoom, Time: e.rel(over)})
	}
	switch {
	case h.Hears && !was.Hears:
		e.tellOf(c, now, fact.ReadsSlowly, noRoom)
	case !h.Hears && was.Hears: // what waited comes now
		e.tell(now, fact.Fact{Kind: fact.ReadsOn, Client: c.id, Room: noRoom,
			Time: e.rel(over.Add(e.Trial.Prompt))})
	}
}

// An impairment is what faults on its path do to a client, and until when some did.
type impairment struct {
	Hampered
	since mono.Time // when the first of those that go on began
	until mono.Time // when something changed last; 0: there was no fault
	clear mono.Time // when something changed last of those that keep back what is said or told; 0: there was none
}

// mostResend is the longest that TCP waits before it sends again: Linux's (TCP_RTO_MAX).
const mostResend = 2 * time.Minute

func (p *impairment) change(now mono.Time, h Hampered) {
	if p.Faults == 0 {
		p.since = now
	}
	p.until = now
	if p.blocks() || h.Says || h.Hears {
		p.clear = now
	}
	h.Resends = h.Resends || p.Resends && h.Faults > 0 // while any goes on, what one has lost is sent again
	p.Hampered = h
}

// blocks reports whether something keeps back what is said or told.
func (p *impairment) blocks() bool { return p.Says || p.Hears }

// pathBad reports whether some fault was on the client's path since a time, or a byte was changed:
// heartbeats that did not come in time since then are not the server's doing.
func (c *Client) pathBad(since mono.Time) bool {
	if c.more == nil {
		return false
	}
	p := &c.more.path
	return p.Faults > 0 || p.until != 0 && p.until >= since || c.more.garbled.any()
}

// cutFromServer reports whether a fault keeps the server and the client from hearing each other, or
// did so lately, or a byte was changed: that the connection ends is not the server's doing then.
func (c *Client) cutFromServer(e *Env, now mono.Time) bool {
	if c.more == nil {
		return false
	}
	p := &c.more.path
	return p.blocks() || p.clear != 0 && now < p.clear.Add(e.faultLingers()) || c.more.garbled.any()
}

// hampered reports whether what the client says leaves late by the trial's own doing.
func (c *Client) hampered() bool { return c.more != nil && c.more.path.Says }

// LostOnPath tells that a fault lost a datagram of the client's: what it said is not said, and
// what it was to hear is nobody's fault.
func (c *Client) LostOnPath(e *Env, now mono.Time, up bool, b []byte) {
	kind := fact.Excuses
	if up {
		kind = fact.Unsays
	}
	c.tellOfMarks(e, now, kind, 0, b)
}

// DoubledOnPath tells that a fault has a datagram of the client's come twice: that its
// recipient, or all of them if it goes to the server, get it again is no fault of the server's.
func (c *Client) DoubledOnPath(e *Env, now mono.Time, up bool, b []byte) {
	flags := uint8(0)
	if up {
		flags = fact.ToAll
	}
	c.tellOfMarks(e, now, fact.Doubles, flags, b)
}

// garbled is in which directions a byte of a client's connection was changed by a fault. Nothing
// that happens on that connection afterwards is the server's doing: it may have read, or said,
// anything.
type garbled struct{ up, down bool }

func (g garbled) any() bool { return g.up || g.down }

// garbled reports whether a fault has changed a byte of the client's connection.
func (c *Client) garbled() bool { return c.more != nil && c.more.garbled.any() }

// CorruptedOnPath tells that a fault has changed a byte of what the client says, or is told.
func (c *Client) CorruptedOnPath(e *Env, now mono.Time, up bool, _ []byte) {
	// What is said by requests waits for answers: those that were changed keep it back.
	up = up || e.Trial.Target.Route(int(c.route)).Kind == trial.OverHTTP
	if up { // what it has just said is among it
		for _, f := range e.Facts.Facts[min(e.call, len(e.Facts.Facts)):] {
			if f.Kind == fact.Says && f.Client == c.id {
				e.tell(now, fact.Fact{Kind: fact.GarblesOne, Client: c.id, Room: noRoom, Number: f.Number})
			}
		}
	}
	g := &c.optional().garbled
	switch {
	case up && !g.up:
		g.up = true
		e.tell(now, fact.Fact{Kind: fact.Garbles, Client: c.id, Room: noRoom, Flags: fact.Good})
	case !up && !g.down:
		g.down = true
		e.tellOf(c, now, fact.Garbles, noRoom)
	}
}

// Lossy tells that the system loses or mixes up datagrams of the client's by a fault, and
// does not say which; or, without on, that it does no more.
func (c *Client) Lossy(e *Env, now mono.Time, up, down, on bool) {
	e.at(c, now)
	if !on { // what is under way comes yet, and the system may be told a little later
		c.mends(e, now, now.Add(e.Trial.Prompt))
		return
	}
	if up {
		c.CorruptedOnPath(e, now, true, nil)
	}
	if down {
		c.CorruptedOnPath(e, now, false, nil)
	}
}

// connectsAnew tells that the client begins a connection of which nothing was changed yet.
func (c *Client) connectsAnew(e *Env, now mono.Time) { c.mends(e, now, now) }

// mends tells that nothing of what the client says or hears is changed from a time on.
func (c *Client) mends(e *Env, now, from mono.Time) {
	if c.garbled() {
		c.more.garbled = garbled{}
		e.tell(now, fact.Fact{Kind: fact.Mends, Client: c.id, Room: noRoom, Time: e.rel(from)})
	}
}

// tellOfMarks tells a fact about each message that is in some bytes.
func (c *Client) tellOfMarks(e *Env, now mono.Time, kind fact.Kind, flags uint8, b []byte) {
	e.at(c, now)
	marks := mark.In(b)
	for m, end := marks.Next(); end > 0; m, end = marks.Next() {
		if m.Run == e.Run {
			e.tell(now, fact.Fact{Kind: kind, Client: c.id, Room: noRoom, Number: m.Number, Flags: flags})
		}
	}
}
