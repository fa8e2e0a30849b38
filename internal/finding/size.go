package finding

import (
	"fmt"

	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
)

var sizeLimited = Weakness{Number: 17, Question: WhatItBears, Title: "size limit",
	Usually: "A buffer or a limit of a library is smaller than what clients send, and what does not fit is " +
		"dropped without a word, or ends the connection. Look at the maximum message size, and at who is told.",
	Experiment: "a ladder of sizes around 126, 1 K, 4 K, 16 K, 64 K and 1 M, up to where it stops"}

// leastOfSize is how many messages too large it takes, and how many smaller ones that arrived.
const (
	leastTooLarge = 3
	leastSmaller  = 10
)

// sizeLimit finds that messages from a size on reach nobody.
func sizeLimit(s *search) []Finding {
	smallest, largest := 0, 0 // that reached nobody, and somebody
	smaller := 0
	gone, arrived := map[uint64]bool{}, map[uint64]bool{}
	for _, d := range s.wrong[ledger.Lost] {
		if m := d.m; m.Reached == 0 && m.Size > 0 && !gone[m.Number] {
			gone[m.Number] = true
			if smallest == 0 || m.Size < smallest {
				smallest = m.Size
			}
		}
	}
	for _, d := range s.fine {
		if m := d.m; m.Size > 0 && !arrived[m.Number] {
			arrived[m.Number] = true
			if largest = max(largest, m.Size); m.Size < smallest {
				smaller++
			}
		}
	}
	if len(gone) < leastTooLarge || smallest <= largest || smaller < leastSmaller {
		return nil
	}
	tooLarge := func(d delivery) bool { return gone[d.m.Number] }
	lost := s.those(ledger.Lost, tooLarge)
	s.explain(ledger.Lost, tooLarge)
	return []Finding{{Weakness: sizeLimited.Number, Severity: Loss, Figures: []string{"ledger.lost"},
		Share: shareOf(int64(len(gone)), int64(len(gone))),
		Says: fmt.Sprintf("messages of %s bytes or more reached nobody (%s of them), while all of up to %s bytes "+
			"that were "+
			"looked at arrived; nobody was told%s", units.Count(int64(smallest)), units.Count(int64(len(gone))),
			units.Count(int64(largest)), s.first()),
		Evidence: s.evidence(lost, func(d delivery) string {
			return fmt.Sprintf("%s, of %s bytes, reached none of %s", s.said(d.m), units.Count(int64(d.m.Size)),
				units.Plural(d.m.Owed, "client"))
		})}}
}
