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
	missed, instead := map[toName]bool{}, map[toName]bool{}
	for _, d := range s.those(ledger.Lost, s.isShared) {
		missed[s.toName(d)] = true
	}
	for _, fate := range []ledger.Fate{ledger.Stray, ledger.Duplicate} {
		for _, d := range s.those(fate, s.isShared) {
			instead[s.toName(d)] = true
		}
	}
	crossed := func(d delivery) bool { return s.isShared(d) && missed[s.toName(d)] && instead[s.toName(d)] }
	lost := s.those(ledger.Lost, crossed)
	if len(lost) < leastCrossed {
		return s.starves()
	}
	for _, fate := range []ledger.Fate{ledger.Lost, ledger.Stray, ledger.Duplicate} {
		s.explain(fate, s.isShared) // what else goes wrong with such names follows from it
	}
	return []Finding{{Weakness: identityClash.Number, Severity: Loss, Figures: []string{"ledger.lost", "ledger.stray",
		"ledger.duplicate"}, Share: shareOf(int64(clients(lost)), s.sharing()),
		Says: fmt.Sprintf("%s that share their name with another did not get what was for them, and the other one "+
			"did: %s deliveries of %s%s", units.Plural(clients(lost), "client"), units.Count(int64(len(lost))),
			units.Plural(messages(lost), "message"), s.first()),
		Evidence: s.evidence(lost, func(d delivery) string {
			return s.missed(d) + "; another client under the name " + s.name(d.o.Client) + " got it instead"
		})}}
}

// A toName is a message to whoever has a name.
type toName struct {
	number uint64
	name   string
}

// toName is what a delivery is of, whichever client of the name it is to.
func (s *search) toName(d delivery) toName { return toName{d.m.Number, s.Names[d.o.Client]} }

// isShared reports whether a delivery is to a client that shares its name with another one.
func (s *search) isShared(d delivery) bool { return s.sharesName(d.o.Client) }

// sharing is how many clients share their name with another one.
func (s *search) sharing() (n int64) {
	for c := range s.Names {
		if s.sharesName(ledger.Client(c)) {
			n++
		}
	}
	return n
}

// starves finds that of several clients under one name one gets nothing, and another one does.
func (s *search) starves() []Finding {
	other := map[toName]bool{}
	for _, d := range s.fine {
		if s.isShared(d) {
			other[s.toName(d)] = true
		}
	}
	starving := func(d delivery) bool { return s.isShared(d) && other[s.toName(d)] }
	lost, others := s.nearlyAll(ledger.Lost, starving)
	if len(lost) < leastCrossed {
		// If all share their names, that alone says nothing: which of them lose says it.
		if lost = s.those(ledger.Lost, starving); others > 0 || len(lost) < leastCrossed || !s.halfOf(lost) {
			return nil
		}
	}
	s.explain(ledger.Lost, s.isShared)
	return []Finding{{Weakness: identityClash.Number, Severity: Loss, Figures: []string{"ledger.lost"},
		Share: shareOf(int64(clients(lost)), s.sharing()),
		Says: fmt.Sprintf("%s that share their name with another did not get %s that the other one got%s",
			units.Plural(clients(lost), "client"), units.Plural(messages(lost), "message"), s.first()),
		Evidence: s.evidence(lost, func(d delivery) string {
			return s.missed(d) + "; another client under the same name has it"
		})}}
}

// halfOf reports whether of the clients of each name that lost something there is one that lost nothing, for most of
// the names.
func (s *search) halfOf(lost []delivery) bool {
	loses, names := map[ledger.Client]bool{}, map[string]bool{}
	for _, d := range lost {
		loses[d.o.Client] = true
		names[s.Names[d.o.Client]] = true
	}
	well := map[string]bool{}
	for c, name := range s.Names {
		if names[name] && !loses[ledger.Client(c)] {
			well[name] = true
		}
	}
	return len(names) >= leastNames && 10*len(well) >= 9*len(names)
}

// leastNames is at how many names it takes for that not to be chance: for each it is one half.
const leastNames = 4
