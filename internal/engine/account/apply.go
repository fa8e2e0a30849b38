package account

import (
	"fmt"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/excuse"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/mark"
)

const noRoom ledger.Room = -1

// apply applies one fact, unless it is put off.
func (a *Account) apply(s *share, f *fact.Fact) {
	if a.apart.waits() {
		a.catchUpTo(f.At)
		switch f.Kind {
		case fact.Asks, fact.Quits, fact.IsOut, fact.Closes, fact.Suspends, fact.Resumes, fact.IsGone, fact.Goes:
			a.catchUpWith(f.Client)
		}
	}
	if !a.makesSense(s, f) {
		a.fails(f)
		return
	}
	if a.apart.machine == nil || !a.putsOff(s, f) {
		a.take(s, f)
	}
}

// fails ends the run's account for a fact that makes no sense.
func (a *Account) fails(f *fact.Fact) {
	if a.failed == nil {
		a.failed = fmt.Errorf("account: a fact makes no sense: %+v", *f)
	}
}

// take takes one fact to where it belongs, whenever it was told.
func (a *Account) take(s *share, f *fact.Fact) {
	l := a.ledger
	switch f.Kind {
	case fact.NamesRoom:
		s.rooms = append(s.rooms, l.RoomBytes(s.log.TextOf(f)))
	case fact.Asks:
		l.Ask(f.Client, s.room(f), f.At)
	case fact.Enters:
		l.Enter(f.Client, s.room(f), f.At)
	case fact.Reads:
		a.reads(s, f)
	case fact.Quits:
		a.unfollows(f.Client)
		l.Quit(f.Client, s.room(f), f.At)
	case fact.IsOut:
		a.unfollows(f.Client)
		l.Left(f.Client, s.room(f), f.At)
	case fact.Closes:
		a.unfollows(f.Client)
		l.Cease(f.Client, f.At)
	case fact.Suspends:
		a.unfollows(f.Client)
		l.Suspend(f.Client, f.At)
	case fact.Resumes:
		l.Resume(f.Client, f.At)
	case fact.IsGone:
		a.unfollows(f.Client)
		l.Break(f.Client, f.At)
	case fact.IsHindered:
		l.Hinder(f.Client, excuse.Cause(f.What), f.Time)
	case fact.IsFree:
		l.Free(f.Client, excuse.Cause(f.What), f.Time)
	case fact.Says:
		a.says(s, f)
	case fact.Unsays:
		if l.Unsay(f.Number) {
			a.book.Now().Counts.Sent--
			a.sent[f.Client]--
		}
	case fact.Pardons:
		l.Pardon(f.Number, f.Client, ledger.Pardon(f.What))
	case fact.Gets:
		a.gets(f)
	case fact.Reaches:
		if !a.reaches(f, s.log.TextOf(f)) {
			a.fails(f)
		}
	case fact.Knows:
		a.knows(f)
	case fact.Announces:
		if room := s.room(f); ledger.Kind(f.What) != ledger.Joined || !l.IsInside(room, f.Client) {
			a.announce(f.Client, ledger.Kind(f.What), room, f.At)
		}
	case fact.Withdraws:
		if number, open := l.Announced(ledger.Joined, s.room(f), f.Client, f.At); open {
			l.Cancel(number)
		}
	case fact.Goes:
		ofAll := a.trial.Dialect.Gone.Room == nil // the server announces who leaves it, not who leaves a room
		l.Inside(f.Client, func(r ledger.Room) {
			if ofAll == (r == ledger.Everyone) {
				l.Quit(f.Client, r, f.At)
				a.announce(f.Client, ledger.Gone, r, f.At)
			}
		})
	case fact.Hears:
		if room, ok := a.roomOf(s, f); ok {
			a.hears(f, room)
		}
	case fact.HearsMembers:
		if room, ok := a.roomOf(s, f); ok {
			l.MembersSaid(f.Client, room, int(int64(f.Number)), f.Time)
		}
	case fact.HearsNames:
		a.hearsNames(f, s.room(f), s.log.TextOf(f))
	case fact.WantsHistory:
		a.history[f.Client] = &history{promised: int(f.Number), least: min(int(f.Number),
			a.spokenBefore(s.room(f), a.shareOf(f.Client), f.At)),
			joins: l.JoinsPast(f.Client, s.room(f), int(f.Number), int(f.Check))}
	case fact.HasHistory:
		a.hasHistory(f)
	case fact.JudgesHistory:
		a.judgesHistory(f, string(s.log.TextOf(f)))
	case fact.Checks:
		a.checked(f.Client, noRoom, int(f.Check), f.Is(fact.Good), string(s.log.TextOf(f)), f.At)
	case fact.Happens:
		if logbook.EventKind(f.What) == logbook.Evicted {
			a.evicted(f.Client, f.Time)
		}
		a.happens(f.Client, s.room(f), logbook.EventKind(f.What), string(s.log.TextOf(f)), f.At)
	case fact.Records:
		a.lanes.Add(lane.Record{At: time.Duration(f.Time), What: lane.Happening(f.What), Number: f.Number,
			Client: f.Client, Peer: f.Peer, Room: s.room(f), Size: f.Size})
	case fact.Quotes:
		text := s.log.TextOf(f)
		a.lanes.Said(f.Number, text)
		a.ledger.Describe(f.Number, int(f.Size), ledger.TraitsOf(text, f.Is(fact.Binary)))
	case fact.Means:
		a.differing.means(f.Number, s.log.TextOf(f), f)
	case fact.Shows:
		a.differing.shows(s.log.TextOf(f), f)
	case fact.Listens:
		a.lanes.Add(lane.Record{At: time.Duration(f.Time), What: lane.Heard, Client: f.Client, Peer: -1, Room: noRoom,
			Size: f.Size, Number: a.lanes.Heard(f.Client, s.log.TextOf(f))})
	case fact.Switches:
		a.switches(f.Client, f.Time, f.Since)
	case fact.Troubles:
		a.lanes.Problem(time.Duration(f.Time), 0, false, f.Client, f.Peer)
	}
}

