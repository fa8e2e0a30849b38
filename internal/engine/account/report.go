package account

import (
	"slices"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
)

// A Report is what there is to tell of a run, four times a second. It is immutable.
type Report struct {
	Names   []string // of the clients, by number
	Elapsed time.Duration
	Leg     string           // of the tide; "" once it is over
	Closed  []*logbook.Entry // seconds that are over and settled, each reported once
	Open    []*logbook.Entry // the others, as they stand
	Rooms   []string         // by number
	Events  []logbook.Event  // in clients' lives, each reported once
	Sent    []uint32         // messages that each client has said
	Got     []uint32         // marked messages that each client has received
	Reasons map[string]int   // why connections were refused or broke, and what was missed
	Said    []bool           // by number of a step: some client has said what it says
	Kept    []ledger.Message // messages with something wrong, all so far
	Sampled []ledger.Message // of the good ones
	Lanes   []lane.Record    // each reported once, in no order
	Bodies  []lane.Body      // of messages in the lanes, each reported once
	// Differences are of messages that came otherwise than they were said, each reported once.
	Differences []Difference
	// Apart is by how much the clocks of two machines with clients may be off, together; 0: there is one.
	Apart  time.Duration
	Grown  int64 // memory of all processes with clients, since before they had any, in bytes; 0: not known
	Unkept int
	Held   int // reports that could not be handed over in time and were put off
	Last   bool
}

// Due reports whether all shares have told of a further quarter of a second.
func (a *Account) Due() bool { return a.tick() > a.ticks }

// tick is up to which quarter of a second all shares have told.
func (a *Account) tick() int {
	least := fact.LastTick
	for i := range a.shares {
		least = min(least, a.shares[i].part.Tick)
	}
	return least
}

// Report makes a report of how things stand. It is the last one once all shares have
// ended.
func (a *Account) Report() (Report, error) {
	a.ticks = a.tick()
	last := a.ticks == fact.LastTick
	if last {
		a.settleCatching(mono.Never)
	} else {
		a.settleCatching(a.now)
	}
	r := Report{Names: a.cfg.Names, Elapsed: time.Duration(a.now), Leg: a.trial.LegAt(time.Duration(a.now)), Last: last,
		Kept: slices.Clip(a.ledger.Kept), Sampled: slices.Clone(a.ledger.Sampled), Unkept: a.ledger.Unkept,
		Events: a.events, Sent: slices.Clone(a.sent), Got: slices.Clone(a.got)}
	a.events = nil
	r.Lanes, r.Bodies = a.lanes.Take()
	r.Differences = a.differing.take()
	for i := range a.ledger.Rooms() {
		r.Rooms = append(r.Rooms, a.trial.Hide(a.ledger.RoomName(ledger.Room(i))))
	}
	reasons := logbook.Reasons{}
	reasons.Add(a.reasons.All())
	for i := range a.shares {
		reasons.Add(a.shares[i].part.Reasons)
		r.Grown += a.shares[i].part.Grown
		for k, said := range a.shares[i].part.Said {
			if k == len(r.Said) {
				r.Said = append(r.Said, false)
			}
			r.Said[k] = r.Said[k] || said
		}
	}
	r.Reasons, r.Apart = reasons.All(), a.apart.most()
	if last {
		a.book.Now().Judge()
		a.closed = append(a.closed, a.book.TakeClosed(true)...)
	}
	var err error
	r.Closed, r.Open, err = a.seconds(a.book.Open())
	return r, err
}

// seconds puts the seconds together that are not reported yet.
func (a *Account) seconds(open []*logbook.Entry) (over, underWay []*logbook.Entry, err error) {
	for n, e := range slices.Concat(a.closed, open) {
		settled := n < len(a.closed)
		parts := make([]*logbook.Entry, 0, len(a.shares))
		for i := range a.shares {
			if p, closed := secondOf(&a.shares[i].part, e.At); p != nil {
				parts = append(parts, p)
				settled = settled && closed
			} else {
				settled = settled && a.shares[i].upTo == mono.Never
			}
		}
		whole, err := logbook.Merge(e, parts...)
		if err != nil {
			return nil, nil, err
		}
		if whole.Settled = settled; !settled || len(underWay) > 0 {
			whole.Settled = false
			underWay = append(underWay, whole)
			continue
		}
		over = append(over, whole)
	}
	a.closed = slices.Delete(a.closed, 0, len(over))
	if len(over) > 0 {
		last := over[len(over)-1].At
		for i := range a.shares {
			p := &a.shares[i].part
			p.Closed = slices.DeleteFunc(p.Closed, func(e *logbook.Entry) bool { return e.At <= last })
		}
	}
	return over, underWay, nil
}

// secondOf finds a second in what a share told, and says whether it is over for it.
func secondOf(p *fact.Part, at int) (e *logbook.Entry, closed bool) {
	for i, list := range [][]*logbook.Entry{p.Closed, p.Open} {
		for _, e := range list {
			if e.At == at {
				return e, i == 0
			}
		}
	}
	return nil, false
}
