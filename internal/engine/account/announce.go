package account

import (
	"slices"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/mark"
)

// announce books that the server should tell a room's others that a client enters or
// leaves.
func (a *Account) announce(c ledger.Client, k ledger.Kind, room ledger.Room, at mono.Time) {
	number := a.ledger.Say(ledger.Say{Kind: k, Audience: ledger.ToOthers, Room: room, Sender: c, Due: at, Sent: at,
		Sheet: &a.book.At(at).Sheet})
	a.provedTrue(k, room, c, number)
}

// hears books that a client heard who enters or leaves.
func (a *Account) hears(f *fact.Fact, room ledger.Room) {
	k, about := ledger.Kind(f.What), f.Peer
	unread := a.ledger.Unread(f.Client, f.Time)
	if k == ledger.Gone && !unread {
		a.told(about, f.Time)
	}
	number, open := a.ledger.Announced(k, room, about)
	for _, other := range a.cfg.Sharers(f.Peer) {
		if !open {
			about = other
			number, open = a.ledger.Announced(k, room, about)
		}
	}
	if a.ledger.CutOff(f.Peer, f.Time) && (!open || a.ledger.Got(number, f.Client)) {
		return // the server may have closed it, and let it in again, and it does not know
	}
	if !open {
		// If it was said long ago, or a byte of the name may have been changed, it may be about anything.
		a.unfounded(rumour{kind: k, room: room, about: about, to: f.Client, at: f.Time,
			excused: unread || a.ledger.Garbling(f.Time)})
		return
	}
	a.heardOf(f.Client, room, about, number, f.Time)
}

// heardOf books that an announcement came to a client.
func (a *Account) heardOf(to ledger.Client, room ledger.Room, about ledger.Client, number uint64, at mono.Time) {
	a.arrival(ledger.Arrival{To: to, Mark: mark.Mark{Run: a.cfg.Run, Room: uint32(room), Sender: uint32(about),
		Number: number}, At: at, Sheet: &a.book.Now().Sheet}, 0)
}

// A rumour is that a client heard of another one that entered or left, while the tool
// knows nothing of it. The server may have noticed first that a connection is gone, or
// counts a client as in a room before its script says so: then the tool learns of it
// soon. Otherwise it is a stray announcement.
type rumour struct {
	kind    ledger.Kind
	room    ledger.Room
	about   ledger.Client
	to      ledger.Client
	at      mono.Time
	excused bool // the trial, or the client, may be why it makes no sense
}

// maxRumours bounds the rumours that wait to be proved; what is beyond it counts
// as stray at once.
const maxRumours = 1 << 16

// unfounded handles an announcement that nothing gives cause for.
func (a *Account) unfounded(r rumour) {
	inside := a.ledger.IsInside(r.room, r.about)
	switch {
	case r.kind == ledger.Joined && inside, r.about == r.to:
		// It is true: some servers tell who comes of everybody who is there.
	case (r.kind == ledger.Joined || inside) && len(a.rumours) < maxRumours:
		a.rumours = append(a.rumours, r)
	default:
		a.stray(r, a.now)
	}
}

// provedTrue books what clients heard before the tool knew that it is so.
func (a *Account) provedTrue(k ledger.Kind, room ledger.Room, about ledger.Client, number uint64) {
	a.rumours = slices.DeleteFunc(a.rumours, func(r rumour) bool {
		if r.kind != k || r.room != room || r.about != about {
			return false
		}
		switch {
		case !a.ledger.IsInside(room, r.to): // it has gone itself meanwhile, and is owed nothing
		case r.excused: // this may have been it, or an earlier one
			a.ledger.Pardon(number, r.to, ledger.LostOnPath)
		default:
			a.heardOf(r.to, room, about, number, r.at)
		}
		return true
	})
}

// settleRumours counts those that were not proved within the grace time as
// stray.
func (a *Account) settleRumours(now mono.Time) {
	n := 0
	for n < len(a.rumours) && a.rumours[n].at.Add(a.trial.Grace) <= now {
		a.stray(a.rumours[n], a.rumours[n].at.Add(a.trial.Grace))
		n++
	}
	if n > 0 {
		a.rumours = slices.Delete(a.rumours, 0, n)
	}
}

// stray books an announcement of something that did not happen.
func (a *Account) stray(r rumour, at mono.Time) {
	if r.excused {
		return
	}
	a.book.At(at).Counts.StrayNews++
	what := "joined"
	if r.kind == ledger.Gone {
		what = "left"
	}
	a.reasons.Count("announced falsely: a client was said to have "+what+" that had not", 1)
	a.lanes.Add(lane.Record{At: time.Duration(r.at), What: lane.Got, Number: lane.NoMessage, Client: r.to,
		Peer: r.about, Room: r.room, Fate: ledger.Stray, Kind: r.kind})
	a.lanes.Problem(time.Duration(r.at), 0, false, r.to, r.about)
}
