package account

import (
	"fmt"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/base/queue"
	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/ledger"
)

// A rumour is that a client heard of another one that entered or left, while the tool
// knows nothing of it. The server may have noticed first that a connection is gone, or
// counts a client as in a room before its script says so: then the tool learns of it
// soon. Otherwise it is a stray announcement.
type rumour struct {
	called
	about   ledger.Client
	to      ledger.Client
	at      mono.Time
	excused bool // the trial, or the client, may be why it makes no sense
	proved  bool
}

// rumours are those that may yet prove true.
type rumours struct {
	all  queue.Queue[rumour] // by time
	gone uint64              // how many were taken out of it: a number, less that, is a place in it
	of   map[called][]uint64 // the numbers of those not proved, by what they say, by time
}

// maxRumours bounds the rumours that wait to be proved: when everybody goes at once there are as many as
// clients squared. Those beyond it are not judged, and that is said.
const maxRumours = 1 << 20

func (r *rumours) add(n rumour) bool {
	if r.all.Len() >= maxRumours {
		return false
	}
	if r.of == nil {
		r.of = map[called][]uint64{}
	}
	r.of[n.called] = append(r.of[n.called], r.gone+uint64(r.all.Len()))
	r.all.Push(n)
	return true
}

// due is when the oldest is to be judged, if a rumour has so long to prove true; mono.Never if there is none.
func (r *rumours) due(within time.Duration) mono.Time {
	if r.all.Len() == 0 {
		return mono.Never
	}
	return r.all.At(0).at.Add(within)
}

// pop takes out the oldest.
func (r *rumours) pop() rumour {
	n := r.all.Pop()
	r.gone++
	if !n.proved { // it is the oldest of those that say this
		if rest := r.of[n.called][1:]; len(rest) > 0 {
			r.of[n.called] = rest
		} else {
			delete(r.of, n.called)
		}
	}
	return n
}

// prove calls f with each rumour that says something, by time, until now without proof; those for which
// it gives true are proved.
func (r *rumours) prove(said called, f func(*rumour) bool) {
	numbers := r.of[said]
	if len(numbers) == 0 {
		return
	}
	rest := numbers[:0]
	for _, n := range numbers {
		if one := r.all.At(int(n - r.gone)); f(one) {
			one.proved = true
		} else {
			rest = append(rest, n)
		}
	}
	if r.of[said] = rest; len(rest) == 0 {
		delete(r.of, said)
	}
}

// unfounded handles an announcement that nothing gives cause for.
func (a *Account) unfounded(r rumour) {
	inside := a.named(r.about, func(c ledger.Client) bool { return a.ledger.IsInside(r.room, c) })
	several := len(a.cfg.Sharers(r.about)) > 0
	switch {
	case r.kind == ledger.Joined && inside && !several:
		return // It is true: some servers tell who comes of everybody who is there.
	case r.kind != ledger.Joined && !inside:
		a.stray(r, a.now)
		return
	case several && inside && a.entered(r.to, r.room, r.at):
		r.excused = true // it may be about any of those who were there
	}
	if !a.rumours.add(r) {
		a.reasons.Count(fmt.Sprintf("not judged: more than %d announcements came before their cause was known",
			maxRumours), 1)
	}
}

// entered reports whether a client has entered a room within the grace time.
func (a *Account) entered(c ledger.Client, room ledger.Room, now mono.Time) bool {
	at, in := a.ledger.Asked(room, c)
	return in && at.Add(a.trial.Grace) > now
}

// provedTrue books what clients heard before the tool knew that it is so: of clients under one name, each
// has heard it once of this one.
func (a *Account) provedTrue(said called, about ledger.Client, number uint64) {
	several := len(a.cfg.Sharers(about)) > 0
	var told map[ledger.Client]bool
	a.rumours.prove(said, func(r *rumour) bool {
		if several && (r.to == about || told[r.to]) {
			return false
		}
		switch {
		case !a.ledger.IsInside(said.room, r.to): // it has gone itself meanwhile, and is owed nothing
		case r.excused: // this may have been it, or an earlier one
			a.ledger.Pardon(number, r.to, ledger.LostOnPath)
		default:
			a.heardOf(r.to, said.room, about, number, r.at)
		}
		if several {
			if told == nil {
				told = map[ledger.Client]bool{}
			}
			told[r.to] = true
		}
		return true
	})
}

// settleRumours counts those that were not proved within the grace time as stray. That one has left who does not read
// may be known only once it does: it stays a rumour until then.
func (a *Account) settleRumours(now mono.Time) {
	for a.rumours.due(a.trial.Grace) <= now {
		switch r := a.rumours.pop(); {
		case r.proved:
		case now < mono.Never-1 && r.kind == ledger.Gone && r.excused && a.mayBeGone(r.about, now):
			r.at = now
			a.rumours.add(r) // there is room: it was in there
		default:
			a.stray(r, r.at.Add(a.trial.Grace))
		}
	}
}

// stray books an announcement of something that did not happen.
func (a *Account) stray(r rumour, at mono.Time) {
	if !r.excused {
		a.falsely("a client was said to have "+r.verb()+" that had not", r, at)
	}
}

// falsely books an announcement that is wrong.
func (a *Account) falsely(why string, r rumour, at mono.Time) {
	a.book.At(at).Counts.StrayNews++
	a.reasons.Count("announced falsely: "+why, 1)
	a.lanes.Add(lane.Record{At: time.Duration(r.at), What: lane.Got, Number: lane.NoMessage, Client: r.to,
		Peer: r.about, Room: r.room, Fate: ledger.Stray, Kind: r.kind})
	a.lanes.Problem(time.Duration(r.at), 0, false, r.to, r.about)
}
