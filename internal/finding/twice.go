package finding

import (
	"fmt"

	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
)

var twice = Weakness{Number: 38, Question: WhoIsThere, Title: "entered twice",
	Usually: "Who enters a room that it is in already, or comes back, is added to a list a second time. Look " +
		"at where a member is added: a set does not have this, a list does; and at whether the old connection is " +
		"taken out.",
	Experiment: "clients that enter a room twice, and that leave and enter it again, followed by messages of " +
		"others"}

// enteredTwice finds that clients which entered a room more than once get its messages more than once.
func enteredTwice(s *search) []Finding {
	again := func(d delivery) bool {
		v := s.lives[d.o.Client]
		if v == nil || !d.m.Kind.Said() {
			return false
		}
		n := 0
		for _, at := range v.Entered[d.m.Room] {
			if at <= d.sent() {
				n++
			}
		}
		return n > 1 || n == 1 && len(v.Opened) > 1
	}
	got, others := s.nearlyAll(ledger.Duplicate, again)
	if len(got) == 0 {
		return nil
	}
	n, _ := s.share(again)
	s.explain(ledger.Duplicate, again)
	return []Finding{{Weakness: twice.Number, Severity: Wrong, Figures: []string{"ledger.duplicate"},
		Share: shareOf(int64(len(got)), int64(len(got)+n)),
		Says: fmt.Sprintf("%s that entered a room more than once got its messages more than once: %s deliveries, %s "+
			"that came twice%s", units.Plural(clients(got), "client"), units.Count(int64(len(got))),
			ofAll(len(got), others), s.first()),
		Evidence: s.evidence(got, func(d delivery) string {
			return fmt.Sprintf("%s got %s twice", s.name(d.o.Client), s.said(d.m))
		})}}
}
