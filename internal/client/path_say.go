package client

import (
	"errors"
	"fmt"
	"unicode/utf8"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/fact"
	"tidepull/internal/trial"
	"tidepull/internal/trial/expr"
	"tidepull/internal/wire"
	"tidepull/internal/wire/transport"
)

// send sends what a template of the dialect says.
func (p *path) send(e *Env, t *expr.Template) {
	e.body = t.Append(e.body[:0], &e.scope)
	p.say(e, e.Trial.Dialect.Binary, false)
}

// say sends e.body; false if it may not be sent.
func (p *path) say(e *Env, binary, urgent bool) bool {
	if !p.sayable(e, binary, urgent) {
		return false
	}
	p.isActive(e, e.now)
	if pair := p.pair(urgent); pair != nil {
		pair.SayUrgent(p.io(e), e.body)
	} else {
		p.way.Say(p.io(e), e.body, binary)
	}
	return true
}

// isApart reports whether what is said goes over a second connection.
func (p *path) isApart(urgent bool) bool { return p.pair(urgent) != nil }

// reply sends the answer to a ping.
func (p *path) reply(e *Env, payload []byte) {
	p.isActive(e, e.now)
	p.way.Reply(p.io(e), payload)
}

// ping sends a ping; false if there is no such thing on the route.
func (p *path) ping(e *Env, payload []byte) bool {
	m, can := p.way.(transport.Pinger)
	if can {
		p.isActive(e, e.now)
		m.Ping(p.io(e), payload)
	}
	return can
}

// malform breaks the protocol on purpose.
func (p *path) malform(e *Env, how string) { p.way.Malform(p.io(e), how) }

// pair is the client's transport if what is urgent goes in a datagram beside it; else nil.
func (p *path) pair(urgent bool) *transport.Pair {
	if !urgent {
		return nil
	}
	pair, _ := p.way.(*transport.Pair)
	return pair
}

// maxFraming is the most bytes that a framing adds to a message.
const maxFraming = 8

// sayable reports whether e.body may be sent: text must be valid UTF-8 (RFC 6455 5.6), or
// the server has to close the connection.
func (p *path) sayable(e *Env, binary, urgent bool) bool {
	r := e.routeOf()
	framing, datagrams := &r.Framing, r.Kind == trial.OverUDP
	if p.pair(urgent) != nil {
		framing, datagrams = &r.Urgent.Framing, true
	}
	if datagrams && len(e.body) > wire.MaxDatagram-maxFraming {
		e.unsent(fmt.Sprintf("the message is longer than a datagram, which holds %d bytes",
			wire.MaxDatagram-maxFraming))
		return false
	}
	if most := framing.Most(); (datagrams || r.Kind == trial.OverTCP) && len(e.body) > most {
		e.unsent(fmt.Sprintf("the message is longer than the length in front of it can say, which is %d bytes", most))
		return false
	}
	if datagrams && !framing.Lines() {
		return true
	}
	if binary || utf8.Valid(e.body) || !r.Text() {
		return true
	}
	e.unsent("the text is no valid UTF-8; with binary = true it would be sent as bytes")
	return false
}

// unsent counts something that could not be sent.
func (e *Env) unsent(why string) {
	e.counts().Unsent++
	e.countReason("unsent", errors.New(why))
	e.trouble()
}

// Unsent tells the client that what it asked for to be sent over a line in the last call
// could not be: the connection is gone, and that it broke comes next. What it said is
// owed to nobody.
func (c *Client) Unsent(e *Env, line int, now mono.Time) {
	e.about(c, now)
	if line >= transport.NumLines != c.path.second {
		return
	}
	apart := false // of what was said, that which went over the line
	switch line %= transport.NumLines; line {
	case transport.Side:
		return
	case transport.Post:
		if _, apart = c.path.way.(*transport.Pair); !apart {
			return // a request that fails is told of in another way
		}
	}
	for i := e.before; i < len(e.Facts.Facts); i++ {
		f := e.Facts.Facts[i]
		if f.Kind == fact.Says && f.Client == c.id && f.Is(fact.Apart) == apart {
			e.unsays(f.Number)
			if c.path.returns(e) != nil {
				continue // that it broke is told next, and the client comes back
			}
			e.unsent("the connection was gone already, or there was no memory for a datagram")
		}
	}
}
