package finding

import (
	"fmt"

	"tidepull/internal/base/units"
)

var anyOrigin = Weakness{Number: 18, Question: WhatItBears, Title: "any origin, or none",
	Usually: "The check of the Origin header is off, compares only its end, or has the wrong list. Look at " +
		"the options of the upgrade.",
	Experiment: "connections with a foreign origin, with none and with the server's own"}

// openOrigin finds connections from an origin that had to be refused.
func openOrigin(s *search) []Finding {
	let, held := Refusals(anyOrigin.Number, s.Trial, s.Total)
	if let == 0 {
		return nil
	}
	return []Finding{{Weakness: anyOrigin.Number, Severity: Wrong, Figures: []string{"checks.failed_otherwise"},
		Share: shareOf(let, let+held), Evidence: s.eventEvidence(s.checkEvents("origin")),
		Says: fmt.Sprintf("%s of %s with an origin that had to be refused were let in: a page of somebody else's can "+
			"speak to this server in the name of who looks at it", units.Count(let),
			units.Plural(int(let+held), "connection"))}}
}
