package ledger

import (
	"slices"

	"tidepull/internal/base/mono"
)

// Excuse books that a message cannot come to a client, as the trial lost it on its way there:
// if the client is owed it, nobody is to blame.
func (l *Ledger) Excuse(number uint64, c Client) {
	if !l.isKnown(number) {
		return
	}
	if r := l.rowOf(number); r != nil {
		r.excused = append(r.excused, c)
	}
}

// Twice books that a message may come to a client again, or to all who get it, as the trial
// doubled it on its way: that is no duplicate.
func (l *Ledger) Twice(number uint64, c Client, all bool) {
	if !l.isKnown(number) {
		return
	}
	if r := l.rowOf(number); r != nil {
		r.twice, r.allTwice = append(r.twice, c), r.allTwice || all
	}
}

// A garbling is when the bytes of a client's connection were changed on their way, by the trial's
// own doing, last: from then on nothing on that connection is the server's doing.
type garbling struct {
	in  interval // what it gets, or does not
	out interval // what it says
}

// Garble books that a byte of a client's connection was changed: what it is owed may not come, or
// come altered, twice or to the wrong one; if the byte was on its way to the server (up), what it
// says from now on is owed to nobody, as well.
func (l *Ledger) Garble(c Client, up bool) {
	g := l.seats[c].garbled
	if g == nil {
		g = &garbling{}
		l.seats[c].garbled = g
	}
	l.isImpaired(c)
	if g.in.set(true, 0); up {
		g.out.set(true, 0)
	}
}

// GarbleOne books that a message may have been changed on its way to the server.
func (l *Ledger) GarbleOne(number uint64) {
	if !l.isKnown(number) {
		return
	}
	if r := l.rowOf(number); r != nil && !r.garbled {
		l.Cancel(number)
		r.garbled = true
	}
}

// Mend books that nothing is changed from a time on: the client has a new connection.
func (l *Ledger) Mend(c Client, from mono.Time) {
	if g := l.seats[c].garbled; g != nil {
		g.in.set(false, from)
		g.out.set(false, from)
	}
}

// Garbled reports whether what comes to a client at an instant may have been changed on its way.
func (l *Ledger) Garbled(c Client, at mono.Time) bool {
	g := l.seats[c].garbled
	return g != nil && g.in.covers(at)
}

// garbles reports whether what a client says at a time may be changed on its way.
func (l *Ledger) garbles(c Client, at mono.Time) bool {
	g := l.seats[c].garbled
	return g != nil && g.out.covers(at)
}

// Garbling reports whether what any client says may be changed on its way, or was within the grace
// time: it may have been taken for another.
func (l *Ledger) Garbling(at mono.Time) bool {
	at = at.Add(-l.cfg.Grace)
	return slices.ContainsFunc(l.impaired, func(c Client) bool { return l.garbles(c, at) })
}
