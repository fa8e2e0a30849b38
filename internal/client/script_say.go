package client

import (
	"tidepull/internal/base/mono"
	"tidepull/internal/client/reading"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/mark"
	"tidepull/internal/trial"
	"tidepull/internal/trial/expr"
)

// say says a message, if it can: the account hears of it, and its mark is put into
// it.
func (s *script) say(e *Env, step *trial.Step) {
	if !s.account(e, step) {
		return
	}
	s.bodyOf(e, step)
	if !e.path.say(e, step.Binary, step.Urgent) {
		e.unsays(e.lastNumber())
	}
}

// unsays tells that a message that was told of could not be sent.
func (e *Env) unsays(number uint64) {
	e.tell(fact.Fact{Kind: fact.Unsays, Client: e.c.id, Room: noRoom, Number: number})
}

// bodyOf writes a message that was accounted for last into e.body.
func (s *script) bodyOf(e *Env, step *trial.Step) {
	t := step.Body
	if step.Do == trial.Ask {
		t = step.Request.Content
	}
	if t == nil { // what it says is in the address
		t = step.Request.Path
	}
	e.body = t.Append(e.body[:0], &e.scope)
	if step.Payload != nil {
		compared, f := e.payload, &e.Facts.Facts[len(e.Facts.Facts)-1]
		if step.Binary && !e.Trial.Dialect.Binary || e.Trial.Dialect.Heard.Payload == nil {
			compared = e.body
			f.Sum = reading.Digest(e.body)
		}
		e.means(f.Number, f.Sum, compared, step.Binary)
	}
	e.quote(step.Binary)
}

// account tells that a message is being said, and sets the mark and the payload in
// the scope; false if the message cannot be said.
func (s *script) account(e *Env, step *trial.Step) bool {
	due := min(s.clock, e.now)
	f := fact.Fact{Kind: fact.Says, Client: e.c.id, Peer: -1, What: uint8(step.Reaches), Time: e.rel(due)}
	if step.Do == trial.Ask || e.path.isApart(step.Urgent) {
		f.Flags |= fact.Apart
	}
	e.countsLoad(due)
	room := e.judge.roomOf(e, step)
	e.fill()
	known := true
	switch {
	case step.Do == trial.Tell:
		f.Peer, known = s.address(e, step)
		f.What, f.Flags = uint8(ledger.ToMember), f.Flags|fact.Told
		room = ledger.Everyone
	case step.All || room == noRoom && step.Reaches == ledger.ToNobody:
		room = ledger.Everyone
	}
	switch {
	case !known:
		e.unsent("no client has the name that a whisper is for")
		return false
	case room == noRoom:
		e.unsent("the client is in no room")
		return false
	}
	f.Room, f.Number = room, e.nextNumber()
	if step.Known > 0 {
		f.Check, f.Flags = int16(step.Known-1), f.Flags|fact.Unmarked
	}
	e.mark(room, f.Number, due)
	if step.Payload != nil {
		e.payload = step.Payload.Append(e.payload[:0], &e.scope)
		e.scope.Vars[expr.VarPayload] = expr.Value{Kind: expr.String, Str: e.payload}
		f.Sum = reading.Digest(e.payload)
	}
	e.tell(f)
	return true
}

// nextNumber gives the number of the share's next message.
func (e *Env) nextNumber() uint64 {
	e.spoken++
	return e.lastNumber()
}

// mark sets the mark in the scope, in both its forms.
func (e *Env) mark(room ledger.Room, number uint64, due mono.Time) {
	m := mark.Mark{Run: e.Run, Room: uint32(room), Sender: uint32(e.c.id), Number: number, Time: e.markTime(due)}
	e.short = mark.Append(e.short[:0], m)
	e.scope.Vars[expr.VarMark] = expr.Value{Kind: expr.String, Str: e.short}
	e.markBytes = mark.AppendBytes(e.markBytes[:0], m)
	e.scope.Vars[expr.VarMarkBytes] = expr.Value{Kind: expr.String, Str: e.markBytes}
}

// sayUnheard makes a message that must reach nobody: it is sent before the server
// has agreed to anything.
func (e *Env) sayUnheard(t *expr.Template) []byte {
	f := fact.Fact{Kind: fact.Says, Client: e.c.id, Peer: -1, What: uint8(ledger.ToNobody), Room: ledger.Everyone,
		Number: e.nextNumber(), Time: e.rel(e.now)}
	e.tell(f)
	e.fill()
	e.mark(ledger.Everyone, f.Number, e.now)
	return t.Append(nil, &e.scope)
}

// address evaluates whom a whisper is for; false means that no client has that
// name.
func (s *script) address(e *Env, step *trial.Step) (to ledger.Client, known bool) {
	e.to = step.To.Append(e.to[:0], &e.scope)
	e.scope.Vars[expr.VarTo] = expr.Value{Kind: expr.String, Str: e.to}
	to, known = e.Names.Of(e.to)
	return to, known
}
