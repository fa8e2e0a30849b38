package finding

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
)

var silent = Weakness{Number: 39, Question: WhoIsThere, Title: "silent leave",
	Usually: "The others are told in the handler of the leave request, and not where a connection ends by " +
		"itself; or after the room was cleared. Look at every way on which a client goes, and whether it ends in " +
		"one place.",
	Experiment: "clients that leave, close, and vanish, while others listen"}

// silentLeave finds that the others in a room are not told who leaves, or who enters.
func silentLeave(s *search) (all []Finding) {
	if both := s.lostNews(); both != nil {
		return both
	}
	for _, kind := range []ledger.Kind{ledger.Gone, ledger.Joined} {
		is := func(d delivery) bool { return d.m.Kind == kind }
		lost := s.those(ledger.Lost, is)
		if len(lost) == 0 {
			continue
		}
		s.explain(ledger.Lost, is)
		var owed int64
		for cell, t := range s.Total.Cells {
			if cell.Kind == kind {
				owed += t.Owed
			}
		}
		f := Finding{Weakness: silent.Number, Severity: Wrong, Figures: []string{"ledger.lost"},
			Share: shareOf(int64(len(lost)), max(owed, int64(len(lost)))), Evidence: s.evidence(lost,
				func(d delivery) string {
					return fmt.Sprintf("%s was not told %s; %s of %s were", s.name(d.o.Client), s.said(d.m),
						units.Count(int64(d.m.Reached)), units.Count(int64(d.m.Owed)))
				})}
		if kind == ledger.Joined {
			f.Weakness, f.Title = 0, "silent entry"
			f.Says = fmt.Sprintf("%s not told of %s that entered their room%s", were(clients(lost), "client"),
				units.Plural(senders(lost), "client"), s.first())
			f.Usually = "Who enters is announced before it is added, or to a list that is read too early. Look " +
				"at what is done for a client that enters, and in which order."
			all = append(all, f)
			continue
		}
		f.Says = fmt.Sprintf("%s not told of %s that left their room: %s%s", were(clients(lost), "client"),
			units.Plural(senders(lost), "client"), s.waysOut(lost), s.first())
		all = append(all, f)
	}
	return all
}

// lostNews finds announcements of both kinds that did not come: then it is not by how clients leave.
func (s *search) lostNews() []Finding {
	of := func(kind ledger.Kind) func(delivery) bool { return func(d delivery) bool { return d.m.Kind == kind } }
	rate := func(kind ledger.Kind) float64 {
		owed := int64(0)
		for cell, t := range s.Total.Cells {
			if cell.Kind == kind {
				owed += t.Owed
			}
		}
		return float64(len(s.those(ledger.Lost, of(kind)))) / float64(max(1, owed))
	}
	came, went := rate(ledger.Joined), rate(ledger.Gone)
	if came == 0 || went == 0 || came < went/alike || went < came/alike {
		return nil
	}
	news := func(d delivery) bool { return !d.m.Kind.Said() }
	lost := s.those(ledger.Lost, news)
	s.explain(ledger.Lost, news)
	return []Finding{{Title: "lost announcements", Severity: Wrong, Figures: []string{"ledger.lost"},
		Says: fmt.Sprintf("%s of who enters or leaves did not come, at %s%s", units.Plural(len(lost), "announcement"),
			units.Plural(clients(lost), "client"), s.first()),
		Usually: "A write that fails is not seen, or the list of members changes while it is gone through. " +
			"Look at the loop that tells the members of a room.",
		Experiment: "clients that come and go one at a time, and then at once", Evidence: s.evidence(lost,
			s.missed)}}
}

// alike is how many times as many of one kind may be missing for it to be the same cause.
const alike = 8

// waysOut says in which ways those left whom announcements are about that did not come.
func (s *search) waysOut(lost []delivery) string {
	ways := map[string]int{}
	told := map[uint64]bool{}
	for _, d := range lost {
		if !told[d.m.Number] {
			told[d.m.Number] = true
			ways[s.wayOut(d.m.Sender, d.m.Room, d.sent())]++
		}
	}
	var parts []string
	for way, n := range ways {
		parts = append(parts, fmt.Sprintf("%s %s", units.Count(int64(n)), way))
	}
	slices.Sort(parts)
	return strings.Join(parts, ", ")
}

// wayWords say how clients went, by what is known to have happened.
var wayWords = map[logbook.EventKind]string{logbook.Left: "had asked to leave", logbook.Closed: "closed in order",
	logbook.Broke: "broke off", logbook.Evicted: "were closed by the server"}

// wayOut is how a client left a room at a time.
func (s *search) wayOut(c ledger.Client, r ledger.Room, at time.Duration) string {
	const near = 50 * time.Millisecond
	way, nearest := "whose way is not known", 10*near
	for i := range s.Events {
		e := &s.Events[i]
		if e.Client != c {
			continue
		}
		words := wayWords[e.What]
		if e.What == logbook.Closed && strings.Contains(e.Detail, "vanish") {
			words = "went without a word"
		}
		if far := (e.At - at).Abs(); words != "" && far < nearest &&
			(e.What != logbook.Left || e.Room == r) {
			way, nearest = words, far
		}
	}
	return way
}
