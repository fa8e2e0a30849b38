package finding

import (
	"fmt"
	"strings"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
)

// broken finds connections that the server ended and nobody had asked it to.
func broken(s *search) []Finding {
	n, figure := s.Total.Counts.Broken, "clients.broken"
	if more := s.Total.Counts.Returns.Unprovoked; more > 0 && s.Certain("returns.unprovoked") {
		n, figure = n+more, "returns.unprovoked"
	}
	var ends, large []*logbook.Event
	asked := s.restarts()
	for _, e := range s.events(logbook.Broke) {
		if strings.Contains(e.Detail, tooBig) {
			n--
			large = append(large, e)
			continue
		}
		if asked && s.inFall(e.At, fallsWithin) || s.sharesName(e.Client) {
			n-- // the trial had it restart, or which of two under one name stays is the server's to say
		} else {
			ends = append(ends, e)
		}
	}
	if n <= 0 && len(large) > 0 && !s.brokenBy {
		return []Finding{s.closedForSize(large)}
	}
	if n <= 0 || s.brokenBy || s.hasty || s.ServerEnded != "" || !s.Certain(figure) {
		return nil // it is said above
	}
	f := Finding{Title: "broken connections", Severity: Wrong, Figures: []string{figure},
		Share:    shareOf(min(n, s.Total.Counts.Opened), s.Total.Counts.Opened),
		Evidence: s.eventEvidence(ends),
		Usually: "An error in the handler of a connection ends it, or something between closes what is idle or " +
			"too old. Look at the server's log at these times.",
		Experiment: "the same clients, with less to do: does it go with the time, or with what is said?",
		Says: fmt.Sprintf("%s of %s were ended by the server, and nothing of the trial was the reason",
			units.Count(n), units.Plural(int(s.Total.Counts.Opened), "connection"))}
	if says := s.InCommon("clients.broken"); says != "" {
		f.Says += "; " + plain.Text(says, 300)
	}
	return []Finding{f}
}

// rest finds what no other rule explains: that messages are lost, come twice, or where they should not.
func rest(s *search) (all []Finding) {
	for _, of := range []struct {
		fate                         ledger.Fate
		figure, title, says, usually string
		severity                     Severity
	}{{ledger.Lost, "ledger.lost", "lost messages", "were lost",
		"A write that fails is not seen, a queue is full, or the list of members changes while it is gone " +
			"through. Look at what the server does with an error when it sends.", Loss},
		{ledger.Duplicate, "ledger.duplicate", "messages that come twice", "came twice",
			"The same client is in the list twice, or a message is sent again that had arrived. Look at what " +
				"is done when a write fails, and at how members are added.", Wrong}} {
		got := s.those(of.fate, func(delivery) bool { return true })
		if len(got) == 0 {
			continue
		}
		t := &s.Total.Total
		how := func(n int) string {
			if n == 1 {
				return strings.Replace(of.says, "were ", "was ", 1)
			}
			return of.says
		}
		f := Finding{Title: of.title, Severity: of.severity, Figures: []string{of.figure}, Usually: of.usually,
			Share: shareOf(int64(len(got)), max(t.Owed, int64(len(got)))),
			Says: fmt.Sprintf("%s %s that nothing explains: %s, at %s%s", deliveries(len(got)),
				how(len(got)), units.Plural(messages(got), "message"), units.Plural(clients(got), "client"), s.first()),
			Experiment: "the same trial with one client, one room, and one sender less each time, until it no " +
				"longer happens",
			Evidence: s.evidence(got, func(d delivery) string {
				if of.fate == ledger.Lost {
					return s.missed(d)
				}
				return fmt.Sprintf("%s got %s twice", s.name(d.o.Client), s.said(d.m))
			})}
		if !s.whole() { // what was kept is the first of it; all of it is known if there is but one cause
			if f.Share = nil; s.explained[of.fate]+s.doubtful == 0 {
				n := *t.Of(of.fate)
				f.Share = shareOf(n, max(t.Owed, n))
			}
		}
		if says := s.InCommon(of.figure); says != "" {
			f.Says = fmt.Sprintf("%s %s; %s%s", deliveries(len(got)), how(len(got)), plain.Text(says, 300), s.first())
		}
		all = append(all, f)
	}
	return all
}

// deliveries counts them: "1 delivery", "12 deliveries".
func deliveries(n int) string {
	if n == 1 {
		return "1 delivery"
	}
	return units.Count(int64(n)) + " deliveries"
}
