package client

import (
	"fmt"
	"math"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/base/plain"
	"tidepull/internal/client/reading"
	"tidepull/internal/measure/excuse"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial/expr"
)

// A feedKey is one numbered part of a feed.
type feedKey struct {
	feed int32
	key  uint64
}

// maxKeys bounds the parts of feeds that one client follows.
const maxKeys = 4096

// maxGap is the most numbers that one reading can show to be missing: a server
// that jumps ahead is wrong once, not a million million times.
const maxGap = 1_000_000

// unjudged stands for what is wrong with a reading that could not be judged.
const unjudged = "not judged"

// ageOf is how old a reading was when it came, by the time in it (milliseconds
// since 1970) and the time of its arrival (microseconds since 1970).
func ageOf(v expr.Value, at int64) (age time.Duration, wrong string) {
	const farOff = 366 * 24 * time.Hour
	switch ahead := v.Num*1000 - float64(at); {
	case v.Kind != expr.Number:
		return 0, "it has no time"
	case math.Abs(ahead)*1000 > 10*float64(farOff) || math.IsNaN(ahead):
		return 0, "its time is not in milliseconds since 1970"
	case ahead*1000 > float64(fromFuture):
		return 0, "it is from the future"
	default:
		return -time.Duration(ahead) * time.Microsecond, ""
	}
}

// fromFuture is how far ahead a server's clock may be.
const fromFuture = time.Minute

// followsFeed judges something that the server pushed by itself.
func (j *judge) followsFeed(e *Env, at mono.Time, r *reading.Feed) {
	f, n := &e.Trial.Feeds[r.At], e.counts()
	n.Readings++
	wrong := ""
	if f.Time != nil {
		age, why := ageOf(r.Time, e.wall(at))
		switch wrong = why; {
		case why != "":
		case f.Fresh > 0 && age > f.Fresh:
			n.Stale++
			wrong = "it is too old"
			fallthrough
		default:
			e.Book.Now().Times[logbook.FeedAge].Record(max(0, age))
		}
	}
	if f.Seq != nil {
		if why := j.follow(e, r); why != "" {
			wrong = why
		}
	}
	values := ""
	if wrong != unjudged && (f.Seq == nil || r.Number.Whole) {
		e.tellsReading(at, r)
	}
	if f.Every > 0 && wrong != unjudged {
		if hole := j.times(e, r, at); hole > 0 && wrong == "" {
			wrong, values = holeInFeed, fmt.Sprintf("for %v", hole.Round(time.Millisecond))
		}
	}
	if wrong != unjudged && f.JudgedAlone() {
		e.checkWith(f.Check, wrong == "", wrong, values)
	}
}

const holeInFeed = "nothing of it came for too long"

// times books how long it took until the next reading of a part came; it gives that time if it is too long, and nothing
// that is not the server's doing can be why.
func (j *judge) times(e *Env, r *reading.Feed, at mono.Time) (hole time.Duration) {
	x, key := j.own(), feedKey{int32(r.At), r.Key}
	last, known := x.readings[key]
	if !known && len(x.readings) >= maxKeys {
		return 0
	}
	if x.readings == nil {
		x.readings = map[feedKey]mono.Time{}
	}
	x.readings[key] = at
	if !known || e.mayHaveMissed(last) {
		return 0
	}
	gap := max(0, at.Sub(last))
	e.Book.Now().Times[logbook.FeedInterval].Record(gap)
	if tooLong(gap, e.Trial.Feeds[r.At].Every) && !e.inDoubt(last) {
		return gap
	}
	return 0
}

// mayHaveMissed reports whether a fault of the trial, or the client's own slow reading, may be why nothing came.
func (e *Env) mayHaveMissed(since mono.Time) bool {
	return e.pathBad(since) || e.isFaulted() || e.hindered(excuse.Of(excuse.SlowReader, excuse.HeldDown), since)
}

// tooLong reports whether a hole is longer than a feed promises: half as long again is allowed.
func tooLong(gap, every time.Duration) bool { return gap > every+every/2 }

// feedsEnd judges, as the client leaves, for how long nothing of a feed has come.
func (j *judge) feedsEnd(e *Env) {
	if j.rare == nil {
		return
	}
	for key, last := range j.rare.readings {
		f, gap := &e.Trial.Feeds[key.feed], e.now.Sub(last)
		if tooLong(gap, f.Every) && !e.mayHaveMissed(last) && !e.inDoubt(last) {
			e.checkWith(f.Check, false, holeInFeed, fmt.Sprintf("for %v, until the client left",
				gap.Round(time.Millisecond)))
			break // of each connection one: they have all stopped
		}
	}
	j.rare.readings = nil
}

// unfollows has the next reading of each feed be the first: the client leaves a room, and what the feed tells there
// comes no more, or its connection is gone for good.
func (j *judge) unfollows(e *Env) {
	j.feedsEnd(e)
	if j.rare != nil {
		j.rare.feeds = nil
	}
}

// follow compares a reading's number with the last one of its part.
func (j *judge) follow(e *Env, r *reading.Feed) (wrong string) {
	n, seq := e.counts(), r.Number.N
	if !r.Number.Whole {
		return "it has no whole number"
	}
	x, key := j.own(), feedKey{int32(r.At), r.Key}
	last, known := x.feeds[key]
	switch {
	case !known && len(x.feeds) >= maxKeys:
		e.countReason("not judged", fmt.Errorf("feed %s has more than %d keys at one client", e.Trial.Feeds[r.At].Name,
			maxKeys))
		return unjudged
	case !known:
		if x.feeds == nil {
			x.feeds = map[feedKey]int64{}
		}
	case seq == last:
		n.Repeats++
		wrong = "it came twice"
	case seq < last:
		n.Backward++
		return "it came after a later one"
	case seq > last+1:
		n.Gaps += min(seq-last-1, maxGap)
		wrong = "some before it are missing"
	}
	x.feeds[key] = seq
	return wrong
}

// readings are the newest that the share has told the account in full.
type readings struct{ told []toldReading }

type toldReading struct {
	sum uint64
	at  mono.Time
}

// isNew reports whether a reading was not told for some time, and notes that it is now.
func (r *readings) isNew(sum uint64, now mono.Time, lasts time.Duration) bool {
	if r.told == nil {
		r.told = make([]toldReading, 1<<10)
	}
	at := &r.told[sum%uint64(len(r.told))]
	if at.sum == sum && now.Sub(at.at) < lasts {
		return false
	}
	*at = toldReading{sum, now}
	return true
}

// maxReading is how much of what a reading tells is compared.
const maxReading = 200

// tellsReading tells of a reading of which all clients must be given the same, and books what it tells.
func (e *Env) tellsReading(at mono.Time, r *reading.Feed) {
	f := &e.Trial.Feeds[r.At]
	if r.Value.Kind == expr.Number {
		e.Book.Now().Tells(r.At, r.Value.Num)
	}
	if !f.Same || e.garbled() {
		return
	}
	t := fact.Fact{Kind: fact.Reads, Client: e.c.id, Peer: -1, Room: noRoom, Check: int16(r.At),
		Number: uint64(r.Number.N),
		Sum:    reading.Digest(r.Text), Time: e.rel(at), Since: mono.Time(r.Key >> 1)}
	if f.Seq != nil {
		t.Flags = fact.Numbered
	}
	if !e.readings.isNew(t.Sum, e.now, e.Trial.Grace/2) {
		e.tell(t)
		return
	}
	e.tellText(t, []byte(plain.Text(e.hide(string(r.Text[:min(len(r.Text), maxReading)])), maxReading)))
}
