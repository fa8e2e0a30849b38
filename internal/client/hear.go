package client

import (
	"bytes"
	"errors"
	"fmt"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/mark"
	"tidepull/internal/trial/expr"
	"tidepull/internal/wire/jsonscan"
	"tidepull/internal/wire/transport"
)

// A received is one message.
type received struct {
	text   []byte
	json   []byte // the part of it that is JSON, if any is
	binary bool
}

// list handles a message, or each item of a list in it that holds messages.
func (c *Client) list(e *Env, m received, came mono.Span, now mono.Time) {
	d := &e.Trial.Dialect
	if d.JSON != nil {
		e.scope.Vars[expr.VarText] = expr.Value{Kind: expr.String, Str: m.text}
		e.part = append(e.part[:0], d.JSON.Eval(&e.scope).Str...)
		m.json = e.part
	}
	if d.Each != nil {
		c.read(e, m)
		if v := d.Each.Eval(&e.scope); v.Kind == expr.JSON {
			if jsonscan.Elements(bytes.Clone(v.Str), func(item []byte) {
				if item[0] == '"' { // the message is what the text says
					item = jsonscan.Unquote(nil, item[1:len(item)-1])
				}
				c.heard(e, received{item, item, m.binary}, came, now)
			}) {
				return
			}
		}
	}
	c.heard(e, m, came, now)
}

// heard handles one message: its mark goes to the account, and it may be what the
// session waits for. It may mean several things at once. If it shares its read with later
// bytes, the kernel's stamp may be a later packet's.
func (c *Client) heard(e *Env, msg received, came mono.Span, now mono.Time) {
	at := came.To
	e.counts().Arrivals++
	d := &e.Trial.Dialect
	marks := mark.In(msg.text)
	m, end := marks.Next()
	counts := e.numbers[c.crew] || e.countsNumbers(c)
	read := counts || c.listens() || end == 0 && e.watches(msg.json) || end > 0 && (e.sums ||
		e.meansMore(msg.json))
	if read {
		c.read(e, msg)
	}
	if end == 0 && read && d.Heard.Decoded != nil {
		if v := d.Heard.Decoded.Eval(&e.scope); v.Kind == expr.String {
			e.decoded = append(e.decoded[:0], v.Str...)
			marks = mark.In(e.decoded)
			m, end = marks.Next()
		}
	}
	marked := end > 0
	if counts {
		c.notesNumber(e, at, now)
	}
	past := read && d.Past != nil && d.Past.True(&e.scope)
	if past {
		c.heardPast(e, msg, marked)
	}
	if !marked {
		e.listens(c, at, msg.text)
	} else if !(read && d.Echo != nil && d.Echo.True(&e.scope)) {
		sum := uint64(0)
		if e.sums {
			sum = c.sumOf(e, msg)
		}
		since := mono.Time(0)
		if came.From < came.To {
			e.counts().Coarse++
			since = came.From
		}
		for ; end > 0; m, end = marks.Next() {
			c.gets(e, m, at, since, past, sum, len(msg.text))
		}
	}
	known := marked || past
	c.expected = false
	if read {
		known = c.watch(e, at, now) || known
		if c.phase == open {
			known = c.hear(e, at, now) || known
		}
	}
	if !known {
		e.unknown(c, msg)
	}
	if c.phase == open && e.remembers[c.crew] && !c.expected {
		c.optional().inbox.add(msg)
	}
}

// notesNumber notes the number of the message in the scope, if it has one. The first live one
// after the client came back says whether the server numbers on, or has forgotten how far it
// was.
func (c *Client) notesNumber(e *Env, at, now mono.Time) {
	d, s := &e.Trial.Dialect, &e.scope
	seq, live := d.Heard.Seq, true
	switch {
	case d.Past != nil && d.Past.True(s):
		seq, live = d.PastSeq, false
	case d.Heard.When != nil && !d.Heard.When.True(s):
		return
	}
	if seq == nil {
		return
	}
	if d.Heard.Room != nil && live {
		if room, ok := e.roomIn(d.Heard.Room); !ok || room != c.room {
			return // other rooms have numbers of their own
		}
	}
	n, ok := seq.Eval(s).Int()
	if !ok || n < 0 {
		return
	}
	x := c.optional()
	if live && x.before > 0 && !c.Away() {
		if n+1 < x.before {
			e.counts().Returns.Renumbered++
			e.countReason("after coming back", fmt.Errorf("the numbers of a room began again"))
			e.trouble(c, now)
		}
		x.before = 0
	}
	x.last = n + 1
}

// meansMore reports whether a message with a mark may mean something besides, so that it
// must be read.
func (e *Env) meansMore(payload []byte) bool {
	d := &e.Trial.Dialect
	if d.Past != nil && d.Past.MayHold(payload) || d.Echo != nil && d.Echo.MayHold(payload) {
		return true
	}
	for _, p := range []*expr.Program{d.Presence.When, d.Joined.When, d.Gone.When} {
		if p != nil && p.Speaks(payload) {
			return true
		}
	}
	return false
}

// read puts a message into the scope. One that is no JSON has no fields.
func (c *Client) read(e *Env, m received) {
	if e.Trial.Fields.Extract(m.json, e.scope.Fields) != nil {
		clear(e.scope.Fields)
	}
	c.fill(e)
	e.scope.Vars[expr.VarText] = expr.Value{Kind: expr.String, Str: m.text}
	e.scope.Vars[expr.VarStatus] = expr.Value{}
	e.scope.Head = nil
}

