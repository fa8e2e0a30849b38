package run

import (
	"cmp"
	"maps"
	"math"
	"slices"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/base/units"
	"tidepull/internal/measure/common"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/lives"
	"tidepull/internal/measure/logbook"
)

// A moment is something that happened to a client, or might have.
type moment struct {
	client ledger.Client
	at     time.Duration
}

func (m moment) units() []int64 {
	return []int64{byMoment: int64(m.at / time.Millisecond), byWhose: int64(m.client), bySecond: int64(m.time())}
}

func (m moment) time() float64 { return m.at.Seconds() }

// The units of moments: those of one moment and those of one client are one piece of evidence.
const (
	byMoment = iota
	byWhose
)

// sharedEvents are the figures that count what happened to clients, with what that is called.
var sharedEvents = []struct {
	figure, what string
	of           logbook.EventKind
}{{"clients.refused", "refused", logbook.Refused}, {"clients.denied", "denied", logbook.Denied},
	{"clients.broken", "broken", logbook.Broke}, {"expectations.missed", "missed", logbook.Missed},
	{"checks.failed", "failed", logbook.Failed}, {"returns.gave_up", "that gave up", logbook.GaveUp}}

// eventsInCommon finds what the clients have in common to whom happened what a broken limit counts: held against
// those to whom it did not when it did; or else what the times have in common, held against all the time that clients
// were connected.
func (l *looker) eventsInCommon() (all []Shared) {
	for _, of := range sharedEvents {
		if !slices.ContainsFunc(l.s.Judgements, func(j Judgement) bool {
			return j.Limit.Figure == of.figure && j.Verdict == Broken
		}) {
			continue
		}
		var wrong []moment
		for i := range l.s.Events {
			if e := &l.s.Events[i]; e.What == of.of {
				wrong = append(wrong, moment{e.Client, e.At})
			}
		}
		if len(wrong) == 0 { // it is broken as there was none
			continue
		}
		well, ever := l.atThatTime(wrong, of.of), l.anyTime(of.of)
		f, found := l.aboutMoment().find(wrong, well)
		if !found {
			f, found = l.aboutTime(of.what).find(wrong, ever)
		}
		says := rhythmOf(of.what, wrong, ever, func(m moment) (time.Duration, time.Duration) { return m.at, 0 },
			&f, found)
		if says != "" {
			all = append(all, Shared{What: of.what, Says: says, Covers: f.Covers, Of: len(wrong), Others: f.Others,
				Figure: of.figure})
		}
	}
	return all
}

// aboutMoment are the questions about a client at a moment.
func (l *looker) aboutMoment() questions[moment] {
	return questions[moment]{
		is(byMoment, "the client is ", func(m moment) string { return l.s.ClientName(m.client) }),
		is(byWhose, "the client is of the crew ", func(m moment) string { return l.crew(m.client) }),
		is(byWhose, "the client is at node ", func(m moment) string { return l.node(m.client) }),
		is(byWhose, "the client was on ", func(m moment) string { return l.route(m.client, mono.Time(m.at)) }),
		is(byWhose, "the client was in ", func(m moment) string { return l.roomOf(m.client, m.at) }),
		l.after("the client connected", whenOpened),
		l.after("the client came back", whenBack),
		l.after("the client entered its room", whenEnteredAny),
	}
}

// aboutTime are the questions about the time alone.
func (l *looker) aboutTime(what string) questions[moment] {
	return questions[moment]{
		when[moment](what),
		atOnce[moment](l, "in a second in which %s clients or more entered", arrivals),
		atOnce[moment](l, "while %s clients or more were connected", open),
		atOnce[moment](l, "in a second with %s messages or more", said),
	}
}

