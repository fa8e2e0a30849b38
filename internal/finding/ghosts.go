package finding

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
)

var ghost = Weakness{Number: 5, Question: WhoIsThere, Title: "ghosts",
	Usually: "A member is taken out where it asks to leave, and not where its connection ends by itself: no " +
		"handler for the end, one that is not reached on an error, or one that removes by a key that has changed. " +
		"Look at what runs when a read or a write fails.",
	Experiment: "clients that vanish without a word, then the numbers and lists of members"}

var leftover = Weakness{Number: 23, Question: WhatItBears, Title: "leftovers",
	Usually: "Something is kept for each connection and not given up with it: a timer, a subscription, an " +
		"entry of a map, a file. Look at what a connection takes when it begins, and whether its end gives back " +
		"each of these.",
	Experiment: "many clients come and go, several times; what has the server left after each?"}

var wrongPresence = Weakness{Number: 27, Question: WhoIsThere, Title: "wrong presence",
	Usually: "The number is counted beside the list of members, up and down, and one of the ways is missed; or " +
		"it is sent before the change is done. Look at where it is computed: from the list, at the moment it is " +
		"sent?",
	Experiment: "clients that enter, leave, vanish and come back; the number each is told, against the true one"}

// ghosts finds members that stay after their connection has ended.
func ghosts(s *search) []Finding {
	u := &s.Total.Server
	var parts, figures []string
	f := Finding{Weakness: ghost.Number, Severity: Wrong}
	for _, g := range []struct {
		gauge          int
		figure, counts string
	}{{logbook.Members, "server.members_left", "members of rooms"},
		{logbook.Presence, "server.presence_left", "members that are announced as present"}} {
		if of := &u.Gauges[g.gauge]; u.Over && of.Known && of.Left() > 0 && s.Certain(g.figure) {
			parts = append(parts, fmt.Sprintf("after all clients have gone the server counts %s %s beyond those before",
				units.Count(int64(of.Left())), g.counts))
			figures = append(figures, g.figure)
		}
	}
	// A number that is too high, or a name that is listed, of those who broke off: later the room's number is
	// right about all others.
	high, listed := s.tooMany()
	if n := len(high) + len(listed); n > 0 && s.afterBreaks(append(high, listed...)) &&
		s.Certain("checks.failed_otherwise") {
		parts = append(parts, fmt.Sprintf("%s a client was told of members that were gone: their connection had ended "+
			"without a goodbye", times(n)))
		f.Evidence = append(s.eventEvidence(high), s.eventEvidence(listed)...)
		figures = append(figures, "checks.failed_otherwise")
		s.ghosted = true
	}
	if len(parts) == 0 {
		return nil
	}
	f.Says, f.Figures = strings.Join(parts, "; "), figures
	f.Share = shareOf(min(int64(len(s.brokeOff())), s.Total.Counts.Opened), s.Total.Counts.Opened)
	if len(s.brokeOff()) == 0 {
		f.Share = nil
	}
	return []Finding{f}
}

// tooMany are the failed checks of numbers of members that were too high, and of names that were listed and were of no
// member.
func (s *search) tooMany() (high, listed []*logbook.Event) {
	for _, e := range s.checkEvents("presence") {
		_, why, _ := strings.Cut(e.Detail, ": ")
		said, most, is := members(why)
		switch {
		case is && said > most:
			high = append(high, e)
		case strings.HasSuffix(why, ", and is none"):
			listed = append(listed, e)
		}
	}
	return high, listed
}

// members reads what a failed check of a number of members says: "the server said 5 members of lock-1, there were 3 to
// 4".
func members(why string) (said, most int, ok bool) {
	head, tail, is := strings.Cut(why, ", there were ")
	head, announces := strings.CutPrefix(head, "the server said ")
	if !is || !announces {
		return 0, 0, false
	}
	if _, upTo, span := strings.Cut(tail, " to "); span {
		tail = upTo
	}
	// There may be very many of these: by hand, it takes a hundredth of what scanning by a format takes.
	said, ok = numberAt(head)
	if !ok {
		return 0, 0, false
	}
	most, ok = numberAt(tail)
	return said, most, ok
}