// makesSense reports whether what a fact is about exists. Shares may be in other
// processes.
func (a *Account) makesSense(s *share, f *fact.Fact) bool {
	known := func(c ledger.Client) bool { return c >= 0 && int(c) < len(a.crews) }
	switch f.Kind {
	case fact.Asks, fact.Enters, fact.Quits, fact.IsOut, fact.Says, fact.Announces, fact.Withdraws, fact.WantsHistory:
		if s.room(f) == noRoom {
			return false
		}
	}
	switch f.Kind {
	case fact.Says:
		if ledger.Audience(f.What) > ledger.ToNobody || f.Is(fact.Told) && !known(f.Peer) ||
			f.Is(fact.Unmarked) && !a.isRule(f.Check) {
			return false
		}
	case fact.Reads:
		if f.Check < 0 || int(f.Check) >= len(a.trial.Feeds) {
			return false
		}
	case fact.Reaches:
		return f.Client == fact.BeforeAll
	case fact.Knows:
		if !a.isRule(f.Check) || f.Peer != -1 && !known(f.Peer) {
			return false
		}
	case fact.Announces, fact.Hears:
		if k := ledger.Kind(f.What); k.Said() || k >= ledger.NumKinds || f.Kind == fact.Hears && !known(f.Peer) {
			return false
		}
	case fact.IsHindered, fact.IsFree:
		if !excuse.Cause(f.What).Lasts() {
			return false
		}
	case fact.Pardons:
		if ledger.Pardon(f.What) >= ledger.NumPardons {
			return false
		}
	case fact.HasHistory, fact.JudgesHistory, fact.Checks:
		if f.Check < 0 || int(f.Check) >= len(a.trial.Checks) {
			return false
		}
	}
	return known(f.Client)
}

// room gives the ledger's number of a fact's room.
func (s *share) room(f *fact.Fact) ledger.Room {
	if f.Room < 0 || int(f.Room) >= len(s.rooms) {
		return noRoom
	}
	return s.rooms[f.Room]
}

