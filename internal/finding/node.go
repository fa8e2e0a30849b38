package finding

import (
	"fmt"

	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
)

var gapBetweenNodes = Weakness{Number: 25, Question: WhoGetsIt, Title: "node gap",
	Usually: "What is said on one node is relayed to its own connections only, or the broker between them " +
		"drops it. Look at what passes between the nodes, and at what happens while a node is not connected to the " +
		"broker.",
	Experiment: "members of one room on different nodes: who hears whom?"}

// nodeGap finds that what is said at one node does not come to members at another.
func nodeGap(s *search) []Finding {
	nodes := len(s.Trial.Target.Nodes)
	if nodes < 2 {
		return nil
	}
	at := func(c ledger.Client) int { return int(c)%nodes + 1 }
	apart := func(d delivery) bool { return at(d.m.Sender) != at(d.o.Client) && d.m.Kind.Said() }
	lost, others := s.nearlyAll(ledger.Lost, apart)
	if len(lost) == 0 {
		return nil
	}
	s.explain(ledger.Lost, apart)
	return []Finding{{Weakness: gapBetweenNodes.Number, Severity: Loss, Figures: []string{"ledger.lost"},
		Says: fmt.Sprintf("%s deliveries from one node to another never came, %s that were lost; on one node all "+
			"came%s",
			units.Count(int64(len(lost))), ofAll(len(lost), others), s.first()),
		Evidence: s.evidence(lost, func(d delivery) string {
			return fmt.Sprintf("%s; it was said at node %d, the recipient is at node %d", s.missed(d), at(d.m.Sender),
				at(d.o.Client))
		})}}
}
