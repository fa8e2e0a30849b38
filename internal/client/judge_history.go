package client

import (
	"fmt"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/client/reading"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/trial"
)

// A pastWatch follows the history that a client is given when it enters. Servers give it before they
// confirm the entry, with it, or after it. How long it is is judged once it is as long as promised, once
// a live message has come, or after the time that the entry may take; how it joins what is said from then
// on with the first live message.
type pastWatch struct {
	room     ledger.Room
	promised int
	check    int
	count    int
	last     int64 // the number of the last one
	numbered bool
	wrong    string
	until    mono.Time // when it is judged at the latest, if the entry is confirmed; 0: it is not
	judged   bool      // but for how it joins the live messages
}

// watchPast begins to follow a history, if one is promised.
func (j *judge) watchPast(e *Env, step *trial.Step) {
	if step.History < 0 || e.Trial.Dialect.Past == nil {
		return
	}
	j.own().past = &pastWatch{room: j.asked, promised: step.History, check: step.Check}
	e.tell(fact.Fact{Kind: fact.WantsHistory, Client: e.c.id, Room: j.asked, Number: uint64(step.History),
		Check: int16(step.Check)})
}

// followsHistory looks at a message that is history, or holds some.
func (j *judge) followsHistory(e *Env, m *reading.Message) {
	if j.rare == nil || j.rare.past == nil {
		return
	}
	w := j.rare.past
	for _, n := range m.Past {
		w.count++
		if e.Trial.Dialect.PastSeq != nil {
			w.continues(n)
		}
	}
	if w.until != 0 && w.count >= w.promised {
		j.judgePast(e)
	}
}

// continues looks at the number of the next message of a history.
func (w *pastWatch) continues(seq reading.Number) {
	switch {
	case w.wrong != "": // the first thing counts
	case !seq.Whole:
		w.wrong = "a message of it has no whole number"
	case w.numbered && seq.N == w.last:
		w.wrong = fmt.Sprintf("one message came twice in it; number %d", seq.N)
	case w.numbered && seq.N < w.last:
		w.wrong = fmt.Sprintf("it is out of order; number %d came after %d", seq.N, w.last)
	case w.numbered && seq.N > w.last+1:
		w.wrong = fmt.Sprintf("there is a gap in it; number %d came after %d", seq.N, w.last)
	}
	w.last, w.numbered = seq.N, true
}

// expectsPast goes on to wait for what is missing of the history, once the entry is confirmed.
func (j *judge) expectsPast(e *Env, within time.Duration) {
	if j.rare == nil || j.rare.past == nil {
		return
	}
	w := j.rare.past
	if w.until = e.now.Add(within); w.wrong != "" || w.count >= w.promised {
		j.judgePast(e)
	}
}

// due is when the history is judged that has not come; mono.Never if none is awaited.
func (j *judge) due() mono.Time {
	if j.rare == nil || j.rare.past == nil || j.rare.past.until == 0 || j.rare.past.judged {
		return mono.Never
	}
	return j.rare.past.until
}

// judgePast judges the history, but for how it joins what is said from then on.
func (j *judge) judgePast(e *Env) {
	w := j.rare.past
	if w.wrong == "" && w.count > w.promised {
		w.wrong = fmt.Sprintf("it is longer than promised; %d promised, %d came", w.promised, w.count)
	}
	if w.wrong == "" && !w.judged { // whether it is too short is known to who knows what was said there
		e.tell(fact.Fact{Kind: fact.HasHistory, Client: e.c.id, Room: noRoom, Check: int16(w.check),
			Number: uint64(w.count)})
	}
	w.judged = true
	if w.wrong != "" || !w.numbered || e.Trial.Dialect.Heard.Seq == nil {
		j.judgesHistory(e, w)
	}
}

// firstLive judges what of the history has come by the first live message, and whether that continues it.
func (j *judge) firstLive(e *Env, m *reading.Message) {
	if m.Is&reading.Live == 0 || e.Trial.Dialect.Heard.When == nil || j.rare == nil || j.rare.past == nil {
		return
	}
	w, seq, wrong := j.rare.past, m.Number, ""
	if room, ok := e.rooms[string(m.Room)]; !ok || room != w.room {
		return
	}
	if w.until != 0 && !w.judged {
		if j.judgePast(e); j.rare.past == nil {
			return
		}
	}
	if !w.numbered {
		return
	}
	switch {
	case !seq.Whole:
		wrong = "the first live message has no whole number"
	case seq.N > w.last+1:
		wrong = fmt.Sprintf("there is a gap between it and the live messages; it ends at %d, and the first is %d",
			w.last,
			seq.N)
	case seq.N < w.last+1:
		wrong = fmt.Sprintf("it overlaps with the live messages; it ends at %d, and the first is %d", w.last, seq.N)
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
