package ledger

import "tidepull/internal/base/mono"

// A joining is one client's entering of a room of which it is promised the past. What is said there between its asking
// and the confirmation is owed to nobody who enters; but with a promised past each such message has to come in one of
// two ways, with the past or live: if the server comes to it before it puts the past together, it is in that, and
// otherwise the client is a member.
type joining struct {
	slot     int32
	asked    mono.Time
	promised int    // how many messages of the past
	check    int    // the rule that promises it
	said     int    // messages in between that came to others
	missing  int    // of them, those that came to the client in neither way
	sender   Client // of the first of those
	sent     mono.Time
}

// A LeftOut is what a client that entered a room was given neither with the past that it was promised nor live, though
// others got it: how many messages, perhaps none, and which the first was.
type LeftOut struct {
	Room    Room
	To      Client
	Check   int
	Missing int
	Sender  Client
	Sent    mono.Time
}

// JoinsPast books that a client that asks to enter a room is promised so many messages of its past, by a rule. It
// reports whether Config.LeftOut will be called for it.
func (l *Ledger) JoinsPast(c Client, r Room, promised, check int) bool {
	slot := l.slot(c, r)
	if l.cfg.LeftOut == nil || slot < 0 || l.rooms[r].seats[slot].still {
		return false
	}
	rm := &l.rooms[r]
	rm.joining = append(rm.joining, joining{slot: int32(slot), asked: rm.seats[slot].asked, promised: promised,
		check: check})
	l.joinings++
	return true
}

// joins looks whether a message that is being settled came to those who entered its room meanwhile.
func (l *Ledger) joins(r *row) {
	rm := &l.rooms[r.say.Room]
	if len(rm.joining) == 0 || r.say.Kind != Notice || r.say.Unmarked || r.garbled || !l.cameToIt(r) {
		return
	}
	for i := range rm.joining {
		j := &rm.joining[i]
		s := &rm.seats[j.slot]
		if s.asked != j.asked || r.say.Sent < s.asked || s.entered == mono.Never || r.say.Sent >= s.entered {
			continue
		}
		j.said++
		slot := int(j.slot)
		if s.client == r.say.Sender || r.has(slot) || r.past.Has(slot) || l.excuses.Ever(s.client) {
			continue
		}
		if fate, _ := l.missing(r, slot); fate == Lost {
			if j.missing++; j.missing == 1 {
				j.sender, j.sent = r.say.Sender, r.say.Sent
			}
		}
	}
}

// settleJoinings judges those who have entered, once all that was said before is settled.
func (l *Ledger) settleJoinings(now mono.Time) {
	if l.joinings == 0 {
		return
	}
	oldest := l.oldest(now)
	for r := range l.rooms {
		rm := &l.rooms[r]
		rest := rm.joining[:0]
		for _, j := range rm.joining {
			s := &rm.seats[j.slot]
			switch {
			case s.asked != j.asked || !s.inside() || s.ceased != mono.Never:
				j.missing = 0 // it has left, or asked anew: nobody knows
			case s.entered == mono.Never || s.entered > oldest:
				rest = append(rest, j)
				continue
			case j.said > j.promised: // the past may have been full
				j.missing = 0
			}
			l.cfg.LeftOut(LeftOut{Room(r), s.client, j.check, j.missing, j.sender, j.sent})
			l.joinings--
		}
		rm.joining = rest
	}
}
