package run

import (
	"fmt"
	"time"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
)

// mostExamples bounds the examples of one limit.
const mostExamples = 3

// eventsOf are the events that a figure counts.
var eventsOf = map[string]logbook.EventKind{"clients.refused": logbook.Refused, "clients.denied": logbook.Denied,
	"clients.broken": logbook.Broke, "returns.unprovoked": logbook.Broke, "expectations.missed": logbook.Missed,
	"checks.failed": logbook.Failed, "checks.failed_otherwise": logbook.Failed, "returns.gave_up": logbook.GaveUp}

// Examples says of the first things that a figure counts what they were: who, which message, where and when, and what
// came instead; each of another message or client. None if the figure counts nothing that is kept one by one.
func (s *Snapshot) Examples(figure string) (all []string) {
	for _, of := range sharedFates {
		if of.figure == figure {
			return s.examplesOf(of.fate)
		}
	}
	what, is := eventsOf[figure]
	if !is {
		return nil
	}
	told := map[ledger.Client]bool{}
	for i := range s.Events {
		e := &s.Events[i]
		if e.What != what || told[e.Client] || len(all) == mostExamples {
			continue
		}
		told[e.Client] = true
		all = append(all, fmt.Sprintf("%s at %s: %s", plain.Text(s.ClientName(e.Client), 60), units.Instant(e.At),
			plain.Text(e.Detail, 300)))
	}
	return all
}

// examplesOf says what the first deliveries with a fate were.
func (s *Snapshot) examplesOf(fate ledger.Fate) (all []string) {
	for i := range s.Kept {
		m := &s.Kept[i]
		for k := range m.Outcomes {
			o := &m.Outcomes[k]
			if o.Fate != fate {
				continue
			}
			if all = append(all, s.example(m, o)); len(all) == mostExamples {
				return all
			}
			break
		}
	}
	return all
}

func (s *Snapshot) example(m *ledger.Message, o *ledger.Outcome) string {
	of := map[ledger.Kind]string{ledger.Joined: "the announcement that %s entered",
		ledger.Gone: "the announcement that %s left"}[m.Kind]
	if of == "" {
		of = fmt.Sprintf("message %d of %%s", m.Number)
	}
	text := fmt.Sprintf(of, plain.Text(s.ClientName(m.Sender), 60))
	if r := m.Room; r > ledger.Everyone && int(r) < len(s.Rooms) {
		text += " in " + plain.Text(s.Rooms[r], 60)
	}
	if m.Kind.Said() {
		text += ", said"
	}
	text += fmt.Sprintf(" at %s: %s at %s", units.Instant(time.Duration(m.Sent)), o.Fate,
		plain.Text(s.ClientName(o.Client), 60))
	if o.Latency > 0 {
		text += fmt.Sprintf(", after %s", units.Duration(o.Latency))
	}
	if o.Fate == ledger.Altered {
		if d := s.DifferenceOf(m.Number, o.Client); d != nil {
			return text + ": " + DifferenceWords(d, true)
		}
	}
	if o.Fate == ledger.Lost {
		return text + fmt.Sprintf("; %s of %s have it", units.Count(int64(m.Reached)), units.Count(int64(m.Owed)))
	}
	return text + ": " + o.WhyOf(m.Kind)
}
