package lane

import (
	"cmp"
	"slices"
	"time"

	"tidepull/internal/measure/ledger"
)

// around is how long before and after a problem its surroundings are kept.
const around = 1500 * time.Millisecond

// Problem tells that something went wrong between clients at an instant, with
// a message (number, where about is set): what happened to them around it is
// kept. Clients below 0 are nobody.
func (r *Recorder) Problem(at time.Duration, number uint64, about bool, clients ...ledger.Client) {
	if r.keeps >= maxKept || len(r.waiting) >= 256 {
		r.Unkept++
		return
	}
	p := problem{from: at - around, to: at + around, number: number, hasBody: about,
		clients: [3]ledger.Client{-1, -1, -1}}
	copy(p.clients[:], clients)
	r.waiting = append(r.waiting, p)
}

// Settle keeps the surroundings of problems that have no aftermath any more at an
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

// take goes back through the records of those concerned.
func (r *Recorder) take(p problem) {
	if p.hasBody {
		r.keepBody(p.number, Said)
		if b := r.body(p.number); b.number == p.number && !slices.Contains(p.clients[:], b.seen) {
			p.clients[2] = b.seen // a witness
		}
	}
	mid := (p.from + p.to) / 2
	for _, c := range p.clients {
		near := r.of(c, p) // from the newest back
		// Those nearest to the problem.
		at, _ := slices.BinarySearchFunc(near, mid,
			func(i uint64, t time.Duration) int { return cmp.Compare(t, r.at(i).At) })
		for _, i := range near[max(0, at-perClient/2):min(len(near), at+perClient/2)] {
			r.keep(i)
			rec := r.at(i)
			r.keepBody(rec.Number, rec.What)
		}
	}
}

// of gives the numbers of what happened to a client around a problem.
func (r *Recorder) of(c ledger.Client, p problem) []uint64 {
	near := r.near[:0]
	if c < 0 || int(c) >= len(r.last) {
		return near
	}
	for at := r.last[c]; at > r.oldest*inChunk; {
		rec := r.at(at - 1)
		if rec.At < p.from-around { // arrivals are booked a little out of order
			break
		}
		if rec.At <= p.to && rec.At >= p.from {
			near = append(near, at-1)
		}
		if rec.back == 0 {
			break
		}
		at -= uint64(rec.back)
	}
	r.near = near
	return near
}

// keep keeps a record that is held, by its number, if it is not kept already.
func (r *Recorder) keep(i uint64) {
	if !r.kept[i] && r.add(*r.at(i)) {
		r.kept[i] = true
	}
}

// add is false where too much is kept.
func (r *Recorder) add(rec Record) bool {
	if r.keeps >= maxKept {
		return false
	}
	rec.back = 0
	r.news = append(r.news, rec)
	r.keeps++
	return true
}

// keepBody keeps what a message said, if it is still held.
func (r *Recorder) keepBody(number uint64, what Happening) {
	if what != Said && what != Got && what != Lost && what != Heard {
		return
	}
	b := r.body(number)
	if _, known := r.texts[number]; known || b.number != number || b.length == 0 ||
		r.wrote-b.at > uint64(len(r.arena)) || len(r.texts) >= maxBodies {
		return
	}
	c := Body{number, slices.Clone(r.arena[b.at%uint64(len(r.arena)):][:b.length]), b.cut}
	r.texts[number] = c
	r.newTexts = append(r.newTexts, c)
}

// Lost keeps that a message did not come, which is known only long after it
// should have.
func (r *Recorder) Lost(rec Record) {
	rec.What = Lost
	r.add(rec)
}

// Take hands over what was kept since it was last called, in no order.
func (r *Recorder) Take() ([]Record, []Body) {
	news, texts := r.news, r.newTexts
	r.news, r.newTexts = nil, nil
	return news, texts
}
