package finding

import (
	"fmt"
	"slices"
	"time"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/lives"
	"tidepull/internal/measure/logbook"
)

// A delivery is one outcome of a message that was kept.
type delivery struct {
	m *ledger.Message
	o *ledger.Outcome
}

func (d delivery) sent() time.Duration { return time.Duration(d.m.Sent) }

// A search is what rules look through: what went wrong and is not explained yet, by the way in which it did.
type search struct {
	*Facts
	lives     map[ledger.Client]*lives.Life
	wrong     [ledger.NumFates][]delivery
	explained [ledger.NumFates]int // taken out of wrong
	doubtful  int                  // lost, and perhaps not by the server
	fine      []delivery           // of the same messages, and of the sample of good ones
	// ghosted is set if wrong numbers of members are explained by members that are gone.
	ghosted bool
	// deafIn are the rooms with members that the server does not know.
	deafIn map[ledger.Room]bool
	deaf   map[ledger.Client]bool
	// brokenBy is set if it is known what ended connections.
	brokenBy bool
	fallen   []time.Duration // what falls gives; nil: not looked for yet
	named    map[string]int  // how many clients have a name; nil: not counted yet
	byKind   map[logbook.EventKind][]*logbook.Event
	replies  map[ledger.Client][]*logbook.Event // what the server answered each client with that it did not wait for
	hasty    bool                               // that clients were closed too soon is said
}

// enoughFine is how many deliveries that went well are enough to compare with while a run goes on, and is searched
// again and again beside what it measures.
const enoughFine = 20000

func newSearch(f *Facts) *search {
	s := &search{Facts: f, lives: lives.Of(f.Events), deafIn: map[ledger.Room]bool{},
		deaf: map[ledger.Client]bool{}, replies: map[ledger.Client][]*logbook.Event{}}
	lost := f.Certain("ledger.lost")
	for n, list := range [][]ledger.Message{f.Kept, f.Sampled} {
		for i := range list {
			m := &list[i]
			if n == 1 && !f.Over && len(s.fine) > enoughFine {
				break
			}
			for k := range m.Outcomes {
				d := delivery{m, &m.Outcomes[k]}
				switch d.o.Fate {
				case ledger.Delivered:
					s.fine = append(s.fine, d)
				case ledger.Lost:
					if lost && f.Well(d.sent()) {
						s.wrong[ledger.Lost] = append(s.wrong[ledger.Lost], d)
					} else {
						s.doubtful++
					}
				case ledger.Duplicate, ledger.Stray, ledger.Altered, ledger.Reordered, ledger.Disagreed:
					s.wrong[d.o.Fate] = append(s.wrong[d.o.Fate], d)
				}
			}
		}
	}
	return s
}

// those gives the deliveries that went wrong in a way, are not explained yet, and are so.
func (s *search) those(fate ledger.Fate, is func(delivery) bool) (all []delivery) {
	for _, d := range s.wrong[fate] {
		if is(d) {
			all = append(all, d)
		}
	}
	return all
}

// nearlyAll gives the deliveries that went wrong in a way and are so, if nearly all are, and hardly any that went
// well are; and how many others went wrong in that way.
func (s *search) nearlyAll(fate ledger.Fate, is func(delivery) bool) (got []delivery, others int) {
	got = s.those(fate, is)
	others = len(s.wrong[fate]) - len(got)
	n, of := s.share(is)
	if !standsOut(len(got), others, n, of) {
		return nil, 0
	}
	return got, others
}

// standsOut reports whether nine in ten of what went wrong is so, which it would hardly be by chance, as so few
// of those that went well are.
func standsOut(wrong, others, fine, ofFine int) bool {
	return wrong > 0 && 9*others <= wrong &&
		chance(wrong, wrong+others, float64(fine+1)/float64(ofFine+2)) < unlikely
}

// explain takes those out of what is not explained.
func (s *search) explain(fate ledger.Fate, is func(delivery) bool) {
	before := len(s.wrong[fate])
	s.wrong[fate] = slices.DeleteFunc(s.wrong[fate], is)
	s.explained[fate] += before - len(s.wrong[fate])
}

// explanations counts what is explained.
func (s *search) explanations() (n int) {
	for _, k := range s.explained {
		n += k
	}
	return n
}

// share is which part of the deliveries that went well is so.
func (s *search) share(is func(delivery) bool) (n, of int) {
	for _, d := range s.fine {
		if is(d) {
			n++
		}
	}
	return n, len(s.fine)
}

// name is a client's name, as it may be shown.
func (s *search) name(c ledger.Client) string {
	if c < 0 || int(c) >= len(s.Names) {
		return "nobody"
	}
	return plain.Text(s.Names[c], 60)
}

// room is a room's name.
func (s *search) room(r ledger.Room) string {
	if r <= ledger.Everyone || int(r) >= len(s.Rooms) {
		return ""
	}
	return plain.Text(s.Rooms[r], 60)
}

// in is " in ROOM", or "".
func (s *search) in(r ledger.Room) string {
	if name := s.room(r); name != "" {
		return " in " + name
	}
	return ""
}

// evidence gives the first cases, each of another message, and each in words.
func (s *search) evidence(all []delivery, says func(delivery) string) (list []Evidence) {
	told := map[uint64]bool{}
	for _, d := range all {
		if told[d.m.Number] || len(list) == mostEvidence {
			continue
		}
		told[d.m.Number] = true
		number := d.m.Number
		list = append(list, Evidence{Says: says(d), Message: &number, Client: d.o.Client, At: d.sent()})
	}
	return list
}

