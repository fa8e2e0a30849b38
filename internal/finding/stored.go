package finding

import (
	"fmt"
	"strings"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
)

var lostInStore = Weakness{Number: 33, Question: WhoGetsIt, Title: "lost in the store",
	Usually: "A message is relayed first and stored later, or by another task, and what fails there is not " +
		"seen. Look at what happens to an error of the store, and at whether the relay waits for it.",
	Experiment: "what the server has kept, after a run, against the ledger"}

// stored finds that what the server has kept is not what was said.
func stored(s *search) []Finding {
	var failed []string
	for _, c := range s.FinalChecks {
		if c.Failed {
			failed = append(failed, plain.Text(c.Name, 60)+": "+plain.Text(c.Why, 200))
		}
	}
	if len(failed) == 0 {
		return nil
	}
	return []Finding{{Weakness: lostInStore.Number, Severity: Wrong,
		Share: shareOf(int64(len(failed)), int64(len(s.FinalChecks))),
		Says: fmt.Sprintf("%s of %s about what the server has kept were answered otherwise than the ledger has "+
			"it: %s",
			units.Count(int64(len(failed))), units.Plural(len(s.FinalChecks), "question"), strings.Join(failed,
				"; "))}}
}
