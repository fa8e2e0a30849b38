package finding

import (
	"fmt"

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
		f.Says = fmt.Sprintf("%s of %s late comers got a history that was not what had been said before, all "+
			"of them "+
			"after "+
			"the server was restarted at %s", units.Count(failed), units.Count(failed+held),
			units.Instant(restart.From))
	}
	return []Finding{f}
}

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
	return []Finding{{Weakness: forgetfulRestart.Number, Severity: Wrong,
		Share: shareOf(min(n, s.Total.Counts.Returns.Back), s.Total.Counts.Returns.Back),
		Says: fmt.Sprintf("%s that came back%s found that the numbers of their room had begun again",
			units.Plural(int(n), "client"), when),
		Evidence: s.eventEvidence(s.events(logbook.CameBack))}}
}
