package client

import (
	"tidepull/internal/base/mono"
	"tidepull/internal/client/reading"
	"tidepull/internal/measure/fact"
	"tidepull/internal/trial/expr"
)

// knows tells of a delivery without a mark, if the message is one by some rule. Whose it is only the account
// can say: it knows what all clients have said.
func (j *judge) knows(e *Env, m *reading.Message, came mono.Span) (known bool) {
	for i := range e.Trial.Knowns {
		k := &e.Trial.Knowns[i]
		if !k.When.True(&e.scope) {
			continue
		}
		f := fact.Fact{Kind: fact.Knows, Client: e.c.id, Peer: -1, Room: noRoom, Check: int16(i), Time: e.rel(came.To),
			Size: uint32(len(m.Text))}
		if came.From < came.To {
			e.counts().Coarse++
			f.Since = e.rel(came.From)
		}
		if k.From != nil {
			from, ok := e.Names.Of(e.textOf(k.From))
			if !ok {
				continue // it is about somebody who is not of the run
			}
			f.Peer = from
		}
		e.tell(f)
		known = true
	}
	return known
}

// textOf evaluates an expression that gives a text or a number; nil if it gives neither.
func (e *Env) textOf(p *expr.Program) []byte {
	v := p.Eval(&e.scope)
	if v.Kind != expr.String && v.Kind != expr.Number {
		return nil
	}
	return v.Append(nil)
}
