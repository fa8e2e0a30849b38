package finding

import (
	"fmt"

	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
)

var wrongEcho = Weakness{Number: 2, Question: WhoGetsIt, Title: "wrong echo",
	Usually: "The relay leaves out the connection that it read the message from, or does not. Look at the loop " +
		"over the members of the room; and at what the trial's dialect says of who gets a message (reaches).",
	Experiment: "one client says something and listens, alone and with others"}

// echo finds that senders do not get their own messages, or get them though they are for the others.
func echo(s *search) []Finding {
	own := func(d delivery) bool { return d.m.Sender == d.o.Client && d.m.Kind == ledger.Notice }
	var all []Finding
	// Senders are one of many: that it is they by chance is as likely as they are of all.
	if lost, others := s.nearlyAll(ledger.Lost, own); len(lost) > 0 {
		s.explain(ledger.Lost, own)
		all = append(all, Finding{Weakness: wrongEcho.Number, Severity: Loss, Figures: []string{"ledger.lost"},
			Share: shareOf(int64(len(lost)), max(s.Total.Counts.Sent, int64(len(lost)))),
			Says: fmt.Sprintf("%s never got their own message, which was for all of the room; %s that were lost "+
				"were the sender's own%s", units.Plural(clients(lost), "sender"), ofAll(len(lost), others), s.first()),
			Evidence: s.evidence(lost, s.missed)})
	}
	back := func(d delivery) bool { return own(d) && d.m.Audience == ledger.ToOthers }
	if got := s.those(ledger.Stray, back); len(got) > 0 {
		s.explain(ledger.Stray, back)
		all = append(all, Finding{Weakness: wrongEcho.Number, Severity: Wrong, Figures: []string{"ledger.stray"},
			Share: shareOf(int64(len(got)), max(s.Total.Counts.Sent, int64(len(got)))),
			Says: fmt.Sprintf("%s got their own message back %s, though it was for the others alone%s",
				units.Plural(clients(got), "sender"), times(len(got)), s.first()),
			Evidence: s.evidence(got, func(d delivery) string {
				return fmt.Sprintf("%s got %s itself", s.name(d.o.Client), s.said(d.m))
			})})
	}
	return all
}

// ofAll says of how many deliveries that went wrong something is so.
func ofAll(n, others int) string {
	if others == 0 {
		return fmt.Sprintf("all %s", units.Count(int64(n)))
	}
	return fmt.Sprintf("%s of %s", units.Count(int64(n)), units.Count(int64(n+others)))
}

// were counts something, with a verb: "1 client was", "12 clients were".
func were(n int, one string) string {
	if n == 1 {
		return "1 " + one + " was"
	}
	return units.Plural(n, one) + " were"
}

// times says how often: "once", "12 times".
func times(n int) string {
	if n == 1 {
		return "once"
	}
	return units.Count(int64(n)) + " times"
}
