package finding

import (
	"fmt"
	"slices"
	"time"

	"tidepull/internal/base/units"
	"tidepull/internal/measure/common"
	"tidepull/internal/measure/logbook"
)

var stalled = Weakness{Number: 41, Question: HowSoon, Title: "stalls",
	Usually: "Something holds everything up for a while: a handler that blocks the only loop, a timer that " +
		"does much at once, a lock that is held while something is written, the collection of garbage. Look at " +
		"what runs at that period.",
	Experiment: "a steady rate for a minute: the slowest deliveries, and when they come"}

// Bounds on a stall: how slow the slowest delivery of a second must be, alone and against other seconds; how many
// such seconds, and which part of all of them at most: beyond it the server is slow, and does not stall.
const (
	leastStall  = 100 * time.Millisecond
	longStall   = 500 * time.Millisecond // one of them is enough
	stallTimes  = 10
	leastStalls = 3
	mostStalled = 0.34
	// A second in which clients say so much, in bytes, and so many times what they do in half of all, is as slow as
	// that takes.
	muchSaid   = 256 << 10
	timesUsual = 10
)

// stalls finds that everything stops now and then.
func stalls(s *search) []Finding {
	if !s.Over || len(s.Doings)+len(s.events(logbook.Misbehaved)) > 0 { // what the trial did would look like one
		return nil
	}
	type second struct {
		at   int
		last time.Duration
	}
	var all []second
	much := s.much()
	for _, e := range s.Seconds {
		if !e.KeptUp() {
			continue
		}
		w := &logbook.Window{}
		if s.keptIn(e.At) > leastStall/4 || s.crowdIn(e) || w.AddClean(e) != nil || w.Last.Count() == 0 ||
			s.saidBeside(e.At, w.Last.Max()) >= much {
			continue
		}
		all = append(all, second{e.At, w.Last.Max()})
	}
	if len(all) < 4*leastStalls {
		return nil
	}
	sorted := slices.Clone(all)
	slices.SortFunc(sorted, func(a, b second) int { return int(a.last - b.last) })
	usual := sorted[len(sorted)/2].last
	var stalls []float64
	longest := time.Duration(0)
	var list []Evidence
	for _, x := range all {
		if x.last < max(leastStall, stallTimes*usual) {
			continue
		}
		stalls, longest = append(stalls, float64(x.at)), max(longest, x.last)
		if len(list) < mostEvidence {
			list = append(list, Evidence{Says: fmt.Sprintf("at %s a message took %s to its last recipient",
				units.Clock(time.Duration(x.at)*time.Second), units.Duration(x.last)), Client: -1,
				At: time.Duration(x.at) * time.Second})
		}
	}
	if len(stalls) == 0 || len(stalls) < leastStalls && longest < longStall ||
		float64(len(stalls)) > mostStalled*float64(len(all)) {
		return nil
	}
	says := fmt.Sprintf("in %s of %s a message took %s or longer to its last recipient, up to %s; in half of all "+
		"seconds the slowest took %s", units.Count(int64(len(stalls))), units.Plural(len(all), "second"),
		units.Duration(max(leastStall, stallTimes*usual)), units.Duration(longest), units.Duration(usual))
	if every, is := even(stalls); is {
		says += fmt.Sprintf("; it happens every %s", units.Duration(every))
	}
	return []Finding{{Weakness: stalled.Number, Severity: Slow, Figures: []string{"spread.last.max"},
		Share: shareOf(int64(len(stalls)), int64(len(all))), Says: says, Evidence: list}}
}

// keptIn is for how long a thread of the tool or the server was kept from a core in a second or the next one,
// into which what was said in it reaches.
func (s *search) keptIn(second int) (most time.Duration) {
	for _, e := range s.Seconds.Between(second, second+2) {
		if most = max(most, e.Health.Kept); e.Health.Overload != 0 {
			return time.Hour
		}
	}
	return most
}

// much is how many bytes are much for clients to say in a second.
func (s *search) much() int64 {
	var all []int64
	for _, e := range s.Seconds {
		if e.Counts.Routes.BytesUp > 0 {
			all = append(all, e.Each(e.Counts.Routes.BytesUp))
		}
	}
	if len(all) == 0 {
		return muchSaid
	}
	slices.Sort(all)
	return max(muchSaid, timesUsual*all[len(all)/2])
}

// saidBeside is how many bytes clients said in the second that they said most in, of those that a message was under way
// in and the one before: what was said then may still be.
func (s *search) saidBeside(second int, took time.Duration) (most int64) {
	for _, e := range s.Seconds.Between(second-1, second+2+int(took/time.Second)) {
		most = max(most, e.Each(e.Counts.Routes.BytesUp))
	}
	return most
}

// crowdIn reports whether so many clients enter in a second that its slowness is theirs.
func (s *search) crowdIn(e *logbook.Entry) bool {
	const some, part = 5, 20
	return e.Counts.Entries > max(some, int64(s.Total.Most.Entered)/part)
}

// even gives how far apart some seconds are, if they are evenly so.
func even(at []float64) (time.Duration, bool) {
	var twice []float64 // a rhythm is of spells: each second is one
	for _, t := range at {
		twice = append(twice, t, t)
	}
	r, is := common.RhythmOf(twice, nil)
	return time.Duration(r.Every * float64(time.Second)), is
}
