package client

import (
	"errors"
	"fmt"
	"unicode/utf8"

	"tidepull/internal/base/mono"
	"tidepull/internal/client/reading"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/mark"
	"tidepull/internal/trial"
	"tidepull/internal/trial/expr"
	"tidepull/internal/wire"
	"tidepull/internal/wire/transport"
)

// say says a message, if it can: the account hears of it, and its mark is put into
// it.
func (c *Client) say(e *Env, now mono.Time, s *trial.Step) {
	if !c.account(e, now, s) {
		return
	}
	c.bodyOf(e, s)
	if c.sayable(e, now, s.Binary, s.Urgent) {
		c.sendBody(e, s.Binary, s.Urgent)
	} else {
		c.unsays(e, now, e.lastNumber())
	}
}

// sendBody sends e.body.
func (c *Client) sendBody(e *Env, binary, urgent bool) {
	if p := c.pair(urgent); p != nil {
		p.SayUrgent(c.io(e), e.body)
		return
	}
	c.way.Say(c.io(e), e.body, binary)
}

// pair is the client's transport if what is urgent goes in a datagram beside it; else nil.
func (c *Client) pair(urgent bool) *transport.Pair {
	if !urgent {
		return nil
	}
	p, _ := c.way.(*transport.Pair)
	return p
}

// unsays tells that a message that was told of could not be sent.
func (c *Client) unsays(e *Env, now mono.Time, number uint64) {
	e.tell(now, fact.Fact{Kind: fact.Unsays, Client: c.id, Room: noRoom, Number: number})
}

// maxFraming is the most bytes that a framing adds to a message.
const maxFraming = 8

// sayable reports whether e.body may be sent: text must be valid UTF-8 (RFC 6455 5.6), or
// the server has to close the connection.
func (c *Client) sayable(e *Env, now mono.Time, binary, urgent bool) bool {
	r := e.routeOf(c)
	framing, datagrams := &r.Framing, r.Kind == trial.OverUDP
	if c.pair(urgent) != nil {
		framing, datagrams = &r.Urgent.Framing, true
	}
	if datagrams && len(e.body) > wire.MaxDatagram-maxFraming {
		c.unsent(e, now, fmt.Sprintf("the message is longer than a datagram, which holds %d bytes",
			wire.MaxDatagram-maxFraming))
		return false
	}
	if most := framing.Most(); (datagrams || r.Kind == trial.OverTCP) && len(e.body) > most {
		c.unsent(e, now, fmt.Sprintf("the message is longer than the length in front of it can say, which is %d bytes",
			most))
		return false
	}
	if datagrams && !framing.Lines() {
		return true
	}
	if binary || utf8.Valid(e.body) || !r.Text() {
		return true
	}
	c.unsent(e, now, "the text is no valid UTF-8; with binary = true it would be sent as bytes")
	return false
}

// bodyOf writes a message that was accounted for last into e.body.
func (c *Client) bodyOf(e *Env, s *trial.Step) {
	t := s.Body
	if s.Do == trial.Ask {
		t = s.Request.Content
	}
	e.body = t.Append(e.body[:0], &e.scope)
	if s.Payload != nil && (s.Binary && !e.Trial.Dialect.Binary || e.Trial.Dialect.Heard.Payload == nil) {
		e.Facts.Facts[len(e.Facts.Facts)-1].Sum = reading.Digest(e.body) // the whole message is compared
	}
	e.quote(c)
}