// sumOf is the digest of what a message's sender wanted to say.
func (c *Client) sumOf(e *Env, m received) uint64 {
	if p := e.Trial.Dialect.Heard.Payload; p != nil && (!m.binary || e.Trial.Dialect.Binary) {
		if v := p.Eval(&e.scope); v.Kind != expr.Missing {
			e.short = v.Append(e.short[:0])
			return digest(e.short)
		}
	}
	return digest(m.text)
}

// gets tells that a marked message came.
func (c *Client) gets(e *Env, m mark.Mark, at, since mono.Time, past bool, sum uint64, size int) {
	f := fact.Fact{Kind: fact.Gets, Client: c.id, Peer: ledger.Client(m.Sender), Room: int32(m.Room), Number: m.Number,
		Time: e.rel(at), Sum: sum, Size: uint32(size)}
	if since != 0 {
		f.Since = e.rel(since)
	}
	if past {
		f.Flags |= fact.History
	}
	if m.Run != e.Run {
		f.Flags |= fact.Foreign
	}
	e.tell(e.now, f)
}

// listens reports whether the client waits for a message.
func (c *Client) listens() bool {
	switch c.wait {
	case forExpected, forEntry, forLeave, forName:
		return true
	}
	return c.awaitsName() || c.more != nil && (c.more.past != nil || c.more.early.room.Is())
}

// hear looks whether the message in the scope is what the client waits for, and
// reports whether it was.
func (c *Client) hear(e *Env, at, now mono.Time) bool {
	c.fillAgain(e)
	s := &e.scope
	d := &e.Trial.Dialect
	greeted := c.naming == awaitsGreeting && d.Naming.After.True(s)
	if greeted || c.naming == awaitsThen && d.Naming.Then.True(s) {
		if greeted {
			c.sayFirst(e, now)
		} else {
			c.introduce(e, now)
		}
		c.goOnNamed(e, now)
		return true
	}
	if b := &d.Beat; b.When != nil && b.When.True(s) {
		c.beatAnswer(e, at, now)
		return true
	}
	if c.naming == nameAsked {
		switch {
		case d.Naming.Confirmed.True(s):
			c.named(e, now)
			if c.wait == forExpected && c.step().When.True(s) { // it may say more than that
				c.met(e, now)
				c.expected = true
			}
			c.goOnNamed(e, now)
			return true
		case d.Naming.Refused != nil && d.Naming.Refused.True(s):
			c.naming = nameRefused
			c.denied(e, now, e.said("its name was refused"))
			return true
		}
	}
	if c.heardAhead(e) {
		return true
	}
	switch c.wait {
	case forExpected:
		if c.step().When.True(s) {
			c.met(e, now)
			c.expected = true
			return true
		}
	case forEntry:
		e.setRoom(c.asked)
		switch {
		case d.Enter.Confirmed.True(s):
			c.entered(e, at, now)
			return true
		case d.Enter.Refused != nil && d.Enter.Refused.True(s):
			c.notEntered(e, now, "", true)
			return true
		}
	case forLeave:
		e.setRoom(c.asked)
		if d.Leave.Confirmed.True(s) {
			c.isOut(e, now, c.asked)
			e.event(c, now, logbook.Left, c.asked, "")
			c.resume(e, now)
			return true
		}
	}
	return false
}

// goOnNamed goes on with the step that waited for the name, once that is confirmed.
func (c *Client) goOnNamed(e *Env, now mono.Time) {
	if c.naming == nameConfirmed && c.wait == forName {
		c.clock = max(c.clock, now)
		c.run(e, now)
	}
}

// heardAhead looks whether the message in the scope confirms a room that the client will
// come to later.
func (c *Client) heardAhead(e *Env) bool {
	confirmed := e.Trial.Dialect.Enter.Confirmed
	if c.more == nil || confirmed == nil {
		return false
	}
	room, ok := c.more.early.room.Get()
	if !ok || c.more.early.confirmed {
		return false
	}
	e.setRoom(room)
	c.more.early.confirmed = confirmed.True(&e.scope)
	return c.more.early.confirmed && c.wait != forExpected // an expect may be about it, too
}

// fillAgain is fill, and keeps the message at hand.
func (c *Client) fillAgain(e *Env) {
	text, status := e.scope.Vars[expr.VarText], e.scope.Vars[expr.VarStatus]
	c.fill(e)
	e.scope.Vars[expr.VarText], e.scope.Vars[expr.VarStatus] = text, status
}

// met handles the message that an expect step is about.
func (c *Client) met(e *Env, now mono.Time) {
	s := c.step()
	if c.Away() { // it is put back
		c.resume(e, now)
		return
	}
	if s.Never {
		e.counts().Missed++
		e.event(c, now, logbook.Missed, noRoom, e.countReason("missed", errors.New(s.Label+": it must not come")))
		e.fails(c, now, s.Check, "it must not come, and came", false)
	} else {
		e.counts().Met++
		e.check(c, now, s.Check, true, "")
		c.capture(e, s.Capture)
	}
	c.resume(e, now)
}

// unmet handles that the message has not come in time.
func (c *Client) unmet(e *Env, now mono.Time) {
	s := c.step()
	if c.Away() { // it has not been put back, and tries without that
		c.more.comeback.byName = true
		c.ends(e, now, ending{cause: returnDenied, err: &transport.NotInTime{What: "answer to its resume"}})
		return
	}
	if s.Never {
		e.counts().Met++
		e.check(c, now, s.Check, true, "")
	} else {
		doubt := e.inDoubt(c.began, now)
		e.counts().Missed++
		e.doubts(doubt).Missed++
		e.event(c, now, logbook.Missed, noRoom, e.countReason("missed", errors.New(s.Label)))
		e.fails(c, now, s.Check, "it has not come in time", doubt)
	}
	c.resume(e, now)
}
