package finding

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
)

var brokenHistory = Weakness{Number: 11, Question: WhoGetsIt, Title: "history gap or overlap",
	Usually: "The history is read before the client is added to the room, or after it: what is said in between " +
		"is missing, or comes twice. Look at the order of these two steps, and at whether anything is awaited " +
		"between them.",
	Experiment: "late comers while messages are said, many times"}

var forgetfulRestart = Weakness{Number: 34, Question: WhenItBreaks, Title: "forgetful restart",
	Usually: "History, numbers or memberships are kept in memory alone, or are stored and not read at the " +
		"start. Look at what the server reads before it accepts the first connection.",
	Experiment: "the server is restarted between messages; then history, numbers and members against the ledger"}

// history finds late comers whose history was not what it had to be.
func history(s *search) []Finding {
	failed, held := s.failedChecks("history")
	if failed == 0 || !s.Certain("checks.failed_otherwise") {
		return nil
	}
	events := s.checkEvents("history")
	restart, known := s.restarted()
	after := 0
	for _, e := range events {
		if known && e.At >= restart.From {
			after++
		}
	}
	edge := func(d delivery) bool {
		v := s.lives[d.o.Client]
		if v == nil || d.m.Kind != ledger.Notice {
			return false
		}
		for _, at := range v.Entered[d.m.Room] {
			if (d.sent() - at).Abs() <= s.Trial.Grace {
				return true
			}
		}
		return false
	}
	s.explain(ledger.Duplicate, edge)
	s.explain(ledger.Lost, edge)
	f := Finding{Weakness: brokenHistory.Number, Severity: Loss, Figures: []string{"checks.failed_otherwise"},
		Share: shareOf(failed, failed+held), Evidence: s.eventEvidence(events),
		Says: fmt.Sprintf("%s of %s late comers got a history that was not what had been said before",
			units.Count(failed),
			units.Count(failed+held))}
	if after > 0 && after == len(events) {
		f.Weakness = forgetfulRestart.Number
		f.Says = fmt.Sprintf("%s of %s late comers got a history that was not what had been said before, all of them "+
			"after the server was restarted at %s", units.Count(failed), units.Count(failed+held),
			units.Instant(restart.From))
	}
	gaps := !slices.ContainsFunc(events, func(e *logbook.Event) bool {
		return !strings.Contains(e.Detail, "there is a gap in it") && !strings.Contains(e.Detail,
			"shorter than promised")
	})
	if after == 0 && len(events) >= 2 && failed >= held && gaps && s.quietBefore(events) {
		f.Weakness = lostInStore.Number
		f.Says = fmt.Sprintf("%s of %s late comers, who entered while nothing was said, got a history that was not "+
			"what had been said before: it is not that the two meet, it is not kept as it was relayed",
			units.Count(failed), units.Count(failed+held))
	}
	return []Finding{f}
}

// quietBefore reports whether nothing was said around the time at which each of the clients entered that some events
// are about: then a history cannot meet what goes on.
func (s *search) quietBefore(events []*logbook.Event) bool {
	for _, e := range events {
		v := s.lives[e.Client]
		if v == nil {
			return false
		}
		entered, in := last(v.EnteredAny, e.At)
		if !in {
			return false
		}
		at := int(entered / time.Second)
		for _, second := range s.Seconds.Between(max(0, at-quiet), at+quiet) {
			if second.Counts.Sent > 0 {
				return false
			}
		}
	}
	return true
}

// quiet is for how many seconds nothing must have been said.
const quiet = 2

// restarted is the first time that the trial restarted the server.
func (s *search) restarted() (Doing, bool) {
	for _, d := range s.Doings {
		if d.Do == trial.RestartServer.String() || d.Do == trial.StopServer.String() {
			return d, true
		}
	}
	return Doing{}, false
}

// forgetful finds rooms whose numbers began again after the server was restarted.
func forgetful(s *search) []Finding {
	n := s.Total.Counts.Returns.Renumbered
	if n == 0 {
		return nil
	}
	when := ""
	if restart, known := s.restarted(); known {
		when = " after the server was restarted at " + units.Instant(restart.From)
	}
	severity := Note // nobody promises that numbers go on
	if slices.ContainsFunc(s.Trial.Crews, func(c trial.Crew) bool { return c.Return != nil && c.Return.CatchUp }) {
		severity = Wrong
	}
	return []Finding{{Weakness: forgetfulRestart.Number, Severity: severity,
		Share: shareOf(min(n, s.Total.Counts.Returns.Back), s.Total.Counts.Returns.Back),
		Says: fmt.Sprintf("%s that came back%s found that the numbers of their room had begun again",
			units.Plural(int(n), "client"), when),
		Evidence: s.eventEvidence(s.events(logbook.CameBack))}}
}
