package run

import (
	"slices"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/lives"
)

// A Shared is what the deliveries that went wrong in one way have in common and those that went well have not.
type Shared struct {
	What   string  `json:"what"`         // "lost", "duplicate" and so on
	Says   string  `json:"says"`         // "all 199 lost: the recipient is the sender"
	Covers int     `json:"covers"`       // of how many it is true
	Of     int     `json:"of"`           // of how many it was looked for
	Others float64 `json:"others_share"` // of which share, from 0 to 1, of those that went well it is true
	Figure string  `json:"figure"`       // that counts them
}

// sharedFates are the ways of going wrong that are looked at, with the figure that counts each.
var sharedFates = []struct {
	fate   ledger.Fate
	figure string
}{{ledger.Lost, "ledger.lost"}, {ledger.Duplicate, "ledger.duplicate"}, {ledger.Stray, "ledger.stray"},
	{ledger.Altered, "ledger.altered"}, {ledger.Reordered, "ledger.reordered"}, {ledger.Disagreed, "ledger.disagreed"},
	{ledger.Late, "ledger.late"}}

// mostOthers bounds the deliveries that went well which the others are held against.
const mostOthers = 20_000

// InCommon finds what the deliveries that went wrong have in common, way by way; none if nothing is found, or if there
// are too few to tell.
func (s *Snapshot) InCommon() (all []Shared) {
	l := &looker{s: s, lives: lives.Of(s.Events)}
	for _, of := range sharedFates {
		wrong, last := cases(s.Kept, mono.Never, of.fate)
		if len(wrong) == 0 {
			continue
		}
		upTo, what := mono.Never, of.fate.String()
		if s.Unkept > 0 { // those are the first: what came later is not like them
			upTo, what = last, "of the first that are "+what
		}
		sampled, _ := cases(s.Sampled, upTo, ledger.Delivered)
		beside, _ := cases(s.Kept, upTo, ledger.Delivered)
		f, found := l.aboutRecipient().find(wrong, thin(append(beside, sampled...)))
		unlike, _ := cases(without(s.Kept, of.fate), upTo, ledger.Delivered)
		if m, is := l.aboutMessage().find(wrong, thin(append(unlike, sampled...))); is &&
			(!found || len(m.Words) < len(f.Words) || len(m.Words) == len(f.Words) && m.Others < f.Others) {
			f, found = m, true
		}
		if says := rhythmOf(what, wrong, sampled, cameAt, &f, found); says != "" {
			all = append(all, Shared{What: of.fate.String(), Says: says, Covers: f.Covers, Of: f.Of, Others: f.Others,
				Figure: of.figure})
		}
	}
	return append(all, l.eventsInCommon()...)
}

// SharedBy says what all that a figure counts has in common; "" if nothing is known.
func (s *Snapshot) SharedBy(figure string) string {
	for _, shared := range s.Shared {
		if shared.Figure == figure {
			return shared.Says
		}
	}
	return ""
}

// A delivery is one outcome of a message.
type delivery struct {
	m *ledger.Message
	o *ledger.Outcome
}

// thin leaves out what is too much, evenly.
func thin(all []delivery) []delivery {
	if len(all) <= mostOthers {
		return all
	}
	some := make([]delivery, 0, mostOthers)
	for i := range mostOthers {
		some = append(some, all[i*len(all)/mostOthers])
	}
	return some
}

// A looker looks at deliveries of a run.
type looker struct {
	s     *Snapshot
	lives map[ledger.Client]*lives.Life
}

// cases lists the deliveries of messages said up to a time that have a fate; last is when the last of those was said.
func cases(messages []ledger.Message, upTo mono.Time, fate ledger.Fate) (all []delivery, last mono.Time) {
	for i := range messages {
		m := &messages[i]
		if m.Sent > upTo {
			continue
		}
		for k := range m.Outcomes {
			if m.Outcomes[k].Fate == fate {
				all, last = append(all, delivery{m, &m.Outcomes[k]}), max(last, m.Sent)
			}
		}
	}
	return all, last
}

// without are the messages none of whose deliveries has a fate.
func without(messages []ledger.Message, fate ledger.Fate) (rest []ledger.Message) {
	for i := range messages {
		if m := &messages[i]; !slices.ContainsFunc(m.Outcomes, func(o ledger.Outcome) bool { return o.Fate == fate }) {
			rest = append(rest, *m)
		}
	}
	return rest
}
