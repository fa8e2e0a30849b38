package finding

import (
	"fmt"
	"strings"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
)

var alteredPayload = Weakness{Number: 16, Question: WhoGetsIt, Title: "altered payload",
	Usually: "The text is decoded, cut, escaped or encoded again on its way: a conversion between character " +
		"sets, a template, a field of limited width, a JSON library. Look at every place that holds the text as " +
		"something else than the bytes that came.",
	Experiment: "payloads of every length around common limits, Unicode of every kind, control characters, " +
		"markup, JSON within JSON, binary"}

// altered finds messages that came otherwise than they were said.
func altered(s *search) []Finding {
	n, other := s.Total.Total.Altered, s.Total.Counts.OtherType
	if n+other == 0 {
		return nil
	}
	got := s.those(ledger.Altered, func(delivery) bool { return true })
	s.explain(ledger.Altered, func(delivery) bool { return true })
	f := Finding{Weakness: alteredPayload.Number, Severity: Wrong, Figures: []string{"ledger.altered",
		"messages.other_type"},
		Share: shareOf(n+other, max(n+other, s.Total.Total.Arrivals())),
		Evidence: s.evidence(got, func(d delivery) string {
			if words := s.Difference(d.m.Number, d.o.Client); words != "" {
				return fmt.Sprintf("%s got %s: %s", s.name(d.o.Client), s.said(d.m), words)
			}
			return fmt.Sprintf("%s got %s with another text", s.name(d.o.Client), s.said(d.m))
		})}
	var parts []string
	if n > 0 {
		parts = append(parts, fmt.Sprintf("%s came with another text than was said", deliveries(int(n))))
	}
	if other > 0 {
		parts = append(parts, fmt.Sprintf("%s that were said as text came as binary messages, or the other way round",
			units.Plural(int(other), "message")))
	}
	f.Says = strings.Join(parts, ", and ")
	if says := s.InCommon("ledger.altered"); says != "" {
		f.Says += "; " + plain.Text(says, 300)
	}
	return []Finding{f}
}
