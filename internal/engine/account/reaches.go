package account

import (
	"time"

	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/mark"
	"tidepull/internal/measure/meter"
)

// reaches books that a message came to one client after another. What is out of the common is booked as if it had been
// told by itself. It reports whether all of it makes sense.
func (a *Account) reaches(f *fact.Fact, text []byte) bool {
	one := *f
	one.Kind = fact.Gets
	from := a.ledger.StreamOf(f.Number)
	var reach ledger.Reach
	room, together := noRoom, false
	if from < len(a.shares) && a.apart.machine == nil {
		if room = a.shares[from].room(f); room != noRoom {
			reach, together = a.ledger.Reach(mark.Mark{Run: a.cfg.Run, Room: uint32(room), Number: f.Number}, f.Sum)
		}
	}
	var latencies *meter.Hist // of the crew at hand
	var page *logbook.Page
	crew, came := uint16(0), int64(0)
	if together {
		page = a.book.Of(reach.Sheet)
	}
	rec := lane.Record{What: lane.Got, Number: f.Number, Peer: f.Peer, Room: room, Size: f.Size}
	r, text, ok := fact.NextReached(text, fact.Reached{At: f.Time})
	for ; ok; r, text, ok = fact.NextReached(text, r) {
		if r.To < 0 || int(r.To) >= len(a.crews) {
			return false
		}
		if together {
			if took, fate, is := reach.To(r.To, r.At); is {
				a.got[r.To]++
				came++
				if of := a.crews[r.To]; latencies == nil || of != crew {
					crew, latencies = of, page.Latencies(of, reach.Owed)
				}
				latencies.Record(took)
				rec.At, rec.Client, rec.Took, rec.Fate = time.Duration(r.At), r.To, took, fate
				a.lanes.Add(rec)
				if fate == ledger.Late {
					a.lanes.Problem(rec.At, rec.Number, true, rec.Client, rec.Peer)
				}
				continue
			}
		}
		one.Client, one.Time = r.To, r.At
		a.gets(&one)
	}
	if came > 0 {
		a.book.Second(reach.Sheet.Second).Counts.Marked += came
	}
	return len(text) == 0
}
