package fact

import (
	"encoding/binary"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/ledger"
)

// A Gatherer puts the arrivals of one message at many clients together, so that they are one fact: Reaches. Its text
// has some four bytes for each of them, and the account looks at the message once.
//
// What is told of one client keeps its order. An arrival joins those of its message only if they come behind everything
// that its client has in the round; and whatever else is told of a client ends the round if the client has a part in it
// (Ends). What is told of different clients may change places, within a round: nothing that is settled may depend on
// that. A round has to end with the second, too, which what came otherwise than it should is booked on.
type Gatherer struct {
	round   uint32
	at      mono.Time // when the last was told of anybody
	started mono.Time
	open    []uint8 // the places in use, in the order in which they came into use
	places  [64]gathered
	clients []gatheredClient
}

// gathered are the arrivals of one message in the round.
type gathered struct {
	fact   Fact
	nth    uint8 // in the order of the round, from 1; 0: it is free
	client ledger.Client
	time   mono.Time
	text   []byte
}

type gatheredClient struct {
	round uint32    // in which it had its last arrival
	nth   uint8     // of the message that this was of
	told  mono.Time // when something else was told of it last, and 1: what is of one instant stays in its order
}

// Gather takes an arrival that is told at an instant: a Gets that is nothing but its message, its client and one time.
// Rounds end into log.
func (g *Gatherer) Gather(log *Log, f *Fact, at mono.Time) {
	if f.Since != 0 || f.Flags != 0 {
		g.Tell(log, f, at)
		return
	}
	c := g.of(f.Client)
	if c.told == at+1 {
		g.Tell(log, f, at)
		return
	}
	if g.started/1e9 != at/1e9 {
		g.End(log)
	}
	g.at = at
	p := &g.places[place(f.Number)]
	if p.nth == 0 && len(g.open) == len(g.places) ||
		p.nth != 0 && !p.fact.alike(f) ||
		c.round == g.round && p.nth != 0 && p.nth <= c.nth {
		g.End(log)
		c = g.of(f.Client)
	}
	if len(g.open) == 0 {
		g.round++
		g.started = at
	}
	if p.nth == 0 {
		g.open = append(g.open, uint8(place(f.Number)))
		p.fact, p.nth, p.text, p.client, p.time = *f, uint8(len(g.open)), p.text[:0], 0, f.Time
	}
	p.text = binary.AppendVarint(p.text, int64(f.Client)-int64(p.client))
	p.text = binary.AppendVarint(p.text, int64(f.Time-p.time))
	p.client, p.time = f.Client, f.Time
	c.round, c.nth = g.round, p.nth
}

// alike reports whether two arrivals are of one message, and differ in nothing but their clients and times.
func (f *Fact) alike(g *Fact) bool {
	return f.Number == g.Number && f.Sum == g.Sum && f.Size == g.Size && f.Peer == g.Peer && f.Room == g.Room
}

// Tell adds another fact of a client to the log, which may end the round.
func (g *Gatherer) Tell(log *Log, f *Fact, at mono.Time) {
	g.Ends(log, f.Client, at)
	f.At = at
	log.Add(*f)
}

// Ends has to be called before anything else is told of a client.
func (g *Gatherer) Ends(log *Log, c ledger.Client, at mono.Time) {
	of := g.of(c)
	if of.told = at + 1; of.round == g.round || g.started/1e9 != at/1e9 {
		g.End(log)
	}
	g.at = at
}

// End ends the round, if there is one: what was gathered goes into the log.
func (g *Gatherer) End(log *Log) {
	for _, at := range g.open {
		p := &g.places[at]
		p.nth = 0
		f := p.fact
		f.Kind, f.Client, f.At = Reaches, BeforeAll, g.at
		log.AddText(f, p.text)
	}
	if len(g.open) > 0 {
		g.open, g.round = g.open[:0], g.round+1
	}
}

// of is what is known of a client.
func (g *Gatherer) of(c ledger.Client) *gatheredClient {
	for int(c) >= len(g.clients) {
		g.clients = append(g.clients, gatheredClient{})
	}
	return &g.clients[c]
}

// A Reached is one of the arrivals in a Reaches.
type Reached struct {
	To ledger.Client
	At mono.Time
}

// NextReached takes the next arrival from what is left of the text of a Reaches; the one before it is zero, with the
// fact's Time, for the first. Not ok: there is none, or it makes no sense, and then rest is not empty.
func NextReached(rest []byte, before Reached) (r Reached, after []byte, ok bool) {
	client, n := binary.Varint(rest)
	if n <= 0 {
		return r, rest, false
	}
	later, m := binary.Varint(rest[n:])
	if m <= 0 {
		return r, rest, false
	}
	return Reached{ledger.Client(int64(before.To) + client), before.At + mono.Time(later)}, rest[n+m:], true
}