// numberAt is the number that a text begins with.
func numberAt(text string) (int, bool) {
	digits := 0
	for digits < len(text) && '0' <= text[digits] && text[digits] <= '9' {
		digits++
	}
	n, err := strconv.Atoi(text[:digits])
	return n, err == nil
}

// brokeOff are the events of connections that ended without a goodbye of the client's.
func (s *search) brokeOff() []*logbook.Event { return append(s.events(logbook.Broke), s.vanished()...) }

// vanished are clients that went without a goodbye, as their session says.
func (s *search) vanished() (all []*logbook.Event) {
	for _, e := range s.events(logbook.Closed) {
		if strings.Contains(e.Detail, "vanish") {
			all = append(all, e)
		}
	}
	return all
}

// afterBreaks reports whether somebody had broken off before each of some events, and nothing of the kind was seen
// before.
func (s *search) afterBreaks(all []*logbook.Event) bool {
	broke := s.brokeOff()
	if len(broke) == 0 {
		return false
	}
	for _, e := range all {
		if e.At < broke[0].At {
			return false
		}
	}
	return true
}

// leftovers finds what the server has left of clients that have gone.
func leftovers(s *search) []Finding {
	u := &s.Total.Server
	if !u.Over {
		return nil
	}
	of := &u.Gauges[logbook.OpenConnections]
	if !of.Known || of.Left() <= 0 || !s.Certain("server.connections_left") {
		return nil
	}
	return []Finding{{Weakness: leftover.Number, Severity: Wrong, Figures: []string{"server.connections_left"},
		Share: shareOf(min(int64(of.Left()), s.Total.Counts.Opened), s.Total.Counts.Opened),
		Says: fmt.Sprintf("after all clients have gone the server counts %s connections beyond those before; at most "+
			"it counted %s", units.Count(int64(of.Left())), units.Count(int64(of.Most)))}}
}

// presence finds numbers and lists of members that are wrong, and announcements of what did not happen.
func presence(s *search) (all []Finding) {
	failed, held := s.failedChecks("presence")
	events := s.checkEvents("presence")
	// A server that has lost a member counts it in no number.
	events = slices.DeleteFunc(events, func(e *logbook.Event) bool {
		_, why, _ := strings.Cut(e.Detail, ": ")
		said, most, is := members(why)
		explained := is && said < most && s.deafIn[e.Room] || s.deaf[e.Client]
		if explained {
			failed--
		}
		return explained
	})
	if failed > 0 && len(events) > 0 && !s.ghosted && s.Certain("checks.failed_otherwise") {
		all = append(all, Finding{Weakness: wrongPresence.Number, Severity: Wrong,
			Figures: []string{"checks.failed_otherwise"}, Share: shareOf(failed, failed+held),
			Says: fmt.Sprintf("%s of %s numbers or lists of members that clients were told are wrong",
				units.Count(failed),
				units.Count(failed+held)), Evidence: s.eventEvidence(events)})
	}
	if n := s.Total.Counts.StrayNews; n > 0 {
		all = append(all, Finding{Weakness: wrongPresence.Number, Severity: Wrong,
			Figures: []string{"announcements.stray"},
			Share:   shareOf(n, n+s.announced()),
			Says:    fmt.Sprintf("%s a client was told that somebody had entered or left that had not", times(int(n))),
		})
	}
	return all
}

// announced is how many announcements came as they should.
func (s *search) announced() (n int64) {
	for cell, t := range s.Total.Cells {
		if cell.Kind == ledger.Joined || cell.Kind == ledger.Gone {
			n += t.Delivered + t.Late
		}
	}
	return n
}
