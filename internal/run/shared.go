package run

import (
	"math"
	"slices"
	"sort"
	"strings"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
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
	l := &looker{s: s, lives: livesOf(s.Events)}
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
	lives map[ledger.Client]*life
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

// A life is what is known of when a client did things, in the order of time.
type life struct {
	opened, back, gone []time.Duration
	enteredAny         []time.Duration // any room
	entered, left      map[ledger.Room][]time.Duration
	routes             []onRoute // if there are several
}

// onRoute is that a client came to be on a route.
type onRoute struct {
	at   time.Duration
	name string
}

func livesOf(events []logbook.Event) map[ledger.Client]*life {
	all := map[ledger.Client]*life{}
	for i := range events {
		e := &events[i]
		v := all[e.Client]
		if v == nil {
			v = &life{entered: map[ledger.Room][]time.Duration{}, left: map[ledger.Room][]time.Duration{}}
			all[e.Client] = v
		}
		switch e.What {
		case logbook.Opened:
			v.opened = append(v.opened, e.At)
			if e.Detail != "" {
				v.routes = append(v.routes, onRoute{e.At, e.Detail})
			}
		case logbook.SteppedUp:
			_, to, _ := strings.Cut(e.Detail, " to ")
			v.routes = append(v.routes, onRoute{e.At, to})
		case logbook.CameBack:
			v.back = append(v.back, e.At)
		case logbook.Entered:
			v.entered[e.Room] = append(v.entered[e.Room], e.At)
			v.enteredAny = append(v.enteredAny, e.At)
		case logbook.Left:
			v.left[e.Room] = append(v.left[e.Room], e.At)
		case logbook.Closed, logbook.Broke:
			v.gone = append(v.gone, e.At)
		}
	}
	for _, v := range all {
		lists := [][]time.Duration{v.opened, v.back, v.gone, v.enteredAny}
		for _, in := range []map[ledger.Room][]time.Duration{v.entered, v.left} {
			for _, list := range in {
				lists = append(lists, list)
			}
		}
		for _, list := range lists {
			slices.Sort(list)
		}
	}
	return all
}

// since is how long before an instant the last of some times was, in seconds; NaN if there was none.
func since(times []time.Duration, at time.Duration) float64 {
	i := sort.Search(len(times), func(i int) bool { return times[i] > at })
	if i == 0 {
		return math.NaN()
	}
	return (at - times[i-1]).Seconds()
}

// until is how long after an instant the next of some times is, in seconds; NaN if there is none.
func until(times []time.Duration, at time.Duration) float64 {
	i := sort.Search(len(times), func(i int) bool { return times[i] >= at })
	if i == len(times) {
		return math.NaN()
	}
	return (times[i] - at).Seconds()
}
