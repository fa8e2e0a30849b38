package client

import (
	"errors"
	"hash/crc64"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/mark"
	"tidepull/internal/trial"
	"tidepull/internal/trial/expr"
)

// say says a message, if it can: its row in the ledger is opened, and its mark
// put into it.
func (c *Client) say(e *Env, now mono.Time, s *trial.Step) {
	if _, ok := c.account(e, now, s); ok {
		c.bodyOf(e, s)
		c.way.Say(&e.IO, e.body, s.Binary)
	}
}

// bodyOf writes a message whose row was opened last into e.body.
func (c *Client) bodyOf(e *Env, s *trial.Step) {
	t := s.Body
	if s.Do == trial.Ask {
		t = s.Request.Content
	}
	e.body = t.Append(e.body[:0], &e.scope)
	if s.Payload != nil && (s.Binary || e.Trial.Dialect.Heard.Payload == nil) {
		e.Ledger.SetSum(digest(e.body)) // the whole message is compared
	}
	e.Lanes.Said(e.Ledger.Next()-1, e.Trial.HideBytes(e.body))
}

// account opens a message's row in the ledger and sets the mark and the payload
// in the scope; ok is false if the message cannot be said.
func (c *Client) account(e *Env, now mono.Time, s *trial.Step) (number uint64, ok bool) {
	due := min(c.clock, now)
	page := e.Book.At(due)
	page.ScheduleLag.Record(now.Sub(due))
	if now.Sub(due) > logbook.MaxScheduleLag {
		page = page.Own() // its latency is the tool's
	}
	say := ledger.Say{Audience: s.Reaches, Room: c.roomOf(e, s), Sender: c.id, Apart: s.Do == trial.Ask, Due: due,
		Sent: now, Sheet: &page.Sheet}
	c.fill(e)
	known := true
	switch {
	case s.Do == trial.Tell:
		known = c.address(e, s, &say)
	case s.All || say.Room == noRoom && s.Reaches == ledger.ToNobody:
		say.Room = ledger.Everyone
	}
	switch {
	case !known:
		c.unsent(e, now, "no client has the name that a whisper is for")
		return 0, false
	case say.Room == noRoom:
		c.unsent(e, now, "the client is in no room")
		return 0, false
	}
	c.mark(e, say.Room, e.Ledger.Next(), due)
	c.payload(e, s, &say)
	number = e.Ledger.Say(say)
	e.counts().Sent++
	c.sent++
	rec := lane.Record{What: lane.Said, Number: number, Peer: -1, Room: say.Room, Kind: say.Kind}
	if say.Kind == ledger.Whisper {
		rec.Peer = say.To
	}
	e.lane(c, now, rec)
	return number, true
}

// payload makes the message's payload and its digest.
func (c *Client) payload(e *Env, s *trial.Step, say *ledger.Say) {
	if s.Payload == nil {
		return
	}
	e.payload = s.Payload.Append(e.payload[:0], &e.scope)
	e.scope.Vars[expr.VarPayload] = expr.Value{Kind: expr.String, Str: e.payload}
	say.Sum = digest(e.payload)
}

// mark sets the mark in the scope, in both its forms.
func (c *Client) mark(e *Env, room ledger.Room, number uint64, due mono.Time) {
	m := mark.Mark{Run: e.Run, Room: uint32(room), Sender: uint32(c.id), Number: number, Time: e.markTime(due)}
	e.short = mark.Append(e.short[:0], m)
	e.scope.Vars[expr.VarMark] = expr.Value{Kind: expr.String, Str: e.short}
	e.markBytes = mark.AppendBytes(e.markBytes[:0], m)
	e.scope.Vars[expr.VarMarkBytes] = expr.Value{Kind: expr.String, Str: e.markBytes}
}

var table = crc64.MakeTable(crc64.ECMA)

// digest tells payloads apart; it is never 0.
func digest(b []byte) uint64 { return max(1, crc64.Update(uint64(len(b)), table, b)) }

// sayUnheard makes a message that must reach nobody: it is sent before the server
// has agreed to anything.
func (c *Client) sayUnheard(e *Env, now mono.Time, t *expr.Template) []byte {
	page := e.Book.At(now)
	say := ledger.Say{Audience: ledger.ToNobody, Room: ledger.Everyone, Sender: c.id, Due: now, Sent: now,
		Sheet: &page.Sheet}
	number := e.Ledger.Say(say)
	e.counts().Sent++
	c.sent++
	c.fill(e)
	c.mark(e, say.Room, number, now)
	e.lane(c, now, lane.Record{What: lane.Said, Number: number, Peer: -1, Room: say.Room})
	return t.Append(nil, &e.scope)
}

func (c *Client) unsent(e *Env, now mono.Time, why string) {
	e.counts().Unsent++
	e.countReason("unsent", errors.New(why))
	e.Lanes.Problem(e.since(now), 0, false, c.id)
}

// address makes a message a whisper; false means that there is no client of
// the name that it is for.
func (c *Client) address(e *Env, s *trial.Step, say *ledger.Say) bool {
	e.to = s.To.Append(e.to[:0], &e.scope)
	e.scope.Vars[expr.VarTo] = expr.Value{Kind: expr.String, Str: e.to}
	to, known := e.byName[string(e.to)]
	say.Kind, say.Audience, say.Room, say.To = ledger.Whisper, ledger.ToMember, ledger.Everyone, to
	if len(e.sharers) > 0 {
		say.Also = e.sharers[string(e.to)]
	}
	return known
}
