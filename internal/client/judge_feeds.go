package client

import (
	"fmt"
	"math"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/client/reading"
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
	if wrong != unjudged {
		e.check(f.Check, wrong == "", wrong)
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
