package finding

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
)

var lossAtSwitch = Weakness{Number: 20, Question: WhenItBreaks, Title: "loss at the switch",
	Usually: "While a client changes its transport, the server sends to the old one after it was closed, or to " +
		"both. Look at the moment in which the new connection takes over: what is under way has to be handed on, " +
		"once.",
	Experiment: "clients that change their transport while others speak"}

var noWay = Weakness{Number: 19, Question: WhenItBreaks, Title: "no way down",
	Usually: "The second transport is not served, or its address is another one than clients are told. Look at " +
		"each transport by itself, with the better ones switched off.",
	Experiment: "each transport alone, and each refused in turn"}

// atSwitch finds what went wrong while clients changed their transport.
func atSwitch(s *search) []Finding {
	c := &s.Total.Counts.Routes
	if c.Up+c.Down == 0 || c.LostAt+c.DoubledAt == 0 {
		return nil
	}
	moved := map[ledger.Client][]time.Duration{}
	for _, what := range []logbook.EventKind{logbook.SteppedUp, logbook.SteppedDown} {
		for _, e := range s.events(what) {
			moved[e.Client] = append(moved[e.Client], e.At)
		}
	}
	near := func(d delivery) bool {
		if d.m.Reached == 0 { // it came to nobody, whether it changed its transport or not
			return false
		}
		for _, at := range moved[d.o.Client] {
			if (d.sent() - at).Abs() <= switchTakes {
				return true
			}
		}
		return false
	}
	lost, double := s.those(ledger.Lost, near), s.those(ledger.Duplicate, near)
	s.explain(ledger.Lost, near)
	s.explain(ledger.Duplicate, near)
	var parts []string
	if c.LostAt > 0 && len(lost) > 0 {
		parts = append(parts, fmt.Sprintf("%s were lost", units.Plural(int(c.LostAt), "message")))
	}
	if c.DoubledAt > 0 {
		parts = append(parts, fmt.Sprintf("%s came twice", units.Plural(int(c.DoubledAt), "message")))
	}
	if len(parts) == 0 {
		return nil
	}
	f := Finding{Weakness: lossAtSwitch.Number, Severity: Loss, Figures: []string{"ledger.lost",
		"ledger.duplicate"},
		Share: shareOf(min(c.LostAt+c.DoubledAt, c.Up+c.Down), c.Up+c.Down),
		Says: fmt.Sprintf("while clients changed their transport (%s), %s", times(int(c.Up+c.Down)),
			strings.Join(parts, " and ")),
		Evidence: s.evidence(lost, s.missed)}
	f.Evidence = append(f.Evidence, s.evidence(double, func(d delivery) string {
		return fmt.Sprintf("%s got %s twice", s.name(d.o.Client), s.said(d.m))
	})...)
	return []Finding{f}
}

// switchTakes is how near to a change of transport what went wrong is due to it.
const switchTakes = 2 * time.Second

// noWayDown finds clients with no transport left.
func noWayDown(s *search) []Finding {
	c := &s.Total.Counts.Routes
	if len(s.Trial.Target.Routes) < 2 || c.NoneLeft == 0 {
		return nil
	}
	// Who has come in at last had a way. A server that is down has none, and one may refuse a second connection under
	// one name.
	var refused []*logbook.Event
	for _, e := range append(s.events(logbook.Refused), s.events(logbook.GaveUp)...) {
		kept := slices.ContainsFunc(s.during(e.At, downFor), func(d Doing) bool { return s.meets(d, e.Client) })
		if !s.inFall(e.At, downFor) && !s.sharesName(e.Client) && !kept {
			refused = append(refused, e)
		}
	}
	n := int64(len(refused))
	if n == 0 {
		return nil
	}
	return []Finding{{Weakness: noWay.Number, Severity: Wrong, Figures: []string{"clients.refused"},
		Share: shareOf(n, max(s.Total.Counts.Started, n)),
		Says: fmt.Sprintf("%s tried all transports that they could take, and none of them worked",
			units.Plural(int(n), "client")), Evidence: s.eventEvidence(refused)}}
}
