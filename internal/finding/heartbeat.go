package finding

import (
	"fmt"
	"strings"
	"time"

	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
)

var noEviction = Weakness{Number: 6, Question: WhoIsThere, Title: "no eviction",
	Usually: "Nothing looks whether a client still answers: the ping is sent and the pong is not waited for, " +
		"or only a failing write ends a connection. Look for the timer that a sign of life sets back, and for what " +
		"it does when it fires.",
	Experiment: "clients that fall silent, in each way, while their connection stays open"}

var hastyEviction = Weakness{Number: 7, Question: WhoIsThere, Title: "hasty eviction",
	Usually: "The deadline is shorter than the interval of pings, or an answer sets another timer back than " +
		"the one that fires; or one timer serves all connections. Look at the timer of each connection, and at " +
		"what counts as a sign of life.",
	Experiment: "clients that answer at the last moment, and healthy ones under load"}

var badHeartbeat = Weakness{Number: 8, Question: WhoIsThere, Title: "missing or uneven heartbeat",
	Usually: "Pings are sent by a timer that other work holds up, or by one for all connections at once, which " +
		"takes longer the more there are. Look at what sends them, and what else runs there.",
	Experiment: "many clients that count the server's pings, without and under load"}

// eviction finds clients that gave no sign of life and stayed, or were closed too late.
func eviction(s *search) []Finding {
	c := &s.Total.Counts.Pulse
	p := s.Trial.Target.Promise
	if p == nil || p.Deadline == 0 {
		return s.checked(&noEviction, Wrong, "of %[2]s clients that gave no sign of life %[1]s were not closed by "+
			"the server in time",
			"fall_silent", "misbehave")
	}
	if c.Kept == 0 && c.TooLate == 0 {
		return nil
	}
	kept, late := c.Kept > 0 && s.Certain("pulse.not_evicted"), c.TooLate > 0 && s.Certain("pulse.evicted_late")
	if !kept && !late {
		return nil
	}
	var parts []string
	if kept {
		parts = append(parts, fmt.Sprintf("%s of %s that gave no sign of life were not closed by the deadline "+
			"of %s",
			units.Count(c.Kept), units.Plural(int(c.Evicted+c.Kept), "client"), units.Duration(p.Deadline)))
	}
	if late {
		parts = append(parts, fmt.Sprintf("%s were closed after it, the last after %s", units.Count(c.TooLate),
			units.Duration(s.Total.Times[logbook.ToEvict].Max())))
	}
	return []Finding{{Weakness: noEviction.Number, Severity: Wrong,
		Figures: []string{"pulse.not_evicted", "pulse.evicted_late"},
		Share:   shareOf(min(c.Kept+c.TooLate, c.Evicted+c.Kept), c.Evicted+c.Kept), Says: strings.Join(parts,
			", and "),
		Evidence: s.eventEvidence(s.unevicted())}}
}

// unevicted is when those began to misbehave that were not closed by the server.
func (s *search) unevicted() (all []*logbook.Event) {
	closed := map[ledger.Client]bool{}
	for _, e := range s.events(logbook.Evicted) {
		closed[e.Client] = true
	}
	for _, e := range s.events(logbook.Misbehaved) {
		if !closed[e.Client] {
			all = append(all, e)
		}
	}
	return all
}

// hasty finds clients that were closed though they gave all the signs of life that they owed.
func hasty(s *search) []Finding {
	c := &s.Total.Counts.Pulse
	if c.Hasty == 0 || s.brokenBy || !s.Certain("pulse.hasty") {
		return nil
	}
	// That all went at once is something else, and which of two under one name stays is the server's to say.
	n, ends := c.Hasty, []*logbook.Event{}
	for _, e := range s.events(logbook.Broke) {
		if s.inFall(e.At, fallsWithin) || s.sharesName(e.Client) {
			n--
		} else {
			ends = append(ends, e)
		}
	}
	if n <= 0 {
		return nil
	}
	s.hasty = true
	return []Finding{{Weakness: hastyEviction.Number, Severity: Wrong, Figures: []string{"pulse.hasty",
		"clients.broken"},
		Share: shareOf(min(n, s.Total.Counts.Opened), s.Total.Counts.Opened),
		Says: fmt.Sprintf("%s were closed by the server though they gave every sign of life that they owed",
			units.Plural(int(n), "client")), Evidence: s.eventEvidence(ends)}}
}

// uneven finds heartbeats of the server that did not come as they were promised.
func uneven(s *search) []Finding {
	c, p := &s.Total.Counts.Pulse, s.Trial.Target.Promise
	if p == nil || !p.Server {
		return nil
	}
	var parts []string
	var figures []string
	n := int64(0)
	for _, of := range []struct {
		figure, words string
		n             int64
	}{{"pulse.missing", "did not come", c.Missing}, {"pulse.late", "came late", c.Late},
		{"pulse.too_often", "came too soon", c.Early}} {
		if of.n > 0 && s.Certain(of.figure) {
			n += of.n
			parts = append(parts, units.Count(of.n)+" "+of.words)
			figures = append(figures, of.figure)
		}
	}
	if len(parts) == 0 {
		return nil
	}
	h := &s.Total.Times[logbook.BeatInterval]
	return []Finding{{Weakness: badHeartbeat.Number, Severity: Wrong, Figures: figures, Share: shareOf(n,
		c.Heard+c.Missing),
		Says: fmt.Sprintf("of %s heartbeats of the server, promised every %s, %s; the longest interval was %s",
			units.Count(c.Heard+c.Missing), units.Duration(p.Every), strings.Join(parts, ", "),
			units.Duration(h.Max().Round(time.Millisecond)))}}
}
