package finding

import (
	"fmt"

	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
)

var leak = Weakness{Number: 3, Question: WhoGetsIt, Title: "room leak",
	Usually: "Messages go to all connections, or to a room by the beginning of its name, and the client is " +
		"left to sort them; or one list serves two rooms. Look at how the relay finds the members of a room.",
	Experiment: "several rooms with members of their own, names that begin alike, messages in each"}

var leakedWhisper = Weakness{Number: 4, Question: WhoGetsIt, Title: "whisper leak",
	Usually: "A private message is relayed to the room, or to everybody of a name that is not one client's. " +
		"Look at how the recipient is found, and at what happens if it is not there.",
	Experiment: "private messages between two of many clients, also to one that is away"}

var stays = Weakness{Number: 37, Question: WhoIsThere, Title: "stays after leaving",
	Usually: "Leaving takes the client out of one list and not of another, or is done later. Look at every " +
		"place that a client is added to when it enters.",
	Experiment: "clients that leave a room and listen on, on the same connection"}

// whisperLeak finds private messages at clients that they are not for.
func whisperLeak(s *search) []Finding {
	whisper := func(d delivery) bool { return d.m.Kind == ledger.Whisper && d.m.Audience != ledger.ToNobody }
	got := s.those(ledger.Stray, whisper)
	if len(got) == 0 {
		return nil
	}
	s.explain(ledger.Stray, whisper)
	said := int64(0)
	for cell, t := range s.Total.Cells {
		if cell.Kind == ledger.Whisper {
			said += t.Said
		}
	}
	return []Finding{{Weakness: leakedWhisper.Number, Severity: Loss, Figures: []string{"ledger.stray"},
		Share: shareOf(int64(messages(got)), max(said, int64(messages(got)))),
		Says: fmt.Sprintf("%s reached %s that they were not for%s", units.Plural(messages(got),
			"private message"),
			units.Plural(clients(got), "client"), s.first()),
		Evidence: s.evidence(got, func(d delivery) string { return s.strayed(d) + s.forWhom(d.m) })}}
}

// forWhom says whom a private message was for.
func (s *search) forWhom(m *ledger.Message) string {
	for i := range m.Outcomes {
		if o := &m.Outcomes[i]; o.Fate.Settles() {
			return "; it was for " + s.name(o.Client)
		}
	}
	return ""
}

// strayed says of a delivery who got what it should not have.
func (s *search) strayed(d delivery) string {
	return fmt.Sprintf("%s got %s", s.name(d.o.Client), s.said(d.m))
}

// staysAfterLeaving finds messages of a room at clients that had left it.
func staysAfterLeaving(s *search) []Finding {
	had := func(d delivery) bool {
		v := s.lives[d.o.Client]
		if v == nil || !d.m.Kind.Said() {
			return false
		}
		left, is := last(v.Left[d.m.Room], d.sent())
		entered, was := last(v.Entered[d.m.Room], d.sent())
		_, ever := last(v.Entered[d.m.Room], left)
		return is && ever && (!was || entered < left)
	}
	got := s.those(ledger.Stray, had)
	if len(got) == 0 {
		return nil
	}
	s.explain(ledger.Stray, had)
	return []Finding{{Weakness: stays.Number, Severity: Loss, Figures: []string{"ledger.stray"},
		Share: shareOf(int64(clients(got)), max(int64(s.everLeft()), int64(clients(got)))),
		Says: fmt.Sprintf("%s went on getting messages of a room after the server had confirmed that they had left "+
			"it: %s%s", units.Plural(clients(got), "client"), times(len(got)), s.first()),
		Evidence: s.evidence(got, func(d delivery) string {
			left, _ := last(s.lives[d.o.Client].Left[d.m.Room], d.sent())
			return fmt.Sprintf("%s, which had left at %s", s.strayed(d), units.Instant(left))
		})}}
}

// everLeft is how many clients have left a room.
func (s *search) everLeft() (n int) {
	for _, v := range s.lives {
		if len(v.Left) > 0 {
			n++
		}
	}
	return n
}

// roomLeak finds messages at clients that were never in their room.
func roomLeak(s *search) []Finding {
	is := func(d delivery) bool { return d.m.Kind.Said() && d.m.Audience != ledger.ToNobody }
	got := s.those(ledger.Stray, is)
	if len(got) == 0 {
		return nil
	}
	s.explain(ledger.Stray, is)
	return []Finding{{Weakness: leak.Number, Severity: Loss, Figures: []string{"ledger.stray"},
		Share: shareOf(int64(messages(got)), max(s.Total.Counts.Sent, int64(messages(got)))),
		Says: fmt.Sprintf("%s reached %s that were not in the room: %s in all%s",
			units.Plural(messages(got), "message"), units.Plural(clients(got), "client"), times(len(got)), s.first()),
		Evidence: s.evidence(got, func(d delivery) string {
			if other := s.elsewhere(d); other != "" {
				return s.strayed(d) + "; it was in " + other
			}
			return s.strayed(d)
		})}}
}

// elsewhere is the room that a recipient was in last when a message was said; "" if it was in none.
func (s *search) elsewhere(d delivery) string {
	v, room := s.lives[d.o.Client], ledger.Room(-1)
	if v == nil {
		return ""
	}
	latest := -1
	for r, times := range v.Entered {
		if at, is := last(times, d.sent()); is && r > ledger.Everyone && !between(v, r, at, d.sent()) &&
			int(at) > latest {
			latest, room = int(at), r
		}
	}
	return s.room(room)
}
