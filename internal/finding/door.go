package finding

import (
	"fmt"
	"slices"
	"strings"

	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
)

var openedDoor = Weakness{Number: 24, Question: WhoIsThere, Title: "open door",
	Usually: "What a client may do is checked in its own program, or only when it connects. Look at each " +
		"handler: does it ask who this is, and whether it is in the room?",
	Experiment: "entering and saying something without a name, without or with wrong credentials, and before " +
		"the server has confirmed"}

// openDoor finds that the server lets clients do what it has to refuse.
func openDoor(s *search) []Finding {
	refused := func(d delivery) bool { return d.m.Audience == ledger.ToNobody }
	got := s.those(ledger.Stray, refused)
	s.explain(ledger.Stray, refused)
	let, held := Refusals(openedDoor.Number, s.Trial, s.Total)
	if len(got) == 0 && let == 0 {
		return nil
	}
	f := Finding{Weakness: openedDoor.Number, Severity: Loss, Figures: []string{"ledger.stray",
		"checks.failed_otherwise"},
		Evidence: s.evidence(got, s.strayed)}
	var parts []string
	if let > 0 {
		parts = append(parts, fmt.Sprintf("%s let in, or answered, that had to be refused", were(int(let),
			"client")))
		f.Evidence = append(f.Evidence, s.eventEvidence(s.checkEvents("denied", "refused"))...)
		f.Share = shareOf(let, let+held)
	}
	if len(got) > 0 {
		parts = append(parts, fmt.Sprintf("%s that nobody may say reached %s", units.Plural(messages(got),
			"message"),
			units.Plural(clients(got), "client")))
	}
	f.Says = strings.Join(parts, ", and ")
	return []Finding{f}
}

// Refusals counts what the server had to refuse, or it has one of two weaknesses, 18 or 24: how often it did not, and
// how often it did.
func Refusals(weakness int, t *trial.Trial, w *logbook.Window) (let, held int64) {
	if weakness == anyOrigin.Number {
		return checksOf(t, w, "origin")
	}
	let, held = checksOf(t, w, "denied", "refused")
	more, well := mustRefuse(t, w)
	return let + more, held + well
}

// mustRefuse counts HTTP requests that had to be refused, by the status that the trial asks for.
func mustRefuse(t *trial.Trial, w *logbook.Window) (failed, held int64) {
	for _, session := range t.Sessions() {
		for i := range session.Steps {
			step := &session.Steps[i]
			if step.Do != trial.Ask || step.Request == nil || step.Check < 0 || step.Check >= len(w.Checks) {
				continue
			}
			if status := step.Request.Status; status == http401 || status == http403 {
				failed, held = failed+w.Checks[step.Check].Failed, held+w.Checks[step.Check].Held
			}
		}
	}
	return failed, held
}

// The statuses with which a server refuses who it does not know, and who may not do something (RFC 9110 15.5.2,
// 15.5.4).
const (
	http401 = 401
	http403 = 403
)

// failedChecks counts checks of some kinds.
func (s *search) failedChecks(kinds ...string) (failed, held int64) {
	return checksOf(s.Trial, s.Total, kinds...)
}

// checksOf counts checks of some kinds.
func checksOf(t *trial.Trial, w *logbook.Window, kinds ...string) (failed, held int64) {
	for i, c := range t.Checks {
		if i < len(w.Checks) && slices.Contains(kinds, c.Kind) {
			failed, held = failed+w.Checks[i].Failed, held+w.Checks[i].Held
		}
	}
	return failed, held
}

// checkEvents are the events of failed checks of some kinds.
func (s *search) checkEvents(kinds ...string) (all []*logbook.Event) {
	for _, e := range s.events(logbook.Failed) {
		for _, c := range s.Trial.Checks {
			if slices.Contains(kinds, c.Kind) && strings.HasPrefix(e.Detail, s.Trial.Hide(c.Name)+": ") {
				all = append(all, e)
			}
		}
	}
	return all
}
