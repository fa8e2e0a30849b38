package ledger

import (
	"time"

	"tidepull/internal/base/bitset"
	"tidepull/internal/base/mono"
)

// A row is one message that is not settled yet.
type row struct {
	say        Say
	number     uint64
	opened     uint64   // how many rows were opened before it
	cell       int      // of the sheet: the first crew's
	members    *members // who is owed it, shared; nil if it is for one alone
	only       int32    // the slot that alone is owed it, or -1
	also       []Client // of a whisper: whom it is for as well as say.To
	except     int32    // the slot that is left out, or -1
	owed       int32
	reached    int32     // of those owed
	caughtUp   int32     // of those reached: after their recipient was away
	claimed    *row      // what is kept of it for claims, once it is settled
	firstAt    mono.Time // when the first of them had it
	late       int32
	lost       int32
	next       uint64     // the number of its sender's next message in the room; 0: none yet
	rank       uint64     // its place in the room's order, from 1; 0: nobody has it yet
	got        bitset.Set // by slot: it came here, owed or not
	past       bitset.Set // by slot: it came here as history
	narrow     bool       // it is owed to one alone or to nobody: few and alone stand for got and latency
	few        []int32    // of a narrow row: the slots that got it
	alone      uint32     // of a narrow row: the latency of the one slot that is owed it
	latency    []uint32   // by slot, in ticks; 0: has not come
	least      []uint32   // by slot, if some are only known within bounds: the least; 0: that is latency
	aloneLeast uint32     // of a narrow row: the same
	// by slot, if an order for all is promised: how many the recipient had got before it,
	// and 1; 0: has not come
	nth        []uint32
	doubted    []doubt    // deliveries that others may have got in another order
	lostOnPath bitset.Set // by slot: the trial lost it on its way there
	twice      bitset.Set // by slot: the trial has it come there again
	allTwice   bool       // it may come again to all
	garbled    bool       // it was changed on its way to the server: nobody is owed it, and it may come to anybody
	odd        []Outcome  // duplicates, strays and allowed ones
	oddRest    int        // those beyond maxOdd
}

// maxOdd bounds the odd arrivals that are kept of one message.
const maxOdd = 256

func (l *Ledger) newRow() *row {
	n := len(l.free)
	if n == 0 {
		return &row{}
	}
	r := l.free[n-1]
	l.free = l.free[:n-1]
	for _, set := range [...]*bitset.Set{&r.got, &r.past, &r.lostOnPath, &r.twice} {
		set.Clear()
	}
	*r = row{got: r.got, past: r.past, latency: r.latency[:0], least: r.least[:0], nth: r.nth[:0], odd: r.odd[:0],
		few: r.few[:0], also: r.also[:0], doubted: r.doubted[:0], lostOnPath: r.lostOnPath, twice: r.twice}
	return r
}

func (r *row) owes(slot int) bool {
	if r.members == nil {
		return int32(slot) == r.only
	}
	return int32(slot) != r.except && r.members.bits.Has(slot)
}

func (r *row) eachOwed(f func(slot int)) {
	if r.members == nil {
		if r.only >= 0 {
			f(int(r.only))
		}
		return
	}
	var none bitset.Set
	r.members.bits.Minus(&none, func(slot int) {
		if int32(slot) != r.except {
			f(slot)
		}
	})
}

func (r *row) note(to Client, what Fate, latency time.Duration) {
	if len(r.odd) == maxOdd {
		r.oddRest++
		return
	}
	r.odd = append(r.odd, Outcome{Latency: latency, Client: to, Fate: what})
}

// Latencies inside a row are ticks of 100 ns, plus one, in four bytes.
const tick = 100 * time.Nanosecond

func toTick(d time.Duration) uint32 { return uint32(min(d/tick, 1<<32-2)) + 1 }

// fromTick is the opposite of toTick; 0 stays 0: it has not come, or it piled up.
func fromTick(t uint32) time.Duration { return max(0, time.Duration(t)-1) * tick }