// after asks how long after something in a client's life it was: at most, and at least.
func (l *looker) after(what string, times func(*lives.Life, ledger.Room) []time.Duration) question[moment] {
	say := func(x float64) string {
		return units.Duration(time.Duration(x*float64(time.Second))) + " after " + what
	}
	return question[moment]{Question: common.Question{Unit: byWhose,
		Most:  func(x float64) string { return "within " + say(x) },
		Least: func(x float64) string { return "no sooner than " + say(x) },
		Between: func(from, to float64) string {
			return units.Duration(time.Duration(from*float64(time.Second))) + " to " + say(to)
		}, Round: threeDigits},
		number: func(m moment) float64 {
			v := l.lives[m.client]
			if v == nil {
				return math.NaN()
			}
			return lives.Since(times(v, 0), m.at)
		}}
}

// roomOf is the room that a client was in; "" if it was in none.
func (l *looker) roomOf(c ledger.Client, at time.Duration) string {
	last, room := time.Duration(-1), ledger.Room(-1)
	v := l.lives[c]
	if v == nil {
		return ""
	}
	for r, times := range v.Entered {
		for _, t := range times {
			if t < at && t > last {
				last, room = t, r
			}
		}
	}
	return l.room(room)
}

// Bounds on the moments that others are held against.
const (
	perLife   = 20     // that stand for all of one connection
	mostTimes = 200    // at which the others are looked at
	mostAll   = 40_000 // altogether: of many clients some stand for all
)

// some are the clients that stand for all, if each is looked at so many times.
func (l *looker) some(times int) (ids []ledger.Client) {
	all := slices.Sorted(maps.Keys(l.lives))
	for i := 0; i < len(all); i += max(1, len(all)*times/mostAll) {
		ids = append(ids, all[i])
	}
	return ids
}

// anyTime are moments at which something might have happened to clients, evenly over the time that they were
// connected; of what keeps a client from a connection or a room, when others came to one.
func (l *looker) anyTime(what logbook.EventKind) (all []moment) {
	for _, c := range l.some(perLife) {
		v := l.lives[c]
		switch what {
		case logbook.Refused:
			all = append(all, momentsAt(c, v.Opened)...)
			continue
		case logbook.Denied:
			all = append(all, momentsAt(c, v.EnteredAny)...)
			continue
		}
		for _, from := range v.Opened {
			to := endAfter(v, from, l.s.Elapsed)
			for i := range perLife {
				all = append(all, moment{c, from + (to-from)*time.Duration(2*i+1)/(2*perLife)})
			}
		}
	}
	slices.SortFunc(all, inOrder)
	return all
}

// atThatTime are the others to whom something might have happened when it did.
func (l *looker) atThatTime(wrong []moment, what logbook.EventKind) (all []moment) {
	if what == logbook.Refused || what == logbook.Denied {
		return l.anyTime(what)
	}
	hit := map[moment]bool{} // by client and tenth of a second
	const tenth = 100 * time.Millisecond
	var times []time.Duration
	for _, m := range wrong {
		hit[moment{m.client, m.at / tenth}] = true
		if n := len(times); n == 0 || m.at/tenth != times[n-1]/tenth {
			times = append(times, m.at)
		}
	}
	each := max(1, len(times)/mostTimes)
	ids := l.some(min(len(times), mostTimes))
	for i := 0; i < len(times); i += each {
		for _, c := range ids {
			v := l.lives[c]
			k, open := slices.BinarySearch(v.Opened, times[i])
			if !open && k == 0 || hit[moment{c, times[i] / tenth}] {
				continue
			}
			if from := v.Opened[max(0, k-1)]; from < times[i] && endAfter(v, from, l.s.Elapsed) > times[i] {
				all = append(all, moment{c, times[i]})
			}
		}
	}
	slices.SortFunc(all, inOrder)
	return all
}

// endAfter is when a connection ended that began at a time.
func endAfter(v *lives.Life, from, end time.Duration) time.Duration {
	if i, _ := slices.BinarySearch(v.Gone, from); i < len(v.Gone) {
		return v.Gone[i]
	}
	return end
}

func momentsAt(c ledger.Client, times []time.Duration) (all []moment) {
	for _, at := range times {
		all = append(all, moment{c, at})
	}
	return all
}

// inOrder is the order of moments: maps have none.
func inOrder(a, b moment) int {
	return cmp.Or(cmp.Compare(a.at, b.at), cmp.Compare(a.client, b.client))
}
