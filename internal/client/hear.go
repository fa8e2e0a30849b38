package client

import (
	"fmt"

	"tidepull/internal/base/mono"
	"tidepull/internal/client/reading"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/ledger"
)

// list takes a message, or each item of a list in it that holds messages.
func (c *Client) list(e *Env, text []byte, binary bool, came mono.Span, now mono.Time) {
	p := e.reader.Part(text)
	if e.Trial.Dialect.Each != nil {
		c.load(e, p)
		if e.reader.Each(func(item reading.Part) { c.takes(e, item, binary, came, now) }) {
			return
		}
	}
	c.takes(e, p, binary, came, now)
}

// load puts a message into the scope, for expressions of the client.
func (c *Client) load(e *Env, p reading.Part) {
	e.reader.Load(p)
	c.fill(e)
}

// takes has a message read, and takes what it means to what the client is about: it may mean several
// things at once.
func (c *Client) takes(e *Env, p reading.Part, binary bool, came mono.Span, now mono.Time) {
	e.counts().Arrivals++
	counts := e.numbers[c.crew] || e.countsNumbers(c)
	m := e.reader.Read(p, binary, counts || c.listens())
	if m.Read {
		c.fill(e)
		e.reader.Meet(m)
	}
	if counts {
		c.notesNumber(e, m, now)
	}
	if m.Is&reading.History != 0 {
		c.followsHistory(e, m)
	}
	known := m.Marked || m.Is&reading.History != 0
	if !m.Marked {
		e.listens(c, came.To, m.Text)
	} else if m.Is&reading.Echo == 0 {
		c.gets(e, m, came)
	}
	c.expected = false
	if m.Read {
		known = c.judges(e, m, came.To, now) || known
		if c.phase == open {
			known = c.hears(e, m, came.To, now) || known
		}
	}
	if !known {
		e.unknown(c, m)
	}
	if c.phase == open && e.remembers[c.crew] && !c.expected {
		c.optional().inbox.add(p)
	}
}

// gets tells that a message with marks came. If it shares its read with later bytes, the kernel's
// stamp may be a later packet's.
func (c *Client) gets(e *Env, m *reading.Message, came mono.Span) {
	f := fact.Fact{Kind: fact.Gets, Client: c.id, Time: e.rel(came.To), Sum: m.Sum, Size: uint32(len(m.Text))}
	if came.From < came.To {
		e.counts().Coarse++
		f.Since = e.rel(came.From)
	}
	history := uint8(0)
	if m.Is&reading.History != 0 {
		history = fact.History
	}
	for ; m.Marked; m.NextMark() {
		f.Peer, f.Room, f.Number, f.Flags = ledger.Client(m.Mark.Sender), int32(m.Mark.Room), m.Mark.Number, history
		if m.Mark.Run != e.Run {
			f.Flags |= fact.Foreign
		}
		e.tell(e.now, f)
	}
}

// notesNumber notes a message's number, if it has one. The first live one after the client came back
// says whether the server numbers on, or has forgotten how far it was.
func (c *Client) notesNumber(e *Env, m *reading.Message, now mono.Time) {
	seq, live := m.Number, m.Is&reading.History == 0
	switch {
	case !live:
		seq = m.PastNumber
	case m.Is&reading.Live == 0:
		return
	case e.Trial.Dialect.Heard.Room != nil:
		if room, ok := e.rooms[string(m.Room)]; !ok || room != c.room {
			return // other rooms have numbers of their own
		}
	}
	if !seq.Whole || seq.N < 0 {
		return
	}
	x := c.optional()
	if live && x.before > 0 && !c.Away() {
		if seq.N+1 < x.before {
			e.counts().Returns.Renumbered++
			e.countReason("after coming back", fmt.Errorf("the numbers of a room began again"))
			e.trouble(c, now)
		}
		x.before = 0
	}
	x.last = seq.N + 1
}
