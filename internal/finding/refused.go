package finding

import (
	"fmt"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
)

// refused finds messages that the server answered instead of relaying them: it did not take them, and said so. That is
// right for a server that limits how often or what clients may say.
func refused(s *search) []Finding {
	is := func(d delivery) bool { return d.m.Kind.Said() && d.m.Reached == 0 && s.reply(d.m) != nil }
	got := s.those(ledger.Lost, is)
	if len(got) == 0 || !s.repliesRefuse() {
		return nil
	}
	s.explain(ledger.Lost, is)
	var how []*logbook.Event
	for _, d := range got {
		how = append(how, s.reply(d.m))
	}
	return []Finding{{Title: "messages that were refused", Severity: Note, Figures: []string{"ledger.lost"},
		Share: shareOf(int64(messages(got)), max(s.Total.Counts.Sent, int64(messages(got)))),
		Says: fmt.Sprintf("%s of %s reached nobody, and the server told them so: '%s'%s",
			units.Plural(messages(got), "message"), units.Plural(senders(got), "client"),
			plain.Text(how[0].Detail, 200), s.first()),
		Evidence: s.eventEvidence(how),
		Usually: "It limits how often clients may speak, or what they may say. Look whether that is meant, and " +
			"whether clients understand the answer.",
		Experiment: "the same clients, speaking less often"}}
}

// repliesRefuse reports whether what the server answers says that it did not take a message: an answer that comes to
// those as well that it relays says nothing.
func (s *search) repliesRefuse() bool {
	told, relayed := 0, 0
	seen := map[uint64]bool{}
	for _, d := range s.fine {
		if !d.m.Kind.Said() || seen[d.m.Number] {
			continue
		}
		seen[d.m.Number] = true
		relayed++
		if s.reply(d.m) != nil {
			told++
		}
	}
	return 10*told <= relayed
}
