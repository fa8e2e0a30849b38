package finding

import (
	"fmt"
	"strings"
	"time"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/measure/logbook"
)

var fragileServer = Weakness{Number: 42, Question: WhatItBears, Title: "fragile",
	Usually: "An exception in a handler is caught nowhere and ends the process, or the task that serves all " +
		"connections. Look at what happens to an error in the handler of a message: it may end this connection, " +
		"and nothing else.",
	Experiment: "bad messages one by one, with a look at the server and at the others after each"}

// fragile finds that the server ended, or others lost their connections, after one client sent something bad.
func fragile(s *search) []Finding {
	if s.ServerEnded != "" {
		return []Finding{{Weakness: fragileServer.Number, Severity: Loss, Figures: []string{"clients.broken",
			"returns.unprovoked"}, Says: "the server ended during the run, and nobody had asked it to: " +
			plain.Text(s.ServerEnded, 200) + s.lastDone(), Evidence: s.eventEvidence(s.events(logbook.Broke))}}
	}
	bad := s.events(logbook.Misbehaved)
	for _, e := range bad {
		if !strings.HasPrefix(e.Detail, "breaks the protocol") && !strings.HasPrefix(e.Detail, "sends a bad message") {
			continue
		}
		var others []*logbook.Event
		for _, b := range append(s.events(logbook.Broke), s.events(logbook.SteppedDown)...) {
			if b.Client != e.Client && b.At >= e.At && b.At < e.At+time.Second {
				others = append(others, b)
			}
		}
		if len(others) >= leastBrokenAfter && s.Certain("clients.broken") {
			s.brokenBy = true
			return []Finding{{Weakness: fragileServer.Number, Severity: Loss, Figures: []string{"clients.broken"},
				Says: fmt.Sprintf("%s lost their connections within a second after %s did this at %s: %s",
					units.Plural(len(others), "client"), s.name(e.Client), units.Instant(e.At), plain.Text(e.Detail,
						200)),
				Evidence: s.eventEvidence(others)}}
		}
	}
	return nil
}

// leastBrokenAfter is how many other clients have to lose their connections.
const leastBrokenAfter = 3

// lastDone says what clients had just done on purpose before the server ended.
func (s *search) lastDone() string {
	broke := s.events(logbook.Broke)
	if len(broke) == 0 {
		return ""
	}
	text := ""
	for _, e := range s.events(logbook.Misbehaved) {
		if e.At <= broke[0].At {
			text = fmt.Sprintf("; just before, %s did this at %s: %s", s.name(e.Client), units.Instant(e.At),
				plain.Text(e.Detail, 200))
		}
	}
	return text
}
