package ledger

import (
	"slices"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/excuse"
)

// A Message is a settled message that was kept to be looked at.
type Message struct {
	Number   uint64
	Kind     Kind
	Audience Audience
	Room     Room
	Sender   Client
	Due      mono.Time
	Sent     mono.Time
	Owed     int
	Reached  int
	Late     int
	Lost     int
	Odd      int       // arrivals that should not have been so: duplicates, strays, defects
	Nth      int       // which message of its sender's connection it is, from 1; 0 if it is not known
	Size     int       // bytes, of a message that a client says; 0 if it is not known
	Traits   Traits    // of what it says
	Outcomes []Outcome // the first maxOutcomes, the worst first
}

// Problems is how many of the message's deliveries went wrong.
func (m *Message) Problems() int { return m.Lost + m.Late + m.Odd }

// An Outcome is what became of a message at one client.
type Outcome struct {
	Latency time.Duration // 0 for Lost and Excused
	Client  Client
	Fate    Fate
	Cause   excuse.Cause // of Excused: by what; None in what older versions stored
}

// Why says what the outcome means, in words for who looks at it.
func (o *Outcome) Why() string {
	if o.Cause != excuse.None {
		return o.Cause.Why()
	}
	return o.Fate.Why()
}

// WhyOf is Why for the outcome of a message of a kind: what is owed of a private one, or of an announcement, is another
// thing.
func (o *Outcome) WhyOf(k Kind) string {
	if o.Cause == excuse.None {
		switch {
		case o.Fate == Lost && k == Whisper:
			return "it was for this client, which was there and stayed, and it did not come within the grace time"
		case o.Fate == Stray && k == Whisper:
			return "it was for another client"
		case o.Fate == Lost && !k.Said():
			return "was in the room and stayed, and was not told within the grace time"
		case o.Fate == Stray && !k.Said():
			return "was not in the room, and was told"
		}
	}
	return o.Why()
}

// Bounds on what is kept: the outcomes of one message, those of all messages
// with something wrong before only the wrong ones are kept of each, and those
// of the sample of good ones before it grows no more.
const (
	maxOutcomes  = 20000
	keptOutcomes = 1 << 20
	goodOutcomes = 1 << 17
)

// keep keeps a settled row, if it is one to keep: the first cfg.Keep with
// something wrong, and of the good ones a sample in which each has the same
// chance.
func (l *Ledger) keep(r *row) {
	if r.wrong() {
		if len(l.Kept) < l.cfg.Keep {
			m := l.message(r, l.kept <= keptOutcomes)
			l.kept += len(m.Outcomes)
			l.Kept = append(l.Kept, m)
		} else {
			l.Unkept++
		}
		return
	}
	l.good++
	switch i := int(l.random.Uint64() % uint64(l.good)); {
	case len(l.Sampled) < l.cfg.Sample && l.good == len(l.Sampled)+1 && l.sampled < goodOutcomes:
		m := l.message(r, true)
		l.sampled += len(m.Outcomes)
		l.Sampled = append(l.Sampled, m)
	case i < len(l.Sampled):
		m := l.message(r, true)
		l.sampled += len(m.Outcomes) - len(l.Sampled[i].Outcomes)
		l.Sampled[i] = m
	}
}

func (r *row) wrong() bool {
	if r.lost > 0 || r.late > 0 || r.oddRest > 0 {
		return true
	}
	for _, o := range r.odd {
		if o.Fate != Allowed {
			return true
		}
	}
	return false
}

// message copies a row; with whole set, what is well of it too.
func (l *Ledger) message(r *row, whole bool) Message {
	s := r.say
	m := Message{Number: r.number, Kind: s.Kind, Audience: s.Audience, Room: s.Room, Sender: s.Sender, Due: s.Due,
		Sent: s.Sent, Owed: int(r.owed), Reached: int(r.reached), Late: int(r.late), Lost: int(r.lost), Odd: r.oddRest,
		Nth: s.Nth, Size: int(s.size), Traits: s.traits}
	var ranked [numSeverities][]Outcome
	n := 0
	add := func(o Outcome) {
		if rank := o.Fate.Severity(); n < maxOutcomes && (rank < Fine || whole) {
			ranked[rank] = append(ranked[rank], o)
			n++
		}
	}
	for _, o := range r.odd {
		if o.Fate != Allowed {
			m.Odd++
		}
		add(o)
	}
	for _, missing := range []bool{true, false} {
		r.eachOwed(func(slot int) {
			if r.has(slot) != missing {
				add(l.outcome(r, slot))
			}
		})
	}
	m.Outcomes = slices.Concat(ranked[:]...)
	return m
}

func (l *Ledger) outcome(r *row, slot int) Outcome {
	seat := &l.rooms[r.say.Room].seats[slot]
	o := Outcome{Client: seat.client}
	switch {
	case r.has(slot):
		o.Latency = fromTick(r.latencyOf(slot))
		if o.Latency == 0 && l.missed(seat.client, r.say.Sent) {
			o.Fate = CaughtUp
		}
		if o.Latency > l.cfg.Prompt {
			o.Fate = Late
		}
	default:
		if o.Fate, o.Cause = l.missing(r, slot); o.Fate == Excused && l.isLeftOut(r, slot) {
			o.Fate, o.Cause = Lost, excuse.None
		}
		if o.Fate == Lost && l.mayCatchUp(seat.client, r.say.Sent, r.say.Sent.Add(l.cfg.Grace)) {
			o.Fate, o.Cause = Excused, excuse.Away // what becomes of it is known only later
		}
	}
	return o
}
