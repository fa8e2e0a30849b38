package finding

import (
	"fmt"
	"strings"
	"time"

	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
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
	if f := s.refusedSize(lost, smallest, largest); f != nil {
		return f
	}
	return []Finding{{Weakness: sizeLimited.Number, Severity: Loss, Figures: []string{"ledger.lost"},
		Share: shareOf(int64(len(gone)), int64(len(gone))),
		Says: fmt.Sprintf("messages of %s bytes or more reached nobody (%s of them), while all of up to %s bytes "+
			"that were looked at arrived; nobody was told%s", units.Count(int64(smallest)),
			units.Count(int64(len(gone))), units.Count(int64(largest)), s.first()),
		Evidence: s.evidence(lost, func(d delivery) string {
			return fmt.Sprintf("%s, of %s bytes, reached none of %s", s.said(d.m), units.Count(int64(d.m.Size)),
				units.Plural(d.m.Owed, "client"))
		})}}
}

// refusedSize finds that who says what is too large is told so, or that its connection ends.
func (s *search) refusedSize(lost []delivery, smallest, largest int) []Finding {
	told, ended, closed, n := 0, 0, 0, 0
	replies := s.repliesRefuse()
	var how []*logbook.Event
	seen := map[uint64]bool{}
	for _, d := range lost {
		if seen[d.m.Number] {
			continue
		}
		seen[d.m.Number] = true
		n++
		end := s.endAfter(d.m.Sender, d.sent())
		switch {
		case replies && s.reply(d.m) != nil:
			told++
			how = append(how, s.reply(d.m))
		case end != nil && s.saysWhy(end):
			told++
			closed++
			how = append(how, end)
		case end != nil:
			ended++
			how = append(how, end)
		}
	}
	s.brokenBy = s.brokenBy || closed+ended > 0
	f := Finding{Weakness: sizeLimited.Number, Severity: Note, Figures: []string{"ledger.lost"},
		Evidence: s.eventEvidence(how), Share: shareOf(int64(n), int64(n))}
	from := fmt.Sprintf("messages of %s bytes or more", units.Count(int64(smallest)))
	switch {
	case 10*told >= 9*n:
		f.Says = fmt.Sprintf("%s are refused, and who says them is told (%s of %s); all of up to %s bytes that were "+
			"looked at arrived", from, units.Count(int64(told)), units.Count(int64(n)), units.Count(int64(largest)))
	case 10*(told+ended) >= 9*n:
		f.Severity = Wrong
		f.Says = fmt.Sprintf("%s end the connection of who says them (%s of %s), and not in a way that says "+
			"why (a close frame with 1009); all of up to %s bytes that were looked at arrived", from,
			units.Count(int64(ended)),
			units.Count(int64(n)), units.Count(int64(largest)))
	default:
		return nil
	}
	return []Finding{f}
}

// rightAfter is how soon after a message a server ends the connection for it: later it may be for the next one.
const rightAfter = 500 * time.Millisecond

// saysWhy reports whether the end of a connection says that it is for what the client has said: a close code for
// that, or words (RFC 6455 7.4.1: 1003, 1007, 1008, 1009); over anything but WebSocket there is no other way to say it.
func (s *search) saysWhy(end *logbook.Event) bool {
	for _, words := range []string{"code 1003", "code 1007", "code 1008", tooBig, "and said '"} {
		if strings.Contains(end.Detail, words) {
			return true
		}
	}
	return len(s.Trial.Target.Routes) > 0 && s.Trial.Target.Route(0).Kind != trial.WebSocket
}

// endAfter is how a client's connection ended right after a time; nil if it did not.
func (s *search) endAfter(c ledger.Client, at time.Duration) *logbook.Event {
	for _, e := range s.events(logbook.Broke) {
		if e.Client == c && e.At >= at && e.At <= at+rightAfter {
			return e
		}
	}
	return nil
}

// tooBig is how the end of a connection is told that the server closed for the size of a message (RFC 6455 7.4.1).
const tooBig = "code 1009"

// closedForSize is that the server has closed connections for the size of messages, of which it is not known what
// became.
func (s *search) closedForSize(ends []*logbook.Event) Finding {
	largest := 0
	for _, d := range s.fine {
		largest = max(largest, d.m.Size)
	}
	return Finding{Weakness: sizeLimited.Number, Severity: Note, Figures: []string{"clients.broken"},
		Share: shareOf(int64(len(ends)), max(s.Total.Counts.Opened, int64(len(ends)))),
		Says: fmt.Sprintf("%s were closed for the size of what their clients said (code 1009); the largest message "+
			"that was looked at and arrived had %s bytes", units.Plural(len(ends), "connection"),
			units.Count(int64(largest))),
		Evidence: s.eventEvidence(ends)}
}