// said names a message: "message 12 of pilot-3 in lock-1, said at 0:03.120".
func (s *search) said(m *ledger.Message) string {
	switch m.Kind {
	case ledger.Joined:
		return fmt.Sprintf("that %s entered%s at %s", s.name(m.Sender), s.in(m.Room),
			units.Instant(time.Duration(m.Sent)))
	case ledger.Gone:
		return fmt.Sprintf("that %s left%s at %s", s.name(m.Sender), s.in(m.Room), units.Instant(time.Duration(m.Sent)))
	}
	return fmt.Sprintf("message %d of %s%s, said at %s", m.Number, s.name(m.Sender), s.in(m.Room),
		units.Instant(time.Duration(m.Sent)))
}

// missed says of a delivery that did not come, who has it.
func (s *search) missed(d delivery) string {
	text := fmt.Sprintf("%s never got %s; %s of %s have it", s.name(d.o.Client), s.said(d.m),
		units.Count(int64(d.m.Reached)), units.Count(int64(d.m.Owed)))
	if reply := s.reply(d.m); reply != nil && d.m.Reached == 0 {
		text += "; the server had answered its sender: '" + plain.Text(reply.Detail, 200) + "'"
	}
	return text
}

// reply is what the server answered the sender of a message with, soon after it; nil if there was nothing.
func (s *search) reply(m *ledger.Message) *logbook.Event {
	if len(s.events(logbook.Replied)) == 0 {
		return nil
	}
	for _, e := range s.replies[m.Sender] {
		if at := time.Duration(m.Sent); e.At >= at && e.At <= at+s.Trial.Prompt {
			return e
		}
	}
	return nil
}

// distinct counts what deliveries have, each once.
func distinct[T comparable](all []delivery, of func(delivery) T) int {
	set := map[T]bool{}
	for _, d := range all {
		set[of(d)] = true
	}
	return len(set)
}

// clients counts the recipients of deliveries, senders their senders, and messages their messages.
func clients(all []delivery) int {
	return distinct(all, func(d delivery) ledger.Client { return d.o.Client })
}

func senders(all []delivery) int {
	return distinct(all, func(d delivery) ledger.Client { return d.m.Sender })
}

func messages(all []delivery) int {
	return distinct(all, func(d delivery) uint64 { return d.m.Number })
}

// whole reports whether everything that went wrong was kept: if not, what is counted one by one is of the first of it.
func (s *search) whole() bool { return s.Unkept == 0 }

// first is a word for numbers that are of what was kept alone.
func (s *search) first() string {
	if s.whole() {
		return ""
	}
	return fmt.Sprintf(" (counted in the first %s messages with something wrong; there were %s more)",
		units.Count(int64(len(s.Kept))), units.Count(int64(s.Unkept)))
}

// events gives what happened of a kind. It is not to be changed.
func (s *search) events(what logbook.EventKind) []*logbook.Event {
	if s.byKind == nil {
		s.byKind = map[logbook.EventKind][]*logbook.Event{}
		for i := range s.Events {
			e := &s.Events[i]
			s.byKind[e.What] = append(s.byKind[e.What], e)
			if e.What == logbook.Replied {
				s.replies[e.Client] = append(s.replies[e.Client], e)
			}
		}
	}
	all := s.byKind[what]
	return all[:len(all):len(all)]
}

// eventEvidence gives the first of some events, each of another client, in words.
func (s *search) eventEvidence(all []*logbook.Event) (list []Evidence) {
	told := map[ledger.Client]bool{}
	for _, e := range all {
		if told[e.Client] || len(list) == mostEvidence {
			continue
		}
		told[e.Client] = true
		list = append(list, Evidence{Says: fmt.Sprintf("%s at %s: %s", s.name(e.Client), units.Instant(e.At),
			plain.Text(e.Detail, 300)), Client: e.Client, At: e.At})
	}
	return list
}

// during gives what the trial did on purpose at a time, or shortly before it.
func (s *search) during(at, before time.Duration) (all []Doing) {
	for _, d := range s.Doings {
		if d.From <= at && (d.To == 0 || d.To+before >= at) {
			all = append(all, d)
		}
	}
	return all
}

// meets reports whether something that the trial did on purpose may have been about a client.
func (s *search) meets(d Doing, c ledger.Client) bool {
	for i := range s.Trial.Faults {
		if f := &s.Trial.Faults[i]; f.Name == d.Name && f.Whom.Crew >= 0 {
			return s.Trial.CrewOf(int(c)) == f.Whom.Crew
		}
	}
	return true
}

// ruledOut is what is true of every finding: what was looked at besides the server.
func (s *search) ruledOut() (all []string) {
	w := s.Total
	switch {
	case w.Overloaded == 0:
		all = append(all, "the tool: it kept up in every second of the run")
	default:
		all = append(all, fmt.Sprintf("the tool: it could not keep up in %d of %d seconds, and what may follow from "+
			"that is left out", w.Overloaded, w.Seconds))
	}
	if s.doubtful > 0 {
		all = append(all, fmt.Sprintf("the machine: %s more that were lost while it kept programs waiting are not "+
			"counted",
			deliveries(s.doubtful)))
	}
	if n := w.Total.Excused; n > 0 {
		are := "are"
		if n == 1 {
			are = "is"
		}
		all = append(all, fmt.Sprintf("clients that left, were cut off, or were hindered by the trial: %s %s excused "+
			"for that, and not counted here", deliveries(int(n)), are))
	}
	return all
}
