package client

import (
	"tidepull/internal/base/mono"
	"tidepull/internal/client/reading"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/trial"
)

// A pastWatch follows the history that a client is given when it enters.
type pastWatch struct {
	room     ledger.Room
	promised int
	check    int
	count    int
	last     int64 // the number of the last one
	numbered bool
	wrong    string
	judged   bool
}

// watchPast begins to follow a history, if one is promised.
func (c *Client) watchPast(e *Env, now mono.Time, s *trial.Step) {
	if s.History < 0 || e.Trial.Dialect.Past == nil {
		return
	}
	c.optional().past = &pastWatch{room: c.asked, promised: s.History, check: s.Check}
	e.tell(now, fact.Fact{Kind: fact.WantsHistory, Client: c.id, Room: c.asked, Number: uint64(s.History)})
}

// followsHistory looks at a message that is history, or holds some.
func (c *Client) followsHistory(e *Env, m *reading.Message) {
	if c.more == nil || c.more.past == nil || c.more.past.judged {
		return
	}
	w := c.more.past
	for _, n := range m.Past {
		w.count++
		if e.Trial.Dialect.PastSeq != nil {
			w.continues(n)
		}
	}
}

// continues looks at the number of the next message of a history.
func (w *pastWatch) continues(seq reading.Number) {
	switch {
	case w.wrong != "": // the first thing counts
	case !seq.Whole:
		w.wrong = "a message of it has no whole number"
	case w.numbered && seq.N == w.last:
		w.wrong = "one message came twice in it"
	case w.numbered && seq.N < w.last:
		w.wrong = "it is out of order"
	case w.numbered && seq.N > w.last+1:
		w.wrong = "there is a gap in it"
	}
	w.last, w.numbered = seq.N, true
}

// judgePast judges the history once the entry is confirmed. How it joins what
// is said from then on is judged with the first live message.
func (c *Client) judgePast(e *Env, now mono.Time) {
	if c.more == nil || c.more.past == nil {
		return
	}
	w := c.more.past
	w.judged = true
	if w.wrong == "" && w.count > w.promised {
		w.wrong = "it is longer than promised"
	}
	if w.wrong == "" { // whether it is too short is known to who knows what was said there
		e.tell(now, fact.Fact{Kind: fact.HasHistory, Client: c.id, Room: noRoom, Check: int16(w.check),
			Number: uint64(w.count)})
	}
	if w.wrong != "" || !w.numbered || e.Trial.Dialect.Heard.Seq == nil {
		c.judgesHistory(e, now, w)
	}
}

// firstLive judges whether the first live message continues the history.
func (c *Client) firstLive(e *Env, m *reading.Message, now mono.Time) {
	if m.Is&reading.Live == 0 || e.Trial.Dialect.Heard.When == nil || c.more == nil || c.more.past == nil {
		return
	}
	w, seq, wrong := c.more.past, m.Number, ""
	if room, ok := e.rooms[string(m.Room)]; !ok || room != w.room || !w.numbered {
		return
	}
	switch {
	case !seq.Whole:
		wrong = "the first live message has no whole number"
	case seq.N > w.last+1:
		wrong = "there is a gap between it and the live messages"
	case seq.N < w.last+1:
		wrong = "it overlaps with the live messages"
	}
	if !w.judged {
		w.wrong, w.last = wrong, seq.N // judged together with the rest
		return
	}
	w.wrong = wrong
	c.judgesHistory(e, now, w)
}

// judgesHistory tells what is right or wrong with a history, but for its length.
func (c *Client) judgesHistory(e *Env, now mono.Time, w *pastWatch) {
	f := fact.Fact{Kind: fact.JudgesHistory, Client: c.id, Room: noRoom, Check: int16(w.check), Flags: fact.Good}
	if w.wrong != "" {
		f.Flags = 0
	}
	e.tellText(now, f, []byte(w.wrong))
	c.more.past = nil
}
