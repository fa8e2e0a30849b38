package finding

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/meter"
)

var stalledRoom = Weakness{Number: 9, Question: HowSoon, Title: "slow reader stalls its room",
	Usually: "The relay waits for each write, one member after another, and one whose buffer is full holds up " +
		"the rest. Look at the loop over the members: each needs a queue of its own, with a bound, and a writer " +
		"that empties it.",
	Experiment: "one client of a room reads slowly, by turns; the latencies of the others in its room and in " +
		"other rooms"}

// Bounds on what is a stall: how much later others must get their messages, in part and in microseconds; how many
// seconds before and during are looked at, and how many there must be.
const (
	leastWorse      = 0.5
	leastWorseMicro = 1000
	// If it was not by turns, the machine may have changed, too, and others who use it.
	onceWorse      = 2
	onceWorseMicro = 10_000
	lookedAt       = 30
	leastLookedAt  = 3
	surely         = 3 // standard deviations
	drifting       = 2 // likewise: it gets worse by itself
	// calmsDown is for how long after a client has read on its room may have something to catch up with.
	calmsDown = 3 * time.Second
)

// A turn is a time in which some client read slowly.
type turn struct{ From, To time.Duration }

// second is the one in which it began.
func (t turn) second() int { return int(t.From / time.Second) }

// slowTurns are the clients that read slowly on purpose, and when any did, in order; none if some did anything else
// wrong, as what is seen may come of that.
func (s *search) slowTurns() (slow map[ledger.Client]bool, turns []turn) {
	slow = map[ledger.Client]bool{}
	since := map[ledger.Client]time.Duration{} // of those that do
	ends := func(c ledger.Client, at time.Duration) {
		from, reads := since[c]
		if !reads {
			return
		}
		delete(since, c)
		if n := len(turns); n > 0 && turns[n-1].To >= from {
			turns[n-1] = turn{min(turns[n-1].From, from), max(turns[n-1].To, at)}
		} else {
			turns = append(turns, turn{from, at})
		}
	}
	for i := range s.Events {
		switch e := &s.Events[i]; {
		case e.What == logbook.Mended && e.Detail == logbook.ReadsOn, e.What == logbook.Closed,
			e.What == logbook.Broke, e.What == logbook.Evicted:
			ends(e.Client, e.At)
		case e.What != logbook.Misbehaved:
		case !strings.Contains(e.Detail, "reads slowly") && !strings.Contains(e.Detail, "stops reading"):
			return nil, nil
		default:
			if _, already := since[e.Client]; !already {
				slow[e.Client], since[e.Client] = true, e.At
			}
		}
	}
	for _, c := range slices.SortedFunc(maps.Keys(since), func(a, b ledger.Client) int {
		return cmp.Compare(since[a], since[b])
	}) {
		ends(c, s.Elapsed)
	}
	return slow, turns
}

// slowReader finds that others got their messages later while some client read slowly.
func slowReader(s *search) []Finding {
	slow, turns := s.slowTurns()
	if len(turns) == 0 {
		return nil
	}
	worst := s.worstBeside(turns)
	when, without := turnWords(slow, turns)
	lost := s.lostBeside(slow, turns)
	if len(lost) > 0 {
		return []Finding{{Weakness: stalledRoom.Number, Severity: Loss, Figures: []string{"ledger.lost",
			"ledger.late"},
			Share: shareOf(int64(len(lost)), max(s.Total.Total.Owed, int64(len(lost)))),
			Says: fmt.Sprintf("%s, the others in the room had to wait for so long that %s count as lost; in "+
				"other rooms, and %s, nothing was%s", when, deliveries(len(lost)), without,
				s.first()),
			Evidence: s.evidence(lost, s.missed)}}
	}
	if worst == nil || !worst.stands() {
		return nil
	}
	return []Finding{{Weakness: stalledRoom.Number, Severity: Slow, Figures: []string{"fanout.p99"},
		Says:     worst.says(slow, turns),
		Evidence: s.eventEvidence(s.events(logbook.Misbehaved))}}
}