// roomOf is room for a fact that may name a room which its share does not know.
func (a *Account) roomOf(s *share, f *fact.Fact) (ledger.Room, bool) {
	if f.Room < 0 {
		return a.ledger.RoomNamed(s.log.TextOf(f))
	}
	r := s.room(f)
	return r, r != noRoom
}

// says opens a message's row.
func (a *Account) says(from *share, f *fact.Fact) {
	page := a.book.At(f.Time)
	page.Times[logbook.ScheduleLag].Record(f.At.Sub(f.Time))
	if f.At.Sub(f.Time) > logbook.MaxScheduleLag || a.ledger.HeldUp(f.Client, f.At) {
		page = page.SentLate() // its latency is the tool's, or the trial's
	}
	say := ledger.Say{Audience: ledger.Audience(f.What), Room: from.room(f), Sender: f.Client, Sum: f.Sum,
		Nth: int(a.sent[f.Client]-a.before[f.Client]) + 1, Apart: f.Is(fact.Apart), Unmarked: f.Is(fact.Unmarked),
		Due: f.Time, Sent: f.At, Sheet: &page.Sheet}
	rec := lane.Record{At: time.Duration(f.At), What: lane.Said, Client: f.Client, Peer: -1, Room: say.Room}
	if f.Is(fact.Told) {
		say.Kind, say.To, say.Also = ledger.Whisper, f.Peer, a.cfg.Sharers(f.Peer)
		rec.Kind, rec.Peer = say.Kind, say.To
	}
	a.sent[f.Client]++
	if rec.Number = f.Number; !a.ledger.SayAs(f.Number, say) {
		if a.failed == nil {
			a.failed = fmt.Errorf("account: message %d was told of twice, or others before it were not", f.Number)
		}
		return
	}
	if say.Unmarked {
		a.unmarked.says(int(f.Check), unmarked{f.Number, say.Room, f.Client, f.Time, f.At}, a.trial.Grace)
	}
	a.book.Now().Counts.Sent++
	a.lanes.Add(rec)
	if a.apart.waiting > 0 {
		a.catchUpOn(f.Number)
	}
}

// gets books that a marked message came, unless it has to wait.
func (a *Account) gets(f *fact.Fact) {
	if !a.comesBefore(f) {
		a.has(f)
	}
}

// has books that a marked message came.
func (a *Account) has(f *fact.Fact) {
	// The number of the room is the one that its sender's share has given to it.
	room, at, since, off := noRoom, f.Time, f.Since, time.Duration(0)
	if from := a.ledger.StreamOf(f.Number); from < len(a.shares) {
		if off = a.apart.between(from, a.shareOf(f.Client)); off > 0 {
			if since == 0 {
				since = at
			}
			at, since = at.Add(off), max(1, since.Add(-off))
		}
		room = a.shares[from].room(f)
		if a.shares[from].lost && !f.Is(fact.Foreign) && !a.ledger.Knows(f.Number) {
			return // whose message it is was never told
		}
	}
	m := mark.Mark{Run: a.cfg.Run, Room: uint32(room), Sender: uint32(f.Peer), Number: f.Number}
	if f.Is(fact.Foreign) || room == noRoom {
		m.Run++
	}
	a.got[f.Client]++
	a.arrival(ledger.Arrival{To: f.Client, Mark: m, At: at, Since: since, Past: f.Is(fact.History), Sum: f.Sum,
		Apart: off,
		Sheet: &a.book.Now().Sheet}, int(f.Size))
}

