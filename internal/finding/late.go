package finding

import (
	"fmt"

	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
)

var lateHandled = Weakness{Number: 35, Question: WhatItBears, Title: "late handler",
	Usually: "The handler of messages is attached after something else is awaited, and what comes before that " +
		"is dropped. Look at the first lines that run for a new connection: the handler has to come first.",
	Experiment: "clients that speak at once after the connection opened, or after the entry is confirmed"}

// firstOnes is how many messages of a connection are its first ones.
const firstOnes = 3

// lateHandler finds that the first messages of connections reach nobody.
func lateHandler(s *search) []Finding {
	early := func(m *ledger.Message) bool { return m.Nth > 0 && m.Nth <= firstOnes && m.Kind.Said() }
	gone := func(d delivery) bool { return early(d.m) && d.m.Reached == 0 }
	lost := s.those(ledger.Lost, gone)
	n := messages(lost)
	if n < leastTooLarge {
		return nil
	}
	all := map[uint64]bool{} // that reached nobody, whatever their number
	for _, d := range s.wrong[ledger.Lost] {
		if d.m.Reached == 0 {
			all[d.m.Number] = true
		}
	}
	fine, firsts := map[uint64]bool{}, 0
	for _, d := range s.fine {
		if !fine[d.m.Number] {
			if fine[d.m.Number] = true; early(d.m) {
				firsts++
			}
		}
	}
	if !standsOut(n, len(all)-n, firsts, len(fine)) {
		return nil
	}
	s.explain(ledger.Lost, gone)
	most := 0
	for _, d := range lost {
		most = max(most, d.m.Nth)
	}
	which := "the first message of a connection"
	if most > 1 {
		which = fmt.Sprintf("the first %d messages of a connection", most)
	}
	return []Finding{{Weakness: lateHandled.Number, Severity: Loss, Figures: []string{"ledger.lost"},
		Share: shareOf(int64(n), int64(n+firsts)),
		Says: fmt.Sprintf("%s reached nobody: %s that %s so are among %s, and later ones arrived%s",
			units.Plural(n, "message"), ofAll(n, len(all)-n), map[bool]string{true: "was lost",
				false: "were lost"}[n == 1],
			which, s.first()),
		Evidence: s.evidence(lost, func(d delivery) string {
			return fmt.Sprintf("%s, the %d. of its connection, reached none of %s", s.said(d.m), d.m.Nth,
				units.Plural(d.m.Owed, "client"))
		})}}
}
