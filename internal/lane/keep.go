package lane

import (
	"slices"
	"time"

	"tidepull/internal/ledger"
)

// around is how long before and after a problem its surroundings are kept.
const around = 1500 * time.Millisecond

// Problem tells that something went wrong between clients at an instant, with
// a message (number, where about is set): what happened to them around it is
// kept. Clients below 0 are nobody.
func (r *Recorder) Problem(at time.Duration, number uint64, about bool, clients ...ledger.Client) {
	if len(r.kept) >= maxKept || len(r.waiting) >= 256 {
		r.Unkept++
		return
	}
	p := problem{from: at - around, to: at + around, number: number, hasBody: about, clients: [3]ledger.Client{-1, -1, -1}}
	copy(p.clients[:], clients)
	r.waiting = append(r.waiting, p)
}

// Settle keeps the surroundings of problems whose aftermath is over at an
// instant.
func (r *Recorder) Settle(now time.Duration) {
	r.waiting = slices.DeleteFunc(r.waiting, func(p problem) bool {
		if p.to > now {
			return false
		}
		r.take(p)
		return true
	})
}

// take goes back through the ring from its end.
func (r *Recorder) take(p problem) {
	if p.hasBody {
		r.keepBody(p.number, Said)
	}
	mid, left := (p.from+p.to)/2, perProblem
	oldest := uint64(0)
	if size := uint64(len(r.ring)); r.n > size {
		oldest = r.n - size
	}
	if p.hasBody {
		p.clients[2] = r.witness(p, oldest)
	}
	var near []Record
	for i := r.n; i > oldest; i-- {
		rec := r.ring[(i-1)&uint64(len(r.ring)-1)]
		if rec.At < p.from-around { // arrivals are booked a little out of order
			break
		}
		if rec.At >= p.from && rec.At <= p.to && slices.Contains(p.clients[:], rec.Client) {
			near = append(near, rec)
		}
	}
	if len(near) > left { // those nearest to the problem
		slices.SortFunc(near, func(a, b Record) int { return int((a.At - mid).Abs() - (b.At - mid).Abs()) })
		near = near[:left]
	}
	for _, rec := range near {
		r.keep(rec)
		r.keepBody(rec.Number, rec.What)
	}
}

// witness finds somebody who got the message of a problem as it should be.
func (r *Recorder) witness(p problem, oldest uint64) ledger.Client {
	for i := r.n; i > oldest; i-- {
		rec := &r.ring[(i-1)&uint64(len(r.ring)-1)]
		if rec.At < p.from-around {
			break
		}
		if rec.What == Got && rec.Number == p.number && rec.Fate == ledger.Delivered && !slices.Contains(p.clients[:], rec.Client) {
			return rec.Client
		}
	}
	return -1
}

func (r *Recorder) keep(rec Record) {
	k := key{rec.At, rec.Number, rec.Client, rec.What}
	if _, known := r.kept[k]; known || len(r.kept) >= maxKept {
		return
	}
	r.kept[k] = rec
	r.news = append(r.news, rec)
}

// keepBody keeps what a message said, where it is still held.
func (r *Recorder) keepBody(number uint64, what What) {
	if what != Said && what != Got && what != Lost {
		return
	}
	b := &r.bodies[number&(bodyRing-1)]
	if _, known := r.texts[number]; known || b.number != number || b.length == 0 || r.wrote-b.at > arenaSize || len(r.texts) >= maxBodies {
		return
	}
	c := Body{number, slices.Clone(r.arena[b.at%arenaSize:][:b.length]), b.cut}
	r.texts[number] = c
	r.newTexts = append(r.newTexts, c)
}

// Lost keeps that a message did not come, which is known only long after it
// should have.
func (r *Recorder) Lost(rec Record) {
	rec.What = Lost
	r.keep(rec)
}

// Take hands over what was kept since it was last called, in no order.
func (r *Recorder) Take() ([]Record, []Body) {
	news, texts := r.news, r.newTexts
	r.news, r.newTexts = nil, nil
	return news, texts
}
