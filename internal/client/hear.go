package client

import (
	"fmt"
	"unicode/utf8"

	"tidepull/internal/ledger"
	"tidepull/internal/logbook"
	"tidepull/internal/mark"
	"tidepull/internal/mono"
	"tidepull/internal/plain"
)

func (s *ServerClosed) Error() string {
	return fmt.Sprintf("the server said goodbye with code %d %s", s.Code, plain.Text(s.Reason, 60))
}

// message handles one message: its mark goes to the ledger, and it may be what
// the session waits for. more tells that later bytes came in the same read, so
// that the kernel's stamp may be a later packet's.
func (c *Client) message(e *Env, payload []byte, binary, more bool, at, now mono.Time) {
	e.counts().Arrivals++
	m, end := mark.Find(payload)
	read := false
	if c.listens() || end > 0 && e.Trial.Dialect.Past != nil && e.Trial.Dialect.Past.MayHold(payload) {
		read = (!binary || utf8.Valid(payload)) && e.Trial.Fields.Extract(payload, e.scope.Fields) == nil
		if !read {
			clear(e.scope.Fields)
		}
	}
	if end > 0 {
		past := read && e.Trial.Dialect.Past != nil && e.Trial.Dialect.Past.True(&e.scope)
		if more {
			e.counts().Coarse++
		}
		for rest := payload; end > 0; m, end = mark.Find(rest) {
			e.counts().Marked++
			c.got++
			c.arrival(e, m, past, at)
			rest = rest[end:]
		}
	}
	if read && c.phase == open {
		c.hear(e, at, now)
	}
}

func (c *Client) arrival(e *Env, m mark.Mark, past bool, at mono.Time) {
	v := e.Ledger.Arrive(ledger.Arrival{To: c.id, Mark: m, At: at, Past: past, Sheet: &e.Book.Now().Sheet})
	if v.Fate == ledger.Delivered || v.Fate == ledger.Late {
		e.Book.Second(v.Sheet.Second).Delivery(c.crew, v.Owed, v.Latency)
	}
}

// listens tells whether the client waits for a message.
func (c *Client) listens() bool {
	switch c.wait {
	case forExpected, forEntry, forLeave, forTitle:
		return true
	}
	return c.title == titleAsked
}

// hear looks whether the message in the scope is what the client waits for.
func (c *Client) hear(e *Env, at, now mono.Time) {
	c.fill(e)
	s := &e.scope
	d := &e.Trial.Dialect
	if c.title == titleAsked {
		switch {
		case d.Title.Confirmed.True(s):
			c.named(e)
			if c.wait == forTitle {
				c.ready = now
				c.run(e, now)
			}
			return
		case d.Title.Refused != nil && d.Title.Refused.True(s):
			c.title = titleRefused
			c.denied(e, now)
			return
		}
	}
	switch c.wait {
	case forExpected:
		if c.step().When.True(s) {
			e.counts().Met++
			c.resume(e, now)
		}
	case forEntry:
		c.fillAsked(e)
		switch {
		case d.Enter.Confirmed.True(s):
			c.entered(e, at, now)
		case d.Enter.Refused != nil && d.Enter.Refused.True(s):
			e.Ledger.Left(c.id, c.asked, now)
			c.denied(e, now)
		}
	case forLeave:
		c.fillAsked(e)
		if d.Leave.Confirmed.True(s) {
			e.Ledger.Left(c.id, c.asked, now)
			e.event(c, now, logbook.Left, c.asked, "")
			c.resume(e, now)
		}
	}
}