// arrival books that a marked message, or an announcement, came to a client.
func (a *Account) arrival(in ledger.Arrival, size int) {
	before := a.spokenIn(in.Mark.Room)
	v := a.ledger.Arrive(in)
	if a.spokenIn(in.Mark.Room) > before {
		a.speaks(ledger.Room(in.Mark.Room))
	}
	page := a.book.Second(v.Sheet.Second)
	page.Counts.Marked++
	a.atSwitch(&v, in, page)
	if v.Fate == ledger.CaughtUp {
		a.catches(in.To, in.At)
	}
	if (v.Fate == ledger.Delivered || v.Fate == ledger.Late) && v.Kind.Said() {
		if v.Own {
			page.Counts.Piled++
		} else {
			a.book.Of(v.Sheet).Delivery(a.crews[in.To], v.Owed, v.Latency, v.Least)
		}
	}
	if v.Fate == ledger.Overdue && v.Latency > 0 && !v.Own { // lost, and how late it came is known
		page.Counts.Overtime++
		page.Delivery(a.crews[in.To], v.Owed, v.Latency, v.Least)
	}
	rec := lane.Record{What: lane.Got, Number: in.Mark.Number, Peer: int32(in.Mark.Sender), Room: int32(in.Mark.Room),
		Fate: v.Fate, Kind: v.Kind, Size: uint32(size), Took: v.Latency}
	if v.Fate == ledger.Foreign {
		rec.What, rec.Peer, rec.Room, rec.Number = lane.Heard, -1, noRoom, 0
	}
	rec.At, rec.Client = time.Duration(in.At), in.To
	a.lanes.Add(rec)
	if rec.Odd() {
		a.lanes.Problem(rec.At, in.Mark.Number, true, in.To, rec.Peer)
	}
	if v.Defects[ledger.Altered-ledger.Reordered] {
		a.differing.altered(in, &rec)
	}
	for i, has := range v.Defects {
		if has {
			rec.Fate = ledger.Reordered + ledger.Fate(i)
			a.lanes.Add(rec)
			a.lanes.Problem(rec.At, in.Mark.Number, true, in.To, rec.Peer)
		}
	}
}

// lost keeps for the lanes that a message has not come to a client.
func (a *Account) lost(number uint64, s ledger.Say, to ledger.Client) {
	at := time.Duration(s.Sent)
	if a.switching(to, s.Sent) {
		a.book.Of(s.Sheet).Counts.Routes.LostAt++
	}
	a.lanes.Lost(lane.Record{At: at, Number: number, Client: to, Peer: s.Sender, Room: s.Room, Kind: s.Kind})
	a.lanes.Problem(at, number, s.Kind.Said(), to, s.Sender)
}

// disagreed keeps for the lanes that a message came to a client in another order than
// to others.
func (a *Account) disagreed(number uint64, s ledger.Say, to ledger.Client) {
	at := time.Duration(s.Sent)
	a.lanes.Add(lane.Record{At: at, What: lane.Got, Number: number, Client: to, Peer: s.Sender, Room: s.Room,
		Kind: s.Kind, Fate: ledger.Disagreed})
	a.lanes.Problem(at, number, true, to, s.Sender)
}

// happens books that something happened in a client's life.
func (a *Account) happens(c ledger.Client, room ledger.Room, what logbook.EventKind, detail string, at mono.Time) {
	if what == logbook.Opened {
		a.before[c] = a.sent[c]
	}
	if l, ok := laneOf[what]; ok {
		a.lanes.Add(lane.Record{At: time.Duration(at), What: l, Client: c, Peer: -1, Room: room})
	}
	if a.recorded < logbook.MaxEvents {
		a.recorded++
		a.events = append(a.events, logbook.Event{At: time.Duration(at), Client: c, Room: room, What: what,
			Detail: detail})
	}
}

// laneOf says what an event is in a lane.
var laneOf = map[logbook.EventKind]lane.Happening{
	logbook.SetOut: lane.SetOut, logbook.Opened: lane.Opened, logbook.Entered: lane.Entered, logbook.Left: lane.Left,
	logbook.Closed: lane.Closed, logbook.Evicted: lane.Evicted, logbook.Misbehaved: lane.Misbehaved,
	logbook.Hindered: lane.Refused, logbook.Impaired: lane.Impaired, logbook.Mended: lane.Mended,
	logbook.SteppedDown: lane.SteppedDown, logbook.SteppedUp: lane.SteppedUp, logbook.CameBack: lane.CameBack,
	logbook.GaveUp: lane.Closed, logbook.Broke: lane.Broke, logbook.Refused: lane.Refused, logbook.Denied: lane.Denied,
}
