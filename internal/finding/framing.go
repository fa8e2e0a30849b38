package finding

import (
	"fmt"
	"time"

	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
)

var naiveFraming = Weakness{Number: 40, Question: WhatItBears, Title: "naive framing",
	Usually: "One read is taken for one message. Look at where bytes become messages: what is read has to " +
		"be kept until a message is whole.",
	Experiment: "the same messages cut anywhere and glued together by the network"}

// framing finds that messages are lost while the network cuts them, or glues them together, which changes nothing of
// what it carries.
func framing(s *search) []Finding {
	var on []Doing
	for _, d := range s.Doings {
		if d.Do == trial.Split.String() || d.Do == trial.Join.String() {
			on = append(on, d)
		}
	}
	if len(on) == 0 {
		return nil
	}
	during := func(d delivery) bool { return d.m.Kind.Said() && within(on, d.sent(), s.Trial.Prompt) }
	lost, others := s.nearlyAll(ledger.Lost, during)
	if len(lost) == 0 {
		return s.brokenByFraming(on)
	}
	s.explain(ledger.Lost, during)
	return []Finding{{Weakness: naiveFraming.Number, Severity: Loss, Figures: []string{"ledger.lost"},
		Share: shareOf(int64(len(lost)), max(s.Total.Total.Owed, int64(len(lost)))),
		Says: fmt.Sprintf("%s never came, %s that were lost, while the network cut messages into pieces or sent "+
			"several of them together, as any network may%s", deliveries(len(lost)), ofAll(len(lost), others),
			s.first()),
		Evidence: s.evidence(lost, s.missed)}}
}

// brokenByFraming finds that connections end while the network cuts or glues, and not otherwise: what a server takes
// for a message is none.
func (s *search) brokenByFraming(on []Doing) []Finding {
	var ends []*logbook.Event
	others := 0
	for _, e := range s.events(logbook.Broke) {
		if within(on, e.At, 0) {
			ends = append(ends, e)
		} else {
			others++
		}
	}
	if len(ends) < leastBrokenAfter || others > 0 || !s.Certain("clients.broken") {
		return nil
	}
	s.brokenBy = true
	return []Finding{{Weakness: naiveFraming.Number, Severity: Loss, Figures: []string{"clients.broken"},
		Share: shareOf(int64(len(ends)), max(s.Total.Counts.Opened, int64(len(ends)))),
		Says: fmt.Sprintf("%s were ended by the server while the network cut messages into pieces or sent several of "+
			"them together, as any network may, and none before", units.Plural(len(ends), "connection")),
		Evidence: s.eventEvidence(ends)}}
}

// within reports whether something that was done on purpose went on at a time, or begins so soon that it may meet
// what was said then.
func within(on []Doing, at, soon time.Duration) bool {
	for _, d := range on {
		if d.From <= at+soon && (d.To == 0 || at <= d.To) {
			return true
		}
	}
	return false
}
