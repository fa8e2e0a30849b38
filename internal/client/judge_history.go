package client

import (
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
func (j *judge) watchPast(e *Env, step *trial.Step) {
	if step.History < 0 || e.Trial.Dialect.Past == nil {
		return
	}
	j.own().past = &pastWatch{room: j.asked, promised: step.History, check: step.Check}
	e.tell(fact.Fact{Kind: fact.WantsHistory, Client: e.c.id, Room: j.asked, Number: uint64(step.History)})
}

// followsHistory looks at a message that is history, or holds some.
func (j *judge) followsHistory(e *Env, m *reading.Message) {
	if j.rare == nil || j.rare.past == nil || j.rare.past.judged {
		return
	}
	w := j.rare.past
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
func (j *judge) judgePast(e *Env) {
	if j.rare == nil || j.rare.past == nil {
		return
	}
	w := j.rare.past
	w.judged = true
	if w.wrong == "" && w.count > w.promised {
		w.wrong = "it is longer than promised"
	}
	if w.wrong == "" { // whether it is too short is known to who knows what was said there
		e.tell(fact.Fact{Kind: fact.HasHistory, Client: e.c.id, Room: noRoom, Check: int16(w.check),
			Number: uint64(w.count)})
	}
	if w.wrong != "" || !w.numbered || e.Trial.Dialect.Heard.Seq == nil {
		j.judgesHistory(e, w)
	}
}

// firstLive judges whether the first live message continues the history.
func (j *judge) firstLive(e *Env, m *reading.Message) {
	if m.Is&reading.Live == 0 || e.Trial.Dialect.Heard.When == nil || j.rare == nil || j.rare.past == nil {
		return
	}
	w, seq, wrong := j.rare.past, m.Number, ""
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
	j.judgesHistory(e, w)
}

// judgesHistory tells what is right or wrong with a history, but for its length.
func (j *judge) judgesHistory(e *Env, w *pastWatch) {
	f := fact.Fact{Kind: fact.JudgesHistory, Client: e.c.id, Room: noRoom, Check: int16(w.check), Flags: fact.Good}
	if w.wrong != "" {
		f.Flags = 0
	}
	e.tellText(f, []byte(w.wrong))
	j.rare.past = nil
}
