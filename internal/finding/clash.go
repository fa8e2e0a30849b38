package finding

import (
	"fmt"

	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
)

var identityClash = Weakness{Number: 31, Question: WhoIsThere, Title: "identity clash",
	Usually: "Connections are kept by a name or an id that two of them can have: two windows of one user, or " +
		"an id made from a clock. The second overwrites the first. Look at the key of the map of connections.",
	Experiment: "two clients under one name, with private messages to it and messages to its room; and one of " +
		"them leaving"}

// leastCrossed is how many messages must have come to a client in place of another one of its name.
const leastCrossed = 3

// clash finds that of several clients under one name one gets what is for the other.
func clash(s *search) []Finding {
	of := map[string]int{}
	for _, name := range s.Names {
		of[name]++
	}
	shared := func(d delivery) bool { return int(d.o.Client) < len(s.Names) && of[s.Names[d.o.Client]] > 1 }
	type at struct {
		number uint64
		name   string
	}
	missed, instead := map[at]bool{}, map[at]bool{}
	for _, d := range s.those(ledger.Lost, shared) {
		missed[at{d.m.Number, s.Names[d.o.Client]}] = true
	}
	for _, fate := range []ledger.Fate{ledger.Stray, ledger.Duplicate} {
		for _, d := range s.those(fate, shared) {
			instead[at{d.m.Number, s.Names[d.o.Client]}] = true
		}
	}
	crossed := func(d delivery) bool {
		if !shared(d) {
			return false
		}
		where := at{d.m.Number, s.Names[d.o.Client]}
		return missed[where] && instead[where]
	}
	lost := s.those(ledger.Lost, crossed)
	if len(lost) < leastCrossed {
		return nil
	}
	for _, fate := range []ledger.Fate{ledger.Lost, ledger.Stray, ledger.Duplicate} {
		s.explain(fate, shared) // what else goes wrong with such names follows from it
	}
	all := int64(0)
	for _, name := range s.Names {
		if of[name] > 1 {
			all++
		}
	}
	return []Finding{{Weakness: identityClash.Number, Severity: Loss, Figures: []string{"ledger.lost", "ledger.stray",
		"ledger.duplicate"}, Share: shareOf(int64(clients(lost)), all),
		Says: fmt.Sprintf("%s that share their name with another did not get what was for them, and the other one "+
			"did: %s "+
			"deliveries of %s%s", units.Plural(clients(lost), "client"), units.Count(int64(len(lost))),
			units.Plural(messages(lost), "message"), s.first()),
		Evidence: s.evidence(lost, func(d delivery) string {
			return s.missed(d) + "; another client under the name " + s.name(d.o.Client) + " got it instead"
		})}}
}