// worstBeside is how much later the others got their messages while some client read slowly, of the crew that got them
// latest; nil if there are too few seconds to say.
func (s *search) worstBeside(turns []turn) *change {
	var worst *change
	for crew := range s.Trial.Crews {
		first := turns[0].second()
		before := s.slowest(crew, first-lookedAt, first)
		if half := len(before) / 2; half > 0 && ranks(before[:half], before[half:]) > drifting {
			continue // it got worse before
		}
		var during []float64
		for i, t := range turns {
			next := int(s.Elapsed / time.Second)
			if i+1 < len(turns) {
				next = turns[i+1].second()
			}
			during = append(during, s.slowest(crew, t.second()+1, min(int(t.To/time.Second), t.second()+lookedAt))...)
			before = append(before, s.slowest(crew, int((t.To+calmsDown)/time.Second), next)...)
		}
		if len(before) < leastLookedAt || len(during) < leastLookedAt {
			continue
		}
		c := changeOf(before, during)
		c.crew = s.Trial.Crews[crew].Name
		c.ranks, c.once = ranks(before, during), len(turns) == 1
		if worst == nil || c.stands() && !worst.stands() || c.stands() == worst.stands() && c.worse > worst.worse {
			worst = &c
		}
	}
	return worst
}

// lostBeside takes out what was lost in the rooms of slow readers while they were that, if nearly all that was
// lost is.
func (s *search) lostBeside(slow map[ledger.Client]bool, turns []turn) []delivery {
	rooms := map[ledger.Room]bool{}
	for c := range slow {
		if v := s.lives[c]; v != nil {
			for r, entered := range v.Entered {
				for _, t := range turns {
					at, in := last(entered, t.From)
					rooms[r] = rooms[r] || r > ledger.Everyone && in && !between(v, r, at, t.From)
				}
			}
		}
	}
	beside := func(d delivery) bool {
		return rooms[d.m.Room] && !slow[d.o.Client] && slices.ContainsFunc(turns, func(t turn) bool {
			return d.sent() >= t.From-s.Trial.Grace && d.sent() <= t.To
		})
	}
	lost := s.those(ledger.Lost, beside)
	n, of := s.share(beside)
	others := len(s.wrong[ledger.Lost]) - len(lost)
	if !standsOut(len(lost), others, n+len(lost), of+len(lost)) {
		return nil
	}
	s.explain(ledger.Lost, beside)
	return lost
}

// turnWords says when some clients read slowly, and when not.
func turnWords(slow map[ledger.Client]bool, turns []turn) (when, without string) {
	when = "while " + units.Plural(len(slow), "client") + " read slowly"
	if len(turns) > 1 {
		return fmt.Sprintf("%s, %d times by turns", when, len(turns)), "in between"
	}
	return when, "before"
}

// says is how much later others got their messages.
func (c *change) says(slow map[ledger.Client]bool, turns []turn) string {
	when, without := turnWords(slow, turns)
	return fmt.Sprintf("%s, one in ten messages of the others (crew %s) took longer than %s, and longer than %s %s: "+
		"%s later, give or take %s", when, plain.Text(c.crew, 40), units.Micros(c.during), units.Micros(c.before),
		without, units.Micros(c.worse), units.Micros(c.off))
}

// A change is between the means of two lots of seconds, in microseconds; off is half of its 95 % interval, and ranks
// by how many standard deviations the one lot is above the other.
type change struct {
	crew                       string
	before, during, worse, off float64
	ranks                      float64
	once                       bool // they are of one time before and one during it
}

// stands reports whether it is one that counts, and is hardly by chance.
func (c *change) stands() bool {
	least, part := float64(leastWorseMicro), leastWorse
	if c.once {
		least, part = onceWorseMicro, onceWorse
	}
	return c.worse > max(least, part*c.before) && c.ranks > surely
}

func changeOf(before, during []float64) change {
	b, vb := meter.MeanOf(before)
	d, vd := meter.MeanOf(during)
	return change{before: b, during: d, worse: d - b,
		off: students(min(len(before), len(during))-1) * math.Sqrt(vb+vd)}
}

// ranks says by how many standard deviations some values are above others, by their ranks alone (Mann and
// Whitney): single ones that are far off do not count for more than others.
func ranks(low, high []float64) float64 {
	u := 0.0
	for _, a := range low {
		for _, b := range high {
			switch {
			case b > a:
				u++
			case b == a:
				u += 0.5
			}
		}
	}
	n, m := float64(len(low)), float64(len(high))
	return (u - n*m/2) / math.Sqrt(n*m*(n+m+1)/12)
}

// slowest gives what one in ten of a crew's deliveries took longer than, in microseconds, of each second from one up to
// another in which the tool kept up.
func (s *search) slowest(crew, from, to int) (all []float64) {
	for _, e := range s.Seconds.Between(from, to) {
		if !e.KeptUp() {
			continue
		}
		h, err := e.CrewLatency(crew)
		if err != nil {
			return nil
		}
		if h.Count() > 0 {
			all = append(all, logbook.Micros(h.Quantile(0.9)))
		}
	}
	return all
}
