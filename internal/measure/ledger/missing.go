package ledger

import (
	"tidepull/internal/base/mono"
	"tidepull/internal/measure/excuse"
)

// isCutOff books that a client's connection is broken, not closed in order: what it said within
// Config.Prompt before may be lost with it. One that closes in order may expect that what it said
// before has arrived.
func (l *Ledger) isCutOff(c Client, now mono.Time) {
	if slot := l.slot(c, Everyone); slot >= 0 && l.rooms[Everyone].now.bits.Has(slot) {
		l.excuses.Add(c, excuse.Excuse{Cause: excuse.CutOff, From: now.Add(-l.cfg.Prompt), To: now})
	}
}

// notSaid gives why a message that nobody has was as good as not said; None if it was said: its sender was cut
// off as it said it, or a fault kept the message back until it could not be expected in time any
// more, or until its sender's connection was gone.
func (l *Ledger) notSaid(r *row) excuse.Cause {
	sender, sent, settles := r.say.Sender, r.say.Sent, r.say.Sent.Add(l.cfg.Grace)
	if x, is := l.excuses.Find(sender, excuse.Of(excuse.CutOff), sent, sent); is && r.say.Kind.Said() {
		return x.Cause
	}
	if x, is := l.excuses.Find(sender, workerLost, sent, sent.Add(l.cfg.Prompt)); is && r.say.Kind.Said() {
		return x.Cause
	}
	x, is := l.excuses.Find(sender, excuse.Of(excuse.HeldUp), sent, settles)
	if !is {
		return excuse.None
	}
	slot := l.slot(sender, Everyone)
	if slot < 0 || x.To.Add(l.cfg.Prompt) >= settles {
		return x.Cause
	}
	if over := l.rooms[Everyone].seats[slot].at(sent).over; over >= sent && over <= settles {
		return x.Cause
	}
	return excuse.None
}

// isLeftOut reports whether a message has certainly been left out for a member of its room, whatever
// happened to it afterwards: a later one of its sender has come to it, each of them over one connection,
// and an order is promised.
func (l *Ledger) isLeftOut(r *row, slot int) bool {
	if l.cfg.Order == AnyOrder || !l.cfg.Streams || r.say.Kind != Notice || r.garbled || r.lostOnPath.Has(slot) {
		return false
	}
	seat := &l.rooms[r.say.Room].seats[slot]
	for n, later := 0, r.next; n < chainedLook && later != 0; n++ {
		next := l.rowOf(later)
		if next == nil {
			return false
		}
		if next.has(slot) && next.owes(slot) && !next.past.Has(slot) {
			said, then := r.say.Sent, next.say.Sent
			return seat.at(said).asked == seat.at(then).asked && l.onOneConnection(r.say.Sender, said, then) &&
				!l.was(seat.client, away|excuse.Of(excuse.ChangedDown, excuse.HeldDown), said)
		}
		later = next.next
	}
	return false
}

// onOneConnection reports whether what a client said at two times went over one connection.
func (l *Ledger) onOneConnection(c Client, first, second mono.Time) bool {
	between := away | excuse.Of(excuse.CutOff, excuse.ChangedUp, excuse.HeldUp)
	if _, broke := l.excuses.Find(c, between, first, second); broke {
		return false
	}
	slot := l.slot(c, Everyone)
	if slot < 0 {
		return false // nobody knows
	}
	seat := &l.rooms[Everyone].seats[slot]
	return seat.at(first).asked == seat.at(second).asked
}

// missing says what it means that an owed message did not come, and if it is excused by what: its
// recipient left or was cut off before it could be expected, for one. Once
// somebody has the message, the others can expect it within Config.Prompt, so
// one who leaves after that has lost it; a message to a room that nobody has yet
// cannot be expected. What is for one alone can be expected within Config.Prompt
// of being sent: there is nobody else who could have it first.
func (l *Ledger) missing(r *row, slot int) (Fate, excuse.Cause) {
	sent, settles := r.say.Sent, r.say.Sent.Add(l.cfg.Grace)
	s := &l.rooms[r.say.Room].seats[slot]
	if x, is := l.excuses.Find(s.client, unread|workerLost, sent, settles); is {
		return Excused, x.Cause
	}
	if r.lostOnPath.Has(slot) {
		return Excused, excuse.LostOnPath
	}
	if r.reached == 0 {
		if by := l.notSaid(r); by != excuse.None {
			return Excused, by
		}
	}
	if settles > l.read {
		return Excused, excuse.Behind
	}
	ceased, by := s.at(sent).ceased, excuse.Left
	// One that hung up was as good as out from then on.
	if x, is := l.excuses.Find(s.client, excuse.Of(excuse.HungUp), sent, ceased); is && max(x.From, sent) < ceased {
		ceased, by = max(x.From, sent), x.Cause
	}
	expected, reached := r.firstAt.Add(l.cfg.Prompt), r.reached > r.caughtUp
	if r.narrow {
		expected, reached = sent.Add(l.cfg.Prompt), true
	}
	if ceased > settles || reached && ceased >= expected {
		return Lost, excuse.None
	}
	return Excused, by
}
