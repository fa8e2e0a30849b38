package client

import (
	"errors"

	"tidepull/internal/base/mono"
	"tidepull/internal/base/plain"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
)

// rel counts an instant from the start of the run.
func (e *Env) rel(t mono.Time) mono.Time {
	if t == mono.Never {
		return t
	}
	return t - e.Book.Start()
}

// tell tells a fact. The facts of a share go forward in time.
func (e *Env) tell(f fact.Fact) {
	e.told = max(e.told, e.rel(e.now))
	e.gatherer.Tell(&e.Facts, &f, e.told)
}

func (e *Env) tellText(f fact.Fact, text []byte) {
	e.told = max(e.told, e.rel(e.now))
	e.gatherer.Ends(&e.Facts, f.Client, e.told)
	f.At = e.told
	e.Facts.AddText(f, text)
}

// gathers reports whether the arrivals of a message may be told together, so that those of different clients change
// places: nothing that is judged depends on who had a message first. An order that is the same for all does, and so
// does how long a history has to be.
func gathers(t *trial.Trial) bool {
	if t.Target.Order == ledger.SameOrder {
		return false
	}
	for _, s := range t.Sessions() {
		for k := range s.Steps {
			step := &s.Steps[k]
			if t.Dialect.Past != nil && step.Do == trial.Enter && step.History >= 0 {
				return false
			}
		}
	}
	return true
}

// TellsOneByOne has each arrival told by itself.
func (e *Env) TellsOneByOne() { e.gathers = false }

// tellArrival tells that a message came, with those of the same message at other clients if that can make no
// difference.
func (e *Env) tellArrival(f fact.Fact) {
	if !e.gathers {
		e.tell(f)
		return
	}
	e.told = max(e.told, e.rel(e.now))
	e.gatherer.Gather(&e.Facts, &f, e.told)
}

// tellOf tells a fact that is about a client and a room and no more.
func (e *Env) tellOf(k fact.Kind, room ledger.Room) {
	e.tell(fact.Fact{Kind: k, Client: e.c.id, Room: room})
}

// CaughtUp tells that what came to the share until an instant is in the facts before; or,
// if read is earlier, that it is in those only until then, and that the share is too far
// behind to be waited for.
func (e *Env) CaughtUp(until, read mono.Time) {
	e.gatherer.End(&e.Facts)
	e.Facts.Add(fact.Fact{Kind: fact.Caught, Client: fact.AfterAll, At: e.told, Time: e.rel(until), Since: e.rel(read)})
}

// note tells something that changes what others do.
func (e *Env) note(k fact.NoteKind, which, by int32) {
	e.Notes = append(e.Notes, fact.Note{At: e.rel(e.now), Kind: k, Client: e.c.id, Which: which, By: by})
}

// record tells something for the lanes alone.
func (e *Env) record(at mono.Time, what lane.Happening, number uint64, size int) {
	e.tell(fact.Fact{Kind: fact.Records, Client: e.c.id, Peer: -1, Room: noRoom, What: uint8(what),
		Number: number, Size: uint32(size), Time: e.rel(at)})
}

// listens tells of a message without a mark, if the client is followed: servers tell
// everybody of everybody, and there is far too much of that.
func (e *Env) listens(at mono.Time, payload []byte) {
	if e.followed[e.c.id] {
		e.tellText(fact.Fact{Kind: fact.Listens, Client: e.c.id, Peer: -1, Room: noRoom, Time: e.rel(at),
			Size: uint32(len(payload))}, e.shown(payload))
	}
}

// quote tells what the message says that was accounted for last.
func (e *Env) quote(binary bool) {
	f := fact.Fact{Kind: fact.Quotes, Client: e.c.id, Room: noRoom, Number: e.lastNumber(), Size: uint32(len(e.body))}
	if binary {
		f.Flags = fact.Binary
	}
	e.tellText(f, e.shown(e.body))
}

// lastNumber is that of the share's last message.
func (e *Env) lastNumber() uint64 {
	return ledger.Number(e.spoken-1, e.Share, Streams(e.Trial, e.Shares))
}

// Streams is how many number messages side by side in a run.
func Streams(t *trial.Trial, shares int) int {
	return ledger.Streams(max(1, shares), t.Dialect.Announces())
}

// shown is what the lanes can show of a message, without secrets.
func (e *Env) shown(b []byte) []byte {
	b = e.hideBytes(b[:min(len(b), 2*lane.MaxBody)])
	return b[:min(len(b), lane.MaxBody+1)] // one more says that it is cut
}

// trouble tells that something went wrong with a client.
func (e *Env) trouble() {
	e.tell(fact.Fact{Kind: fact.Troubles, Client: e.c.id, Peer: -1, Room: noRoom, Time: e.rel(e.now)})
}

// event tells that something happened in a client's life.
func (e *Env) event(what logbook.EventKind, room ledger.Room, detail string) {
	e.tellText(fact.Fact{Kind: fact.Happens, Client: e.c.id, Room: room, What: uint8(what)}, []byte(detail))
}

// check books that a check held or failed.
func (e *Env) check(i int, held bool, why string) { e.checkWith(i, held, why, "") }

// checkWith is check with what is to be told of this time alone: the values that it failed with, which are not counted
// as reasons of their own.
func (e *Env) checkWith(i int, held bool, why, values string) {
	if i < 0 || !held && e.garbled() { // what the trial changed is not the server's doing
		return
	}
	e.Book.Now().Check(i, held)
	f := fact.Fact{Kind: fact.Checks, Client: e.c.id, Room: noRoom, Check: int16(i), Flags: fact.Good}
	if held {
		e.tell(f)
		return
	}
	f.Flags = 0
	text := e.countReason("check "+e.Trial.Checks[i].Name, errors.New(why))
	if values != "" {
		text += "; " + plain.Text(e.hide(values), maxReason)
	}
	e.tellText(f, []byte(text))
}

// followed is how many clients of each crew have all that happens to them kept.
const followed = 3

// Followed are the clients whose whole lanes are kept: the first of each crew, and the first
// of those that misbehave, up to the bound of the lanes.
func Followed(t *trial.Trial) (all []ledger.Client) {
	next := ledger.Client(0)
	for _, c := range t.Crews {
		for n := range min(followed, c.Clients) {
			if len(all) < lane.MaxFollowed {
				all = append(all, next+ledger.Client(n))
			}
		}
		for n, more := followed, 2*followed; n < c.Clients && more > 0 && len(c.Misbehave) > 0; n++ {
			if len(all) < lane.MaxFollowed && c.Misbehaves(n) != nil {
				all, more = append(all, next+ledger.Client(n)), more-1
			}
		}
		next += ledger.Client(c.Clients)
	}
	return all
}
