package account

import (
	"tidepull/internal/base/mono"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/mark"
)

// called is what an announcement says, as clients hear it. Of clients under one name the first stands
// for all.
type called struct {
	kind  ledger.Kind
	room  ledger.Room
	first ledger.Client
}

// called gives what an announcement about a client says.
func (a *Account) called(k ledger.Kind, room ledger.Room, about ledger.Client) called {
	if all := a.cfg.Sharers(about); len(all) > 0 {
		about = all[0]
	}
	return called{k, room, about}
}

// named reports whether something is so of a client, or of another one under its name.
func (a *Account) named(c ledger.Client, is func(ledger.Client) bool) bool {
	all := a.cfg.Sharers(c)
	for _, other := range all {
		if is(other) {
			return true
		}
	}
	return len(all) == 0 && is(c)
}

// mayBeGone reports whether a client, or another one under its name, may be gone for its server without the tool's
// knowing (Ledger.MayBeGone).
func (a *Account) mayBeGone(c ledger.Client, at mono.Time) bool {
	return a.named(c, func(c ledger.Client) bool { return a.ledger.MayBeGone(c, at) })
}

// An alike is an announcement about one of several clients under one name.
type alike struct {
	number uint64
	about  ledger.Client
	at     mono.Time
}

// announce books that the server should tell a room's others that a client enters or
// leaves.
func (a *Account) announce(c ledger.Client, k ledger.Kind, room ledger.Room, at mono.Time) {
	number := a.ledger.Say(ledger.Say{Kind: k, Audience: ledger.ToOthers, Room: room, Sender: c, Due: at, Sent: at,
		Sheet: &a.book.At(at).Sheet})
	said := a.called(k, room, c)
	if len(a.cfg.Sharers(c)) > 0 {
		all := a.alikes[said]
		for len(all) > 0 && all[0].at.Add(a.trial.Grace) <= at {
			all = all[1:]
		}
		a.alikes[said] = append(all, alike{number, c, at})
	}
	a.provedTrue(said, c, number)
}

// announced gives the announcement that a client has heard. Of clients under one name it is the latest
// that has not come to it yet: such announcements are judged by their number.
func (a *Account) announced(said called, about, to ledger.Client, at mono.Time) (uint64, ledger.Client, bool) {
	if len(a.cfg.Sharers(about)) == 0 {
		number, open := a.ledger.Announced(said.kind, said.room, about,
			at.Add(-a.apart.others(a.shareOf(to))))
		if !open && number != 0 && a.ledger.Awaits(number, to) { // it is in again, and this tells of the stay before
			open = true
		}
		return number, about, open
	}
	all := a.alikes[said]
	for i := len(all) - 1; i >= 0 && all[i].at.Add(a.trial.Grace) > at; i-- {
		if a.ledger.Awaits(all[i].number, to) {
			return all[i].number, all[i].about, true
		}
	}
	return 0, about, false
}

// hears books that a client heard who enters or leaves.
func (a *Account) hears(f *fact.Fact, room ledger.Room) {
	said := a.called(ledger.Kind(f.What), room, f.Peer)
	unread := a.ledger.Unread(f.Client, f.Time)
	if said.kind == ledger.Gone && !unread && len(a.cfg.Sharers(f.Peer)) == 0 {
		a.told(f.Peer, f.Time)
	}
	number, about, open := a.announced(said, f.Peer, f.Client, f.Time)
	if (!open || a.ledger.Got(number, f.Client)) &&
		a.named(f.Peer, func(c ledger.Client) bool { return a.ledger.CutOff(c, f.Time) }) {
		return // the server may have closed it, and let it in again, and it does not know
	}
	itself := func(c ledger.Client) bool { return c == f.Client }
	if (!open || about == f.Client) && a.named(f.Peer, itself) {
		a.hearsOfItself(f, said)
		return
	}
	if !open {
		// If it was said long ago, or a byte of the name may have been changed, it may be about anything.
		excused := unread || a.ledger.Garbling(f.Time) || said.kind == ledger.Gone &&
			a.mayBeGone(f.Peer, f.Time)
		a.unfounded(rumour{called: said, about: about, to: f.Client, at: f.Time, excused: excused})
		return
	}
	a.heardOf(f.Client, room, about, number, f.Time)
}

// hearsOfItself books that a client was told that it has entered or left itself. Many servers tell
// everybody in the room; the dialect says if that must not be.
func (a *Account) hearsOfItself(f *fact.Fact, said called) {
	n := a.trial.Dialect.Notice(said.kind)
	if n.NotItself && !a.ledger.Garbling(f.Time) {
		a.falsely("a client was told that it had "+said.verb()+" itself", rumour{called: said, about: f.Peer,
			to: f.Client, at: f.Time}, f.Time)
	}
}

// heardOf books that an announcement came to a client.
func (a *Account) heardOf(to ledger.Client, room ledger.Room, about ledger.Client, number uint64, at mono.Time) {
	a.arrival(ledger.Arrival{To: to, Mark: mark.Mark{Run: a.cfg.Run, Room: uint32(room), Sender: uint32(about),
		Number: number}, At: at, Sheet: &a.book.Now().Sheet}, 0)
}

// verb says what an announcement says of a client, for "it has ...".
func (c called) verb() string {
	if c.kind == ledger.Gone {
		return "left"
	}
	return "joined"
}