// account tells that a message is being said, and sets the mark and the payload in
// the scope; false if the message cannot be said.
func (c *Client) account(e *Env, now mono.Time, s *trial.Step) bool {
	due := min(c.clock, now)
	f := fact.Fact{Kind: fact.Says, Client: c.id, Peer: -1, What: uint8(s.Reaches), Time: e.rel(due)}
	if s.Do == trial.Ask || c.pair(s.Urgent) != nil {
		f.Flags |= fact.Apart
	}
	e.load(c, due, now)
	room := c.roomOf(e, s)
	c.fill(e)
	known := true
	switch {
	case s.Do == trial.Tell:
		f.Peer, known = c.address(e, s)
		f.What, f.Flags = uint8(ledger.ToMember), f.Flags|fact.Told
		room = ledger.Everyone
	case s.All || room == noRoom && s.Reaches == ledger.ToNobody:
		room = ledger.Everyone
	}
	switch {
	case !known:
		c.unsent(e, now, "no client has the name that a whisper is for")
		return false
	case room == noRoom:
		c.unsent(e, now, "the client is in no room")
		return false
	}
	f.Room, f.Number = room, e.nextNumber()
	c.mark(e, room, f.Number, due)
	if s.Payload != nil {
		e.payload = s.Payload.Append(e.payload[:0], &e.scope)
		e.scope.Vars[expr.VarPayload] = expr.Value{Kind: expr.String, Str: e.payload}
		f.Sum = reading.Digest(e.payload)
	}
	e.tell(now, f)
	return true
}

// nextNumber gives the number of the share's next message.
func (e *Env) nextNumber() uint64 {
	e.spoken++
	return e.lastNumber()
}

// mark sets the mark in the scope, in both its forms.
func (c *Client) mark(e *Env, room ledger.Room, number uint64, due mono.Time) {
	m := mark.Mark{Run: e.Run, Room: uint32(room), Sender: uint32(c.id), Number: number, Time: e.markTime(due)}
	e.short = mark.Append(e.short[:0], m)
	e.scope.Vars[expr.VarMark] = expr.Value{Kind: expr.String, Str: e.short}
	e.markBytes = mark.AppendBytes(e.markBytes[:0], m)
	e.scope.Vars[expr.VarMarkBytes] = expr.Value{Kind: expr.String, Str: e.markBytes}
}

// sayUnheard makes a message that must reach nobody: it is sent before the server
// has agreed to anything.
func (c *Client) sayUnheard(e *Env, now mono.Time, t *expr.Template) []byte {
	f := fact.Fact{Kind: fact.Says, Client: c.id, Peer: -1, What: uint8(ledger.ToNobody), Room: ledger.Everyone,
		Number: e.nextNumber(), Time: e.rel(now)}
	e.tell(now, f)
	c.fill(e)
	c.mark(e, ledger.Everyone, f.Number, now)
	return t.Append(nil, &e.scope)
}

func (c *Client) unsent(e *Env, now mono.Time, why string) {
	e.counts().Unsent++
	e.countReason("unsent", errors.New(why))
	e.trouble(c, now)
}

// address evaluates whom a whisper is for; false means that no client has that
// name.
func (c *Client) address(e *Env, s *trial.Step) (to ledger.Client, known bool) {
	e.to = s.To.Append(e.to[:0], &e.scope)
	e.scope.Vars[expr.VarTo] = expr.Value{Kind: expr.String, Str: e.to}
	to, known = e.Names.Of(e.to)
	return to, known
}

// Unsent tells the client that what it asked for to be sent over a line in the last call
// could not be: the connection is gone, and that it broke comes next. What it said is
// owed to nobody.
func (c *Client) Unsent(e *Env, line int, now mono.Time) {
	if line >= transport.NumLines != c.second {
		return
	}
	apart := false // of what was said, that which went over the line
	switch line %= transport.NumLines; line {
	case transport.Side:
		return
	case transport.Post:
		if _, apart = c.way.(*transport.Pair); !apart {
			return // a request that fails is told of in another way
		}
	}
	for i := e.call; i < len(e.Facts.Facts); i++ {
		f := e.Facts.Facts[i]
		if f.Kind == fact.Says && f.Client == c.id && f.Is(fact.Apart) == apart {
			c.unsays(e, now, f.Number)
			if c.returns(e) != nil {
				continue // that it broke is told next, and the client comes back
			}
			c.unsent(e, now, "the connection was gone already, or there was no memory for a datagram")
		}
	}
}
