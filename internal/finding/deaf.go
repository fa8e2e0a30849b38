package finding

import (
	"fmt"
	"math"
	"slices"
	"time"

	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/lives"
)

var crowdRace = Weakness{Number: 1, Question: WhoGetsIt, Title: "crowd race",
	Usually: "Two clients that enter at the same time change the list of members at the same time, and one of " +
		"them is dropped: a shared map or list without a lock, or one that is read, changed and written back " +
		"across an await. Look at where a member is added to a room.",
	Experiment: "crowds that enter within a few milliseconds, many times, over several rooms; and the same " +
		"clients one by one"}

var deafMember = Weakness{Number: 36, Question: WhoGetsIt, Title: "deaf member",
	Usually: "The entry is confirmed before the client is added to the room, or it is added under another key: " +
		"an old connection, another spelling of the room. Look at what is done between the confirmation and the " +
		"first relay.",
	Experiment: "clients that enter one by one and only listen, each followed by messages of others"}

// A stay is that a client was in a room, from when it was confirmed on.
type stay struct {
	client ledger.Client
	room   ledger.Room
	from   time.Duration
}

// Bounds of deaf: how many messages a member has to miss, from its first on; and what a crowd is.
const (
	leastMissed  = 3
	crowdWithin  = 25 * time.Millisecond
	leastInCrowd = 3
)

// deaf finds members that never got anything of their room, though they had entered it and stayed.
func deaf(s *search) []Finding {
	missed, got := map[stay][]delivery{}, map[stay]int{}
	for _, d := range s.wrong[ledger.Lost] {
		if of, is := s.stayOf(d); is {
			missed[of] = append(missed[of], d)
		}
	}
	for _, d := range s.fine {
		if of, is := s.stayOf(d); is {
			got[of]++
		}
	}
	var stays []stay
	lost := 0
	for of, all := range missed {
		if len(all) >= leastMissed && got[of] == 0 {
			stays = append(stays, of)
			lost += len(all)
		}
	}
	// How often messages are lost anyway says how likely that is by chance.
	t := &s.Total.Total
	rate := float64(max(0, t.Lost-int64(lost))) / float64(max(1, t.Owed-int64(lost)))
	stays = slices.DeleteFunc(stays, func(of stay) bool {
		return math.Pow(rate, float64(len(missed[of])))*float64(max(1, s.Total.Counts.Entries)) > unlikely
	})
	if len(stays) == 0 {
		return nil
	}
	slices.SortFunc(stays, func(a, b stay) int { return int(a.from - b.from) })
	var cases []delivery
	is := map[stay]bool{}
	for _, of := range stays {
		is[of] = true
		s.deafIn[of.room], s.deaf[of.client] = true, true
		cases = append(cases, missed[of][0])
	}
	s.explain(ledger.Lost, func(d delivery) bool {
		of, in := s.stayOf(d)
		few := in && got[of] == 0 // one that missed only a few is hardly something else
		s.deafIn[of.room], s.deaf[of.client] = s.deafIn[of.room] || few, s.deaf[of.client] || few
		return in && is[of] || few
	})
	return []Finding{s.deafFinding(stays, cases, missed)}
}

func (s *search) deafFinding(stays []stay, cases []delivery, missed map[stay][]delivery) Finding {
	entered := s.entries()
	crowded, alone := 0, 0 // entries of all clients
	for i := range entered {
		if crowdAt(entered, entered[i]) >= leastInCrowd {
			crowded++
		} else {
			alone++
		}
	}
	inCrowd := 0
	for _, of := range stays {
		if crowdAt(entered, of.from) >= leastInCrowd {
			inCrowd++
		}
	}
	f := Finding{Severity: Loss, Figures: []string{"ledger.lost"}, Evidence: s.evidence(cases, func(d delivery) string {
		of, _ := s.stayOf(d)
		return fmt.Sprintf("%s entered %s at %s, and got none of %d messages after that, the first of them message "+
			"%d at %s",
			s.name(of.client), s.room(of.room), units.Instant(of.from), len(missed[of]), d.m.Number,
			units.Instant(d.sent()))
	})}
	if inCrowd == len(stays) && crowded > 0 {
		f.Weakness, f.Share = crowdRace.Number, shareOf(int64(len(stays)), int64(crowded))
		f.Says = fmt.Sprintf("%s of %s entries within %s of others were confirmed, and the client never got a "+
			"message of its room%s", units.Count(int64(len(stays))), units.Count(int64(crowded)),
			units.Duration(crowdWithin), s.first())
		if alone > 0 {
			f.RuledOut = append(f.RuledOut, fmt.Sprintf("entering by itself: of %s clients that entered alone all "+
				"got their messages", units.Count(int64(alone))))
		}
		return f
	}
	f.Weakness, f.Share = deafMember.Number, shareOf(int64(len(stays)), int64(len(entered)))
	f.Says = fmt.Sprintf("%s of %s entries were confirmed, and the client never got a message of its room%s",
		units.Count(int64(len(stays))), units.Count(int64(len(entered))), s.first())
	return f
}

// stayOf is the stay in which a message to a room was owed to a client.
func (s *search) stayOf(d delivery) (stay, bool) {
	v := s.lives[d.o.Client]
	if d.m.Kind != ledger.Notice || v == nil {
		return stay{}, false
	}
	at, in := last(v.Entered[d.m.Room], d.sent())
	if !in || between(v, d.m.Room, at, d.sent()) {
		return stay{}, false
	}
	return stay{d.o.Client, d.m.Room, at}, true
}

// between reports whether a client left a room, or was gone, between two times.
func between(v *lives.Life, r ledger.Room, from, to time.Duration) bool {
	for _, times := range [][]time.Duration{v.Left[r], v.Gone} {
		if at, is := last(times, to); is && at > from {
			return true
		}
	}
	return false
}

// last is the last of some times, which rise, that is not after another.
func last(times []time.Duration, at time.Duration) (time.Duration, bool) {
	i, found := slices.BinarySearch(times, at)
	if found {
		return at, true
	}
	if i == 0 {
		return 0, false
	}
	return times[i-1], true
}

// entries are when rooms were entered, by anybody.
func (s *search) entries() (all []time.Duration) {
	for _, v := range s.lives {
		for r, times := range v.Entered {
			if r > ledger.Everyone {
				all = append(all, times...)
			}
		}
	}
	slices.Sort(all)
	return all
}

// crowdAt is how many of some times, which rise, are near one, with itself.
func crowdAt(all []time.Duration, at time.Duration) int {
	from, _ := slices.BinarySearch(all, at-crowdWithin)
	to, _ := slices.BinarySearch(all, at+crowdWithin+1)
	return to - from
}
