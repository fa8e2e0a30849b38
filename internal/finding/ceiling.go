package finding

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"time"

	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/meter"
	"tidepull/internal/trial"
	"tidepull/internal/wire/transport"
)

// Bounds on a ceiling: within which time messages are said that count as said at once (if they are said one after
// another, they come so), how many of them there must be, and how often; how straight a line they must come in, as
// the share of the variance that it explains; how many times larger than the small rooms the large ones must be; and
// what each message must take at least whatever the room.
const (
	paceWithin      = 10 * time.Millisecond
	leastInPace     = 6
	leastTimes      = 3
	straightLine    = 0.9
	timesLarger     = 2
	leastPerMessage = 5 * time.Millisecond
)

// A pace is how much later than the one before it each message came, of those said at once in rooms of one size: first
// at any recipient, in microseconds, once for each time.
type pace struct {
	members  int
	each     []float64
	straight []float64 // the share of the variance that the line explains
}

// mean is the mean of the pace, and the variance of that.
func (p *pace) mean() (mean, variance float64) { return meter.MeanOf(p.each) }

// isStraight reports whether half of the times messages came in a line.
func (p *pace) isStraight() bool {
	slices.Sort(p.straight)
	return p.straight[len(p.straight)/2] >= straightLine
}

// paces are those of the rooms that messages were said in at once, by the size of the room; none if not all messages
// were kept, as those that lie between are then not seen.
func (s *search) paces() []pace {
	of, all := map[ledger.Room][]*ledger.Message{}, int64(0)
	for m := range s.messages {
		if m.Kind.Said() {
			of[m.Room] = append(of[m.Room], m)
			all++
		}
	}
	if all < s.Total.Counts.Sent || s.Unkept > 0 {
		return nil
	}
	bySize := map[int]*pace{}
	for room, said := range of {
		if room <= ledger.Everyone {
			continue
		}
		slices.SortFunc(said, func(a, b *ledger.Message) int { return cmp.Compare(a.Due, b.Due) })
		for from := 0; from < len(said); {
			to := from + 1
			for to < len(said) && time.Duration(said[to].Due-said[from].Due) <= paceWithin {
				to++
			}
			s.addPace(bySize, said[from:to])
			from = to
		}
	}
	var list []pace
	for _, p := range bySize {
		if len(p.each) >= leastTimes {
			list = append(list, *p)
		}
	}
	slices.SortFunc(list, func(a, b pace) int { return cmp.Compare(a.members, b.members) })
	return list
}

// addPace adds that of messages that were said at once, if all of them came and the tool kept up.
func (s *search) addPace(to map[int]*pace, said []*ledger.Message) {
	if len(said) < leastInPace {
		return
	}
	members := said[0].Owed
	var came []float64
	for _, m := range said {
		took := latencies(m)
		if len(took) == 0 || m.Owed != members || !s.keptUp(time.Duration(m.Due), took[0]) {
			return
		}
		came = append(came, logbook.Micros(time.Duration(m.Due)+took[0]))
	}
	slices.Sort(came)
	p := to[members]
	if p == nil {
		p = &pace{members: members}
		to[members] = p
	}
	places := make([]float64, len(came))
	for i := range places {
		places[i] = float64(i)
	}
	l := fit(places, came)
	p.each, p.straight = append(p.each, l.slope), append(p.straight, l.explains)
}

// keptUp reports whether the tool and the machine kept up while a message was on its way.
func (s *search) keptUp(sent, took time.Duration) bool {
	seconds := s.Seconds.Between(int(sent/time.Second), int((sent+took)/time.Second)+1)
	for _, e := range seconds {
		if !e.KeptUp() {
			return false
		}
	}
	return len(seconds) > 0
}

// A toll is what each message takes that is said with others at once, by itself, in microseconds, and half of its 95 %
// interval: what a room of no members would take, on the line through small and large rooms.
type toll struct {
	small, large pace
	each, off    float64
}

// tollOf finds it; nil if messages were not said at once in small and in large rooms.
func (s *search) tollOf() *toll {
	all := s.paces()
	if len(all) < 2 {
		return nil
	}
	t := &toll{small: all[0], large: all[len(all)-1]}
	a, b := float64(t.small.members), float64(t.large.members)
	if b < timesLarger*a {
		return nil
	}
	x, vx := t.small.mean()
	y, vy := t.large.mean()
	t.each = (b*x - a*y) / (b - a)
	t.off = students(min(len(t.small.each), len(t.large.each))-1) * math.Sqrt(b*b*vx+a*a*vy) / (b - a)
	return t
}

// ceiling finds that messages that are said at once are relayed one after another, each so much later than the one
// before it, whatever the size of the room.
func ceiling(s *search) []Finding {
	t := s.tollOf()
	if t == nil || s.polls() || t.each-t.off < logbook.Micros(leastPerMessage) || !t.small.isStraight() ||
		!t.large.isStraight() {
		return nil
	}
	return []Finding{{Weakness: slowStore.Number, Severity: Slow, Figures: []string{"spread.first.p50"},
		Says: fmt.Sprintf("%s: the server relays at most about %s messages a second", t.says(),
			units.Count(int64(1e6/t.each)))}}
}

// polls reports whether clients may come to ask for messages: an answer with one of them has the next wait for another
// request, however quick the server is.
func (s *search) polls() bool {
	asks := func(route uint8) bool {
		r := s.Trial.Target.Route(int(route))
		return r.Kind == trial.OverHTTP && r.Habits != nil &&
			(r.Habits.Mode == transport.Polling || r.Habits.Mode == transport.LongPolling)
	}
	return slices.ContainsFunc(s.Trial.Crews, func(c trial.Crew) bool {
		return len(c.Routes) == 0 && asks(0) || slices.ContainsFunc(c.Routes, asks)
	})
}

// says is what messages that are said at once take.
func (t *toll) says() string {
	x, _ := t.small.mean()
	y, _ := t.large.mean()
	return fmt.Sprintf("of messages that are said at once, each came %s after the one before it in rooms of %d, and "+
		"%s in rooms of %d; %s of that, give or take %s, whatever the room", units.Micros(x), t.small.members,
		units.Micros(y), t.large.members, units.Micros(t.each), units.Micros(t.off))
}
