package ledger

import (
	"slices"

	"tidepull/internal/base/mono"
)

// senderCutOff reports whether a message's sender was cut off within Config.Prompt of saying it:
// the bytes may have been lost with the connection. One that closed in order may expect
// that what it said before has arrived.
func (l *Ledger) senderCutOff(r *row) bool {
	slot := l.slot(r.say.Sender, Everyone)
	if slot < 0 || !r.say.Kind.Said() {
		return false
	}
	in := l.rooms[Everyone].seats[slot].at(r.say.Sent)
	return in.over != mono.Never && in.ceased == in.over && in.over >= r.say.Sent &&
		in.over <= r.say.Sent.Add(l.cfg.Prompt)
}

// heldByFault reports whether a fault kept a message back until it could not be expected in time any
// more, or until its sender's connection was gone.
func (l *Ledger) heldByFault(r *row) bool {
	mute := &l.seats[r.say.Sender].mute
	if !mute.covers(r.say.Sent) {
		return false
	}
	settles := r.say.Sent.Add(l.cfg.Grace)
	if mute.until == mono.Never || mute.until.Add(l.cfg.Prompt) >= settles {
		return true
	}
	slot := l.slot(r.say.Sender, Everyone)
	if slot < 0 {
		return true
	}
	over := l.rooms[Everyone].seats[slot].at(r.say.Sent).over
	return over >= r.say.Sent && over <= settles
}

// missing says what it means that an owed message did not come: it is excused
// if the recipient left or was cut off before it could be expected. Once
// somebody has the message, the others can expect it within Config.Prompt, so
// one who leaves after that has lost it; a message to a room that nobody has yet
// cannot be expected. What is for one alone can be expected within Config.Prompt
// of being sent: there is nobody else who could have it first.
func (l *Ledger) missing(r *row, s *roomSeat) Fate {
	in := s.at(r.say.Sent)
	ceased := in.ceased
	if in.broke != mono.Never { // it was as good as out from then on
		ceased = min(ceased, max(in.broke, r.say.Sent))
	}
	expected, reached := r.firstAt.Add(l.cfg.Prompt), r.reached > r.caughtUp
	if r.narrow {
		expected, reached = r.say.Sent.Add(l.cfg.Prompt), true
	}
	switch {
	case l.piledUp(s.client, r.say.Sent), slices.Contains(r.excused, s.client),
		r.reached == 0 && (l.senderCutOff(r) || l.heldByFault(r)),
		r.say.Sent.Add(l.cfg.Grace) > l.read:
		return Excused
	case ceased > r.say.Sent.Add(l.cfg.Grace), reached && ceased >= expected:
		return Lost
	}
	return Excused
}
