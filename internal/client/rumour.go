package client

import (
	"errors"
	"slices"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/mark"
)

// A rumour is that a client heard of another one that left, while the tool
// knows nothing of it. The server may have noticed first that a connection is
// gone: then the tool learns of it soon. Otherwise it is a stray announcement.
type rumour struct {
	kind  ledger.Kind
	room  ledger.Room
	about ledger.Client
	to    ledger.Client
	crew  uint16 // of to
	at    mono.Time
}

// maxRumours bounds the rumours that wait to be proved; what is beyond it counts
// as stray at once.
const maxRumours = 1 << 16

// unfounded handles an announcement that nothing gives cause for.
func (c *Client) unfounded(e *Env, r rumour, now mono.Time) {
	inside := e.Ledger.IsInside(r.room, r.about)
	switch {
	case r.kind == ledger.Joined && inside, r.about == c.id:
		// It is true: some servers tell who comes of everybody who is there.
	case r.kind == ledger.Gone && inside && len(e.rumours) < maxRumours:
		e.rumours = append(e.rumours, r)
	default:
		e.stray(r, now)
	}
}

// provedTrue books what clients heard before the tool knew that it is so.
func (e *Env) provedTrue(room ledger.Room, about ledger.Client, number uint64) {
	e.rumours = slices.DeleteFunc(e.rumours, func(r rumour) bool {
		if r.room != room || r.about != about {
			return false
		}
		a := ledger.Arrival{To: r.to, Mark: mark.Mark{Run: e.Run, Room: uint32(room), Sender: uint32(about),
			Number: number}, At: r.at, Sheet: &e.Book.Now().Sheet}
		e.arrival(r.to, r.crew, a, 0)
		return true
	})
}

// SettleRumours counts those that were not proved within the grace time as
// stray.
func (e *Env) SettleRumours(now mono.Time) {
	n := 0
	for n < len(e.rumours) && e.rumours[n].at.Add(e.Trial.Grace) <= now {
		e.stray(e.rumours[n], e.rumours[n].at)
		n++
	}
	if n > 0 {
		e.rumours = slices.Delete(e.rumours, 0, n)
	}
}

// stray books an announcement of something that did not happen.
func (e *Env) stray(r rumour, now mono.Time) {
	e.counts().StrayNews++
	what := "joined"
	if r.kind == ledger.Gone {
		what = "left"
	}
	e.countReason("announced falsely", errors.New("a client was said to have "+what+" that had not"))
	e.Lanes.Add(lane.Record{At: e.since(r.at), What: lane.Got, Number: lane.NoMessage, Client: r.to, Peer: r.about,
		Room: r.room, Fate: ledger.Stray, Kind: r.kind})
	e.Lanes.Problem(e.since(r.at), 0, false, r.to, r.about)
}
