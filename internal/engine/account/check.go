package account

import (
	"fmt"
	"strings"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
)

// checked books for events and lanes that a check held or failed.
func (a *Account) checked(c ledger.Client, room ledger.Room, i int, held bool, why string, at mono.Time) {
	what := lane.Held
	if !held {
		what = lane.Failed
		a.happens(c, room, logbook.Failed, a.trial.Hide(a.trial.Checks[i].Name)+": "+why, at)
		a.lanes.Problem(time.Duration(at), 0, false, c)
	}
	a.lanes.Add(lane.Record{At: time.Duration(at), What: what, Number: uint64(i), Client: c, Peer: -1, Room: room})
}

// check is checked for a check that is made here, and counts it.
func (a *Account) check(c ledger.Client, room ledger.Room, i int, held bool, why, reason string, at mono.Time) {
	if !held && a.ledger.Garbled(c, at) {
		return // the trial changed what it said or heard
	}
	a.book.At(at).Check(i, held)
	if !held {
		a.reasons.Count(a.trial.Hide("check "+a.trial.Checks[i].Name+": "+reason), 1)
	}
	a.checked(c, room, i, held, a.trial.Hide(why), at)
}

// counted judges a number of members that the server said to a client.
func (a *Account) counted(n ledger.Count) {
	i := a.trial.Dialect.Presence.Check
	if a.ledger.Unread(n.To, n.At) {
		return // it may not have read the latest yet
	}
	if n.Right() && !n.Final {
		a.book.At(n.At).Check(i, true)
		return
	}
	name := a.ledger.RoomName(n.Room)
	why := ""
	switch {
	case n.Right():
	case n.Said < 0:
		why = fmt.Sprintf("the server said no number of members of %s, there were %d", name, n.Most)
	case n.Least != n.Most:
		why = fmt.Sprintf("the server said %d members of %s, there were %d to %d", n.Said, name, n.Least, n.Most)
	default:
		why = fmt.Sprintf("the server said %d members of %s, there were %d", n.Said, name, n.Most)
	}
	a.check(n.To, n.Room, i, n.Right(), why, "a wrong number of members", n.At)
}

// hearsNames judges a list of a room's members that the server gave to a client.
func (a *Account) hearsNames(f *fact.Fact, room ledger.Room, list []byte) {
	clear(a.listed)
	fact.Clients(list, func(c ledger.Client) {
		a.listed[c] = true
		for _, other := range a.cfg.Sharers(c) { // one name stands for all who have it
			a.listed[other] = true
		}
	})
	a.ledger.NamesSaid(f.Client, room, func(c ledger.Client) bool { return a.listed[c] }, f.Time)
}

// listedWrong judges what a list of members that a client was given lacked, or had too much.
func (a *Account) listedWrong(n ledger.Listing) {
	i := a.trial.Dialect.Presence.NamesCheck
	why := ""
	switch name := a.ledger.RoomName(n.Room); {
	case a.ledger.Unread(n.To, n.At): // it may not have read the latest yet
		return
	case n.Lacks >= 0:
		why = fmt.Sprintf("'%s' is missing among the members of %s", a.nameOf(n.Lacks), name)
	case n.Extra >= 0:
		why = fmt.Sprintf("'%s' is listed among the members of %s, and is none", a.nameOf(n.Extra), name)
	}
	a.check(n.To, n.Room, i, why == "", why, "a wrong list of members", n.At)
}

// nameOf is a client's name, as it may be shown.
func (a *Account) nameOf(c ledger.Client) string { return plain.Text(a.cfg.Names[c], 60) }

// A history is what is known of the one that a client asked for.
type history struct {
	promised int
	least    int // what must come: what was surely said there before
	short    bool
	joins    bool // how it joins what goes on is judged later: leftOut
	wrong    bool // of one that joins: it is booked as wrong
}

// hasHistory judges how long a history is.
func (a *Account) hasHistory(f *fact.Fact) {
	if h := a.history[f.Client]; h != nil && int(f.Number) < h.least {
		h.short = true
		const why = "it is shorter than promised"
		a.check(f.Client, noRoom, int(f.Check), false, fmt.Sprintf("%s: %d promised, %d had been said there, %d came",
			why, h.promised, h.least, f.Number), why, f.At)
	}
}

// leftOut judges how the history of a client that entered joins what was said meanwhile, if messages have no numbers:
// what others got came to it neither with its history nor live.
func (a *Account) leftOut(x ledger.LeftOut) {
	if h := a.history[x.To]; h != nil && h.wrong {
		return
	}
	why, words := "", ""
	if x.Missing > 0 {
		why = "there is a gap between it and the live messages"
		words = fmt.Sprintf("%s; %s that others got came neither in it nor live, said while the client entered, the "+
			"first by %s at %s", why, units.Plural(x.Missing, "message"), a.nameOf(x.Sender),
			units.Instant(time.Duration(x.Sent)))
	}
	a.check(x.To, x.Room, x.Check, x.Missing == 0, words, why, a.now)
}

// judgesHistory books what else is right or wrong with a history, if it is long enough.
func (a *Account) judgesHistory(f *fact.Fact, why string) {
	h := a.history[f.Client]
	good := f.Is(fact.Good)
	switch {
	case h == nil || !h.joins:
		delete(a.history, f.Client)
	case good && !h.short:
		return // leftOut says the rest
	default:
		h.wrong = true
	}
	if h == nil || !h.short {
		reason, _, _ := strings.Cut(why, "; ") // behind it stand the numbers
		a.check(f.Client, noRoom, int(f.Check), good, why, reason, f.At)
	}
}
