package ledger

import "tidepull/internal/base/mono"

// A Listing is what a list of a room's members was like that a client was given. A server may take
// Config.Settle to follow a change.
type Listing struct {
	To    Client
	Room  Room
	Lacks Client // who should have been in it; -1: nobody
	Extra Client // who was in it and could not; -1: nobody
	At    mono.Time
}

// A lacking is somebody whom a list lacked. The server may have known sooner than the tool that it is gone.
type lacking struct {
	Listing
	until mono.Time
}

// NamesSaid books a list of a room's members that the server gave to a client; has reports whether a client is
// in it. Of several who are missing, or too much, one is named.
func (l *Ledger) NamesSaid(c Client, r Room, has func(Client) bool, at mono.Time) {
	if l.cfg.Listed == nil || l.slot(c, r) < 0 || l.was(c, unsure, at) {
		return
	}
	rm, long := &l.rooms[r], at.Add(-l.cfg.Settle)
	said := Listing{To: c, Room: r, Lacks: -1, Extra: -1, At: at}
	for slot := range rm.seats {
		s := &rm.seats[slot]
		a, was := l.absence(s.client)
		switch listed := has(s.client); {
		case listed && !s.inside() && s.over < long:
			said.Extra = s.client
		case !listed && rm.now.bits.Has(slot) && s.entered < long && s.client != c && !l.seats[s.client].unsure &&
			!(was && a.To > long):
			said.Lacks = s.client
		}
	}
	switch {
	case said.Extra >= 0:
		said.Lacks = -1
		l.cfg.Listed(said)
	case said.Lacks >= 0:
		l.lacking.Push(lacking{said, at.Add(knownWithin)})
	default:
		l.cfg.Listed(said)
	}
}

// judgeLacking judges again who was missing in a list, if it has not gone meanwhile.
func (l *Ledger) judgeLacking(now mono.Time) {
	for l.lacking.Len() > 0 && l.lacking.At(0).until <= now {
		n := l.lacking.Pop()
		if slot := l.slot(n.Lacks, n.Room); !l.rooms[n.Room].now.bits.Has(slot) {
			continue
		}
		if a, was := l.absence(n.Lacks); was && a.To > n.At {
			continue
		}
		l.cfg.Listed(n.Listing)
	}
}
