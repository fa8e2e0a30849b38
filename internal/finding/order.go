package finding

import (
	"fmt"

	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
)

var reordered = Weakness{Number: 14, Question: WhoGetsIt, Title: "reordering",
	Usually: "Each message is handled by itself, at the same time as the next one: a task, a thread or an " +
		"await for each, and the quicker one is relayed first. Look at what runs between reading a message and " +
		"relaying it.",
	Experiment: "bursts of one sender, with messages of different sizes"}

var differentOrder = Weakness{Number: 15, Question: WhoGetsIt, Title: "different order for different members",
	Usually: "Two messages are relayed at the same time, each in a loop over the members, and the loops " +
		"overtake each other. Look at whether a room has one place that puts its messages in order.",
	Experiment: "bursts of several senders at once in one room"}

// reordering finds messages that were overtaken by later ones of their sender.
func reordering(s *search) []Finding {
	if t := &s.Total.Total; t.Disagreed > oneCause*t.Reordered {
		return nil // two that change places at one member may be of one sender
	}
	return s.inOrder(ledger.Reordered, &reordered, "ledger.reordered", "came after a later message of the same "+
		"sender",
		"after a later one of the same sender")
}

// oneCause is how many times as many members must disagree for those of one sender to be part of that.
const oneCause = 5

// disagreement finds members that got the messages of a room in an order of their own.
func disagreement(s *search) []Finding {
	return s.inOrder(ledger.Disagreed, &differentOrder, "ledger.disagreed",
		"came in another order than to other members of the room", "in another order than others")
}

func (s *search) inOrder(fate ledger.Fate, w *Weakness, figure, says, how string) []Finding {
	n := *s.Total.Total.Of(fate)
	if n == 0 {
		return nil
	}
	got := s.those(fate, func(delivery) bool { return true })
	s.explain(fate, func(delivery) bool { return true })
	return []Finding{{Weakness: w.Number, Severity: Wrong, Figures: []string{figure},
		Share: shareOf(n, max(n, s.Total.Total.Arrivals())),
		Says: fmt.Sprintf("%s %s, at %s", units.Plural(int(n), "message"), says, units.Plural(clients(got),
			"client")),
		Evidence: s.evidence(got, func(d delivery) string {
			return fmt.Sprintf("%s got %s %s", s.name(d.o.Client), s.said(d.m), how)
		})}}
}
