package account

import (
	"cmp"
	"slices"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/mark"
)

// An unmarked is a message without a mark that may still come. Its deliveries are known by a rule of the
// trial's, which says that they are of some such message, and not of which.
type unmarked struct {
	number uint64
	room   ledger.Room
	from   ledger.Client
	due    mono.Time
	sent   mono.Time
}

// unmarkeds are those of each rule that are under way.
type unmarkeds struct {
	of      map[unmarkedIn][]unmarked // in the order in which they were said
	newest  map[int]unmarked          // by rule: the one that was said last, in whatever room
	usual   map[int]time.Duration     // by rule: the longest that one took of which it was clear which it is
	waiting []unmarked                // that the recipient at hand waits for, by time
}

type unmarkedIn struct {
	rule int
	room ledger.Room
}

// says notes one that is said; those that can come no more are forgotten.
func (u *unmarkeds) says(rule int, m unmarked, grace time.Duration) {
	if u.of == nil {
		u.of, u.newest, u.usual = map[unmarkedIn][]unmarked{}, map[int]unmarked{}, map[int]time.Duration{}
	}
	key := unmarkedIn{rule, m.room}
	all := u.of[key]
	over := 0
	for over < len(all) && all[over].sent.Add(grace) < m.sent {
		over++
	}
	u.of[key] = append(all[:copy(all, all[over:])], m)
	u.newest[rule] = m
}

func (a *Account) isRule(rule int16) bool { return rule >= 0 && int(rule) < len(a.trial.Knowns) }

// knows books that a message without a mark came. If its recipient waits for several, or for none, it is taken
// to be the one that least can be held against the server.
func (a *Account) knows(f *fact.Fact) {
	rule := int(f.Check)
	a.got[f.Client]++
	u := &a.unmarked
	other, any := a.underWay(rule, f)
	switch {
	case len(u.waiting) > 0:
		u.waiting = u.unlikely(rule, f.Time, a.trial.Prompt)
		m, newest := u.waiting[0], u.waiting[len(u.waiting)-1]
		since := f.Since
		if m.number == newest.number {
			if took := f.Time.Sub(m.due); took <= a.trial.Prompt {
				u.usual[rule] = max(u.usual[rule], took)
			}
		} else {
			// It may be any of them: booked as the first of them, it came by as much earlier as the newest was
			// said later.
			if since == 0 {
				since = f.Time
			}
			since = since.Add(-newest.due.Sub(m.due))
			a.reasons.Count("of a message without a mark: the latency has two ends, as another one was under way", 1)
		}
		a.comes(m, f, since)
	case any && !a.isNew(f.Client, other): // it may be how things stand, or what was said before it entered
		a.comes(other, f, f.Since)
	default:
		a.reasons.Count("not judged: a message without a mark came while none of the trial's was under way", 1)
	}
}

// underWay puts those into waiting that a client is owed and has not got. It also gives the newest one that a
// delivery can be of if there are none: one of the client's rooms that it need not get, or else one that it has
// got, or else one of another room.
func (a *Account) underWay(rule int, f *fact.Fact) (other unmarked, any bool) {
	u := &a.unmarked
	may := func(m *unmarked) bool {
		return m.sent <= f.At && m.sent.Add(a.trial.Grace) >= f.Time && (f.Peer < 0 || a.isNamed(m.from, f.Peer))
	}
	u.waiting = u.waiting[:0]
	rank := 0
	a.ledger.Inside(f.Client, func(room ledger.Room) {
		all := u.of[unmarkedIn{rule, room}]
		for i := range all {
			m := &all[i]
			if !may(m) {
				continue
			}
			as := 2
			switch {
			case a.ledger.Awaits(m.number, f.Client):
				u.waiting = append(u.waiting, *m)
				continue
			case a.ledger.Got(m.number, f.Client):
				as = 1
			}
			if as > rank || as == rank && m.sent >= other.sent {
				other, rank = *m, as
			}
		}
	})
	if m, said := u.newest[rule]; rank == 0 && said && may(&m) {
		other, rank = m, 1
	}
	slices.SortStableFunc(u.waiting, func(a, b unmarked) int { return cmp.Compare(a.sent, b.sent) })
	return other, rank > 0
}

// unlikely leaves those out that would be late by now, if another one would have come as soon as they do: they
// are lost, and it is not what comes instead of the next.
func (u *unmarkeds) unlikely(rule int, now mono.Time, prompt time.Duration) []unmarked {
	all := u.waiting
	for len(all) > 1 && now.Sub(all[0].due) > prompt && slices.ContainsFunc(all[1:], func(m unmarked) bool {
		return now.Sub(m.due) <= u.usual[rule]
	}) {
		all = all[1:]
	}
	return all
}

// isNew reports whether a client asked to enter the room of a message after it was said.
func (a *Account) isNew(c ledger.Client, m unmarked) bool {
	at, in := a.ledger.Asked(m.room, c)
	return in && at >= m.sent
}

// isNamed reports whether a client has the name of another.
func (a *Account) isNamed(c, as ledger.Client) bool {
	return c == as || slices.Contains(a.cfg.Sharers(as), c)
}

func (a *Account) comes(m unmarked, f *fact.Fact, since mono.Time) {
	a.arrival(ledger.Arrival{To: f.Client, At: f.Time, Since: since, Sheet: &a.book.Now().Sheet,
		Mark: mark.Mark{Run: a.cfg.Run, Room: uint32(m.room), Sender: uint32(m.from), Number: m.number}}, int(f.Size))
}
