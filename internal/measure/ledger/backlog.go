package ledger

import (
	"slices"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/excuse"
)

// A backlog is what is owed to a client that reads slowly and had not come when its message was settled: it may
// wait to be read, or the server may have dropped it. It was dropped if something comes over the same connection
// that was said a grace time later, or if it has not come a grace time after the client reads on.
type backlog struct {
	all    []waiting // by when they were sent
	judged bool      // it is in Ledger.backlogs
}

// A waiting is one delivery of it.
type waiting struct {
	row   *row // a copy of what is needed to book it
	asked mono.Time
}

// Bounds of the backlog of one client: what is beyond them is excused. What waits keeps the second of its message
// open.
const (
	maxBacklog  = 1 << 12
	longBacklog = 30 * time.Second
)

// putsOff keeps a delivery of a row that is being settled until it is known what became of it; false if that
// will not be known.
func (l *Ledger) putsOff(r *row, slot int) bool {
	seat := &l.rooms[r.say.Room].seats[slot]
	c, sent := seat.client, r.say.Sent
	x, slow := l.excuses.Find(c, excuse.Of(excuse.SlowReader), sent, sent.Add(l.cfg.Grace))
	others := (unread | away | excuse.Of(excuse.HungUp)) &^ excuse.Of(excuse.SlowReader)
	in := seat.at(sent)
	if !slow || !l.cfg.Streams || !r.say.Kind.Said() || r.say.Unmarked || r.garbled || r.lostOnPath.Has(slot) ||
		!l.cameToIt(r) || l.was(c, others, sent) || in.ceased != mono.Never || in != &seat.stay {
		return false
	}
	s := &l.seats[c]
	if s.backlog == nil {
		s.backlog = &backlog{}
	}
	b := s.backlog
	if len(b.all) >= maxBacklog {
		return false
	}
	kept := r.putOff()
	b.all = append(b.all, waiting{kept, in.asked})
	l.judgesBacklog(c, min(x.To, sent.Add(longBacklog)).Add(l.cfg.Grace))
	return true
}

// judgesBacklog has the backlog of a client judged at a time, if that is not to be anyway.
func (l *Ledger) judgesBacklog(c Client, at mono.Time) {
	if b := l.seats[c].backlog; b != nil && !b.judged && len(b.all) > 0 {
		b.judged = true
		l.backlogs.Put(at, c)
	}
}

// comesOfBacklog books what comes to a client that had been put off; false if it had not been.
func (l *Ledger) comesOfBacklog(a Arrival) (v Verdict, is bool) {
	s := &l.seats[a.To]
	if s.backlog == nil {
		return v, false
	}
	i := slices.IndexFunc(s.backlog.all, func(w waiting) bool { return w.row.number == a.Mark.Number })
	if i < 0 {
		return v, false
	}
	w := s.backlog.all[i]
	v = Verdict{Fate: Delivered, Sheet: w.row.say.Sheet, Kind: w.row.say.Kind, Own: true,
		Latency: max(0, a.At.Sub(w.row.say.Due))}
	l.hadSettled(a) // now it has
	l.endsWaiting(a.To, i, Delivered)
	l.passesBacklog(a.To, w.row.say.Sent)
	return v, true
}

// passesBacklog books that something came live to a client that was said at a time: what was said a grace time
// before it, and was to come over the same connection, comes no more.
func (l *Ledger) passesBacklog(c Client, said mono.Time) {
	b := l.seats[c].backlog
	for b != nil && len(b.all) > 0 && b.all[0].row.say.Sent.Add(l.cfg.Grace) <= said {
		l.endsWaiting(c, 0, Lost)
	}
}

// endsWaiting books what became of one delivery of a backlog. What left its room meanwhile, or has another
// connection, is nobody's loss.
func (l *Ledger) endsWaiting(c Client, i int, f Fate) {
	b := l.seats[c].backlog
	w := b.all[i]
	b.all = slices.Delete(b.all, i, i+1)
	say := &w.row.say
	seat := &l.rooms[say.Room].seats[l.slot(c, say.Room)]
	if f == Lost && (seat.ceased != mono.Never || seat.asked != w.asked || l.was(c, away, say.Sent)) {
		f = Excused
	}
	*say.Sheet.cells[w.row.cell+int(l.seats[c].crew)].Of(f)++
	say.Sheet.live--
	if f == Lost && l.cfg.Lost != nil {
		l.cfg.Lost(w.row.number, *say, c)
	}
}

// settleBacklogs judges what clients should have got by now that read on, and excuses what has waited for long.
func (l *Ledger) settleBacklogs(now mono.Time) {
	for _, c, is := l.backlogs.Take(now); is; _, c, is = l.backlogs.Take(now) {
		b := l.seats[c].backlog
		b.judged = false
		slow, _ := l.excuses.Last(c, excuse.SlowReader)
		for len(b.all) > 0 {
			sent := b.all[0].row.say.Sent
			switch {
			case slow.To != mono.Never && slow.To.Add(l.cfg.Grace) <= now && now < mono.Never-1:
				l.endsWaiting(c, 0, Lost)
				continue
			case sent.Add(longBacklog+l.cfg.Grace) <= now:
				l.endsWaiting(c, 0, Excused)
				continue
			}
			l.judgesBacklog(c, min(slow.To, sent.Add(longBacklog)).Add(l.cfg.Grace))
			break
		}
	}
}

// dropsBacklog books that a client's connection is gone, with what waited to be read.
func (l *Ledger) dropsBacklog(c Client) {
	for b := l.seats[c].backlog; b != nil && len(b.all) > 0; {
		l.endsWaiting(c, 0, Excused)
	}
}
