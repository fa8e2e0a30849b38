package finding

import (
	"fmt"

	"tidepull/internal/base/units"
)

// lenient finds clients that broke the protocol and were not closed as they should.
func lenient(s *search) []Finding {
	return s.checked(&lenientProtocol, Wrong, "of %[2]s clients that broke the protocol on purpose %[1]s were not "+
		"closed, or not with the right code", "malformed")
}

// kept finds slow readers that were not closed.
func kept(s *search) []Finding {
	return s.checked(&endlessQueue, Wrong, "of %[2]s slow readers %[1]s were not closed by the server: what they do "+
		"not read is kept for them", "read_slowly")
}

// goodbye finds connections that did not end as they should when the server ended or began anew.
func goodbye(s *search) []Finding {
	return s.checked(&rudeGoodbye, Wrong, "of %[2]s clients that waited for the server's goodbye %[1]s did not get "+
		"it as they should: a close frame with the right code", "expect_close")
}

// checked finds that checks of some kinds failed.
func (s *search) checked(w *Weakness, severity Severity, says string, kinds ...string) []Finding {
	failed, held := s.failedChecks(kinds...)
	if failed == 0 || !s.Certain("checks.failed_otherwise") {
		return nil
	}
	return []Finding{{Weakness: w.Number, Severity: severity, Figures: []string{"checks.failed_otherwise"},
		Share: shareOf(failed, failed+held), Evidence: s.eventEvidence(s.checkEvents(kinds...)),
		Says: fmt.Sprintf(says, units.Count(failed), units.Count(failed+held))}}
}
