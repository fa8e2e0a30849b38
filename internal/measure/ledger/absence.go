package ledger

import (
	"slices"

	"tidepull/internal/base/mono"
)

// An absence is that a client's connection is broken while it stays a member: what
// is said meanwhile is owed to it, and it may catch up on that once it is back.
type absence struct {
	since  mono.Time
	until  mono.Time // Never while it lasts
	claims []claim   // what is owed and has not come, of messages that are settled for the others
}

// A claim is a delivery that is still owed after its message was settled.
type claim struct {
	row  *row // a copy of what is needed to book it
	slot int
	got  bool
}

// maxClaims bounds the claims of one client; what is beyond it is excused.
const maxClaims = 4096

// Suspend books that a client's connection broke and that it may come back as the
// member that it was. What had not come to it by then may come when it is back,
// within Config.Grace. It comes back by Resume, or is out of its rooms by Break.
func (l *Ledger) Suspend(c Client, now mono.Time) {
	s := &l.seats[c]
	if s.away == nil || s.away.until != mono.Never {
		l.countsAway(c, now, 1)
	}
	switch {
	case s.away == nil:
		s.away = &absence{since: now, until: mono.Never}
	case s.away.until != mono.Never:
		s.away.since, s.away.until = now, mono.Never
	}
}

// Resume books that a suspended client is back.
func (l *Ledger) Resume(c Client, now mono.Time) {
	if a := l.seats[c].away; a != nil && a.until == mono.Never {
		l.countsAway(c, now, -1)
		a.until = now
		l.returned.Push(unsettled{c, now})
	}
}

// AwaySince is when a client's connection broke last, after which it is a member still; 0 if
// none did.
func (l *Ledger) AwaySince(c Client) mono.Time {
	if a := l.seats[c].away; a != nil {
		return a.since
	}
	return 0
}

// An unsettled client has claims that are judged Config.Grace after an instant.
type unsettled struct {
	client Client
	at     mono.Time
}

// missed reports whether a message that was sent at an instant may have been
// missed by a client that was away, and has not been for long enough that it
// could have caught up by now.
func (l *Ledger) missed(c Client, sent mono.Time) bool {
	a := l.seats[c].away
	return a != nil && sent <= a.until
}

// mayCatchUp reports whether a client may still get what it missed when a message
// is settled that was sent at an instant and is settled at another.
func (l *Ledger) mayCatchUp(c Client, sent, settled mono.Time) bool {
	a := l.seats[c].away
	return l.missed(c, sent) && (a.until == mono.Never || a.until.Add(l.cfg.Grace) > settled)
}

// claim keeps a delivery of a row that is being settled for when its recipient is
// back; false if there are too many.
func (l *Ledger) claim(r *row, slot int, c Client) bool {
	a := l.seats[c].away
	if len(a.claims) >= maxClaims {
		return false
	}
	kept := r.claimed
	if kept == nil {
		kept = &row{say: r.say, number: r.number, cell: r.cell}
		r.claimed = kept
	}
	r.say.Sheet.live++
	a.claims = append(a.claims, claim{row: kept, slot: slot})
	return true
}

// caughtUp books that a delivery that is claimed came; false if it is not.
func (l *Ledger) caughtUp(a Arrival) (v Verdict, is bool) {
	s := &l.seats[a.To]
	if s.away == nil || s.away.until != mono.Never && a.At >= s.away.until.Add(l.cfg.Grace) {
		return v, false
	}
	for i := range s.away.claims {
		k := &s.away.claims[i]
		if k.row.number != a.Mark.Number || k.got {
			continue
		}
		v = Verdict{Fate: CaughtUp, Sheet: k.row.say.Sheet, Kind: k.row.say.Kind,
			Latency: max(0, a.At.Sub(k.row.say.Due)), Own: true}
		l.hadSettled(a) // now it has
		k.got = true
		*k.row.say.Sheet.cells[k.row.cell+int(s.crew)].Of(v.Fate)++
		return v, true
	}
	return v, false
}

// settleClaims judges what clients that are back have not caught up on in time.
func (l *Ledger) settleClaims(now mono.Time) {
	for l.returned.Len() > 0 && l.returned.At(0).at.Add(l.cfg.Grace) <= now {
		u := l.returned.Pop()
		if a := l.seats[u.client].away; a.until == u.at { // else it has gone again
			l.dropClaims(u.client, Lost)
		}
	}
	if now >= mono.Never-1 { // the end: who is still away does not come back
		for c := range l.seats {
			l.dropClaims(Client(c), Excused)
		}
	}
}

// dropClaims ends a client's claims: what has not come has a fate.
func (l *Ledger) dropClaims(c Client, f Fate) {
	s := &l.seats[c]
	if s.away == nil {
		return
	}
	for _, k := range s.away.claims {
		if !k.got {
			*k.row.say.Sheet.cells[k.row.cell+int(s.crew)].Of(f)++
			if f == Lost && l.cfg.Lost != nil {
				l.cfg.Lost(k.row.number, k.row.say, c)
			}
		}
		k.row.say.Sheet.live--
	}
	s.away.claims = slices.Delete(s.away.claims, 0, len(s.away.claims))
}

// endAbsence books that a client is out of its rooms: it does not come back.
func (l *Ledger) endAbsence(c Client, now mono.Time) {
	if s := &l.seats[c]; s.away != nil && s.away.until == mono.Never {
		l.dropClaims(c, Excused)
		l.countsAway(c, now, -1)
		s.each(func(in seat) {
			if st := &l.rooms[in.room].seats[in.slot]; st.ceased == mono.Never {
				st.broke = s.away.since
			}
		})
		s.away.until = -1 // it was not away, it was gone
	}
}
