package ledger

import (
	"tidepull/internal/base/mono"
	"tidepull/internal/measure/excuse"
)

// claims are what is owed to a client and has not come, of messages that are settled for the
// others: its connection is broken while it stays a member, or was lately. What is said meanwhile
// is owed to it, and it may catch up on that once it is back.
type claims struct {
	all      []claim        // in the order in which their messages were settled
	byNumber map[uint64]int // where in all; what came is gone from it
}

// A claim is a delivery that is still owed after its message was settled.
type claim struct {
	row *row // a copy of what is needed to book it
	got bool
}

// maxClaims bounds the claims of one client; what is beyond it is excused.
const maxClaims = 4096

var away = excuse.Of(excuse.Away)

// absence gives when a client's connection was broken last; To is Never while it is.
func (l *Ledger) absence(c Client) (a excuse.Excuse, was bool) { return l.excuses.Last(c, excuse.Away) }

// Suspend books that a client's connection broke and that it may come back as the
// member that it was. What had not come to it by then may come when it is back,
// within Config.Grace. It comes back by Resume, or is out of its rooms by Break.
func (l *Ledger) Suspend(c Client, now mono.Time) {
	if !l.excuses.Begin(c, excuse.Away, now) {
		return
	}
	l.isCutOff(c, now)
	l.dropsBacklog(c)
	l.countsAway(c, now, 1)
	if s := &l.seats[c]; s.claims == nil {
		s.claims = &claims{byNumber: map[uint64]int{}}
	}
}

// Resume books that a suspended client is back.
func (l *Ledger) Resume(c Client, now mono.Time) {
	if l.excuses.End(c, excuse.Away, now) {
		l.countsAway(c, now, -1)
		l.returned.Push(unsettled{c, now})
	}
}

// AwaySince is when a client's connection broke last, after which it is a member still; 0 if
// none did.
func (l *Ledger) AwaySince(c Client) mono.Time {
	a, _ := l.absence(c)
	return a.From
}

// MayBeGone reports whether a client may be gone for its server without the tool's knowing, or was within the grace
// time: its connection is broken, and it may come back as the member that it was; or it does not read, and so does not
// come to the end of its connection.
func (l *Ledger) MayBeGone(c Client, at mono.Time) bool {
	return l.was(c, excuse.Of(excuse.Away, excuse.SlowReader, excuse.NotReading), at.Add(-l.cfg.Grace))
}

// An unsettled client has claims that are judged Config.Grace after an instant.
type unsettled struct {
	client Client
	at     mono.Time
}

// missed reports whether a message that was sent at an instant may have been
// missed by a client that was away, and has not been for long enough that it
// could have caught up by now.
func (l *Ledger) missed(c Client, sent mono.Time) bool { return l.was(c, away, sent) }

// mayCatchUp reports whether a client may still get what it missed when a message
// is settled that was sent at an instant and is settled at another.
func (l *Ledger) mayCatchUp(c Client, sent, settled mono.Time) bool {
	a, was := l.excuses.Since(c, away, sent)
	return was && a.To.Add(l.cfg.Grace) > settled
}

// putOff gives what stays of a row that is being settled, for a delivery that is judged later; its second is not over
// until that is.
func (r *row) putOff() *row {
	if r.claimed == nil {
		r.claimed = &row{say: r.say, number: r.number, cell: r.cell}
	}
	r.say.Sheet.live++
	return r.claimed
}

// claim keeps a delivery of a row that is being settled for when its recipient is
// back; false if there are too many.
func (l *Ledger) claim(r *row, c Client) bool {
	k := l.seats[c].claims
	if len(k.all) >= maxClaims {
		return false
	}
	kept := r.putOff()
	k.byNumber[r.number] = len(k.all)
	k.all = append(k.all, claim{row: kept})
	return true
}

// caughtUp books that a delivery that is claimed came; false if it is not.
func (l *Ledger) caughtUp(a Arrival) (v Verdict, is bool) {
	s := &l.seats[a.To]
	if s.claims == nil {
		return v, false
	}
	at, claimed := s.claims.byNumber[a.Mark.Number]
	if gone, _ := l.absence(a.To); !claimed || a.At >= gone.To.Add(l.cfg.Grace) {
		return v, false
	}
	k := &s.claims.all[at]
	v = Verdict{Fate: CaughtUp, Sheet: k.row.say.Sheet, Kind: k.row.say.Kind,
		Latency: max(0, a.At.Sub(k.row.say.Due)), Own: true}
	l.hadSettled(a) // now it has
	k.got = true
	delete(s.claims.byNumber, a.Mark.Number)
	*k.row.say.Sheet.cells[k.row.cell+int(s.crew)].Of(v.Fate)++
	return v, true
}

// settleClaims judges what clients that are back have not caught up on in time.
func (l *Ledger) settleClaims(now mono.Time) {
	for l.returned.Len() > 0 && l.returned.At(0).at.Add(l.cfg.Grace) <= now {
		u := l.returned.Pop()
		if a, was := l.absence(u.client); was && a.To == u.at { // else it has gone again
			l.dropClaims(u.client, u.at.Add(l.cfg.Grace))
		}
	}
	if now >= mono.Never-1 { // the end: who is still away does not come back
		for c := range l.seats {
			l.dropClaims(Client(c), mono.Never)
		}
	}
}

// dropClaims ends a client's claims. What has not come is lost if its recipient stayed in the room until
// it could be expected, and excused if it left before.
func (l *Ledger) dropClaims(c Client, expected mono.Time) {
	s := &l.seats[c]
	if s.claims == nil {
		return
	}
	for _, k := range s.claims.all {
		if !k.got {
			f, room := Excused, k.row.say.Room
			in := l.rooms[room].seats[l.slot(c, room)].at(k.row.say.Sent)
			if expected != mono.Never && in.ceased > expected {
				f = Lost
			}
			*k.row.say.Sheet.cells[k.row.cell+int(s.crew)].Of(f)++
			if f == Lost && l.cfg.Lost != nil {
				l.cfg.Lost(k.row.number, k.row.say, c)
			}
		}
		k.row.say.Sheet.live--
	}
	clear(s.claims.all)
	clear(s.claims.byNumber)
	s.claims.all = s.claims.all[:0]
}

// endAbsence books that a client is out of its rooms: it does not come back. It was not away, it
// was gone, and read nothing from when its connection broke.
func (l *Ledger) endAbsence(c Client, now mono.Time) {
	a, was := l.absence(c)
	if !was || a.To != mono.Never {
		return
	}
	l.dropClaims(c, mono.Never)
	l.countsAway(c, now, -1)
	l.excuses.Drop(c, excuse.Away)
	l.excuses.Begin(c, excuse.HungUp, a.From)
}
