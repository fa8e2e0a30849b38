// Package account keeps the account of a run: it takes the facts that the shares of
// its clients tell (package fact), in the order of time, to the ledger, to the pages
// of the seconds, and to the lanes.
//
// The account is one, however many shares there are: every figure comes out of one
// sequence of facts, which is the same for any number of shares. What goes on at one
// instant is put into the order of the clients.
//
//	shares ──fact.Batch──> Account ──Report──> run
//
// An Account has one owner at a time and reads no clock. Its times count from the start
// of the run.
package account

import (
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
)

// Config says what an Account is of.
type Config struct {
	Trial  *trial.Trial
	Run    uint32 // as it stands in the marks
	Shares int    // how many tell facts
	// Machines says on which machine each share is, if there are several; their clocks agree only so far.
	Machines []int
	Names    []string // of the clients, by number; to be shown
	// Sharers gives all clients that have the name of one, if there are several.
	Sharers func(ledger.Client) []ledger.Client
	// Followed are the clients whose lanes are kept whole.
	Followed []ledger.Client
}

const (
	keepWrong = 1000 // messages with something wrong that are kept whole
	keepGood  = 200  // of the good ones
)

// An Account is that of one run.
type Account struct {
	switched map[ledger.Client]span // the last change of a client's route; nil: there was none

	cfg    Config
	trial  *trial.Trial
	ledger *ledger.Ledger
	book   *logbook.Book
	lanes  *lane.Recorder
	shares []share
	now    mono.Time // of the fact at hand
	caught mono.Time // the least of the shares'
	end    mono.Time // when the last share ended
	close  mono.Time // when seconds are closed next
	failed error
	crews  []uint16 // by client

	reasons    logbook.Reasons
	events     []logbook.Event              // since the last report
	recorded   int                          // events so far
	sent, got  []uint32                     // by client
	before     []uint32                     // by client: of those sent, before its connection
	catching   map[ledger.Client]catching   // clients that are back, and catch up
	departures map[ledger.Client]*departure // nil if nothing is promised of heartbeats
	early      int                          // times in all of them
	history    map[ledger.Client]*history
	differing  differing // what came otherwise than it was said
	feeds      feeds
	heads      []*share               // used again
	unmarked   unmarkeds              // messages without a mark that are under way
	rumours    rumours                // announcements that may yet prove true
	alikes     map[called][]alike     // of clients under one name: the announcements of the grace time, by time
	listed     map[ledger.Client]bool // of the list of members at hand
	apart      apart                  // shares on other machines
	ticks      int                    // of the last report
	closed     []*logbook.Entry       // seconds that are over here, and perhaps not for the shares
}

// A share is what is known of one.
type share struct {
	log    fact.Log // facts that wait for those of others
	next   int      // the first of them that is not worked through
	sorted int      // up to here they are in order
	upTo   mono.Time
	caught mono.Time     // silence up to here is an answer
	read   mono.Time     // up to here what came was read; earlier than caught if it is too far behind
	rooms  []ledger.Room // the ledger's numbers, by the share's own
	part   fact.Part     // the last; Closed are those that are not reported yet
	lost   bool          // what its clients said last was not told
}

// New makes the account of a run that begins.
func New(cfg Config) *Account {
	t := cfg.Trial
	a := &Account{cfg: cfg, trial: t, book: logbook.NewBook(0, len(t.Crews)), shares: make([]share, cfg.Shares),
		lanes: lane.New(t.Grace + 4*time.Second), ticks: -1, catching: map[ledger.Client]catching{},
		history: map[ledger.Client]*history{}, alikes: map[called][]alike{},
		sent: make([]uint32, t.Clients()), got: make([]uint32, t.Clients()),
		before: make([]uint32, t.Clients())}
	if t.Target.Promise != nil {
		a.departures = map[ledger.Client]*departure{}
	}
	a.apart = newApart(cfg.Machines)
	c := ledger.Config{Run: cfg.Run, Crews: len(t.Crews), Shares: cfg.Shares, Announcements: t.Dialect.Announces(),
		Prompt: t.Prompt, Grace: t.Grace, Keep: keepWrong, Sample: keepGood, Order: t.Target.Order,
		PastIsLive: t.Dialect.PastIsLive, Streams: !t.Target.HasDatagrams() && len(t.Target.Routes) <= 1,
		Spread: func(s ledger.Spread) { a.book.Of(s.Sheet).Spread(s) }, Lost: a.lost, Disagreed: a.disagreed}
	if d := &cfg.Trial.Dialect; cfg.Machines == nil && (d.PastSeq == nil || d.Heard.Seq == nil) { // else numbers tell
		c.LeftOut = a.leftOut
	}
	if t.Dialect.Presence.Names != nil {
		c.Listed, a.listed = a.listedWrong, map[ledger.Client]bool{}
	}
	if t.Dialect.Presence.When != nil {
		c.Settle, c.Presence = t.Dialect.Presence.Within, a.counted
		c.CountAll, c.Updates = t.Dialect.Presence.Room == nil, t.Dialect.Presence.Updates
	}
	a.ledger = ledger.New(c)
	a.ledger.Expect(t.Clients())
	for crew := range t.Crews {
		for range t.Crews[crew].Clients {
			a.ledger.AddClient(uint16(crew))
			a.crews = append(a.crews, uint16(crew))
		}
	}
	for i := range a.shares {
		a.shares[i].part.Tick = -1
		a.shares[i].rooms = []ledger.Room{ledger.Everyone}
	}
	for _, c := range cfg.Followed {
		a.lanes.Follow(c)
	}
	return a
}

// Take takes what a share has to tell; the batch's log is empty afterwards. Nothing is
// worked through before Work.
func (a *Account) Take(from int, b *fact.Batch) {
	s := &a.shares[from]
	if s.next > 0 {
		s.log.Drop(s.next)
		s.sorted, s.next = s.sorted-s.next, 0
	}
	if len(s.log.Facts) == 0 {
		s.sorted = 0
	}
	s.log.TakeOver(&b.Log)
	s.lost = b.Lost
	if a.apart.machine != nil {
		a.apart.off[from] = b.Off
	}
	if s.upTo = b.UpTo; b.Ended {
		a.end, s.upTo = max(a.end, b.UpTo), mono.Never
	}
	if b.Part != nil {
		closed := append(s.part.Closed, b.Part.Closed...)
		s.part = *b.Part
		s.part.Closed = closed
	}
}

// Ended reports whether all shares have told that there is nothing more.
func (a *Account) Ended() bool { return a.tick() == fact.LastTick }

// Work works through all facts that are told, in the order of time, up to the instant
// from which on some share may still have others to tell. An error says that facts are
// missing or make no sense.
func (a *Account) Work() error {
	horizon := mono.Never
	for i := range a.shares {
		horizon = min(horizon, a.shares[i].upTo)
	}
	for h := a.headsOf(horizon); len(h.shares) > 0; {
		a.workThrough(h.shares[0], horizon, h.second())
		h.sinkFirst()
	}
	if horizon == mono.Never {
		a.catchUpTo(mono.Never)
		a.moveTo(a.end)
		a.settle(mono.Never - 1)
		a.lanes.Settle(1 << 62)
		return a.failed
	}
	a.moveTo(horizon)
	a.catchUpTo(horizon)
	a.lanes.Settle(time.Duration(a.now))
	return a.failed
}

// before is the order in which the facts of different shares are worked through.
func before(f, g *fact.Fact) bool { return f.At < g.At || f.At == g.At && f.Client < g.Client }

// head is the share's next fact before the horizon, or nil.
func (s *share) head(horizon mono.Time) *fact.Fact {
	if s.next == len(s.log.Facts) || s.log.Facts[s.next].At >= horizon {
		return nil
	}
	if s.next >= s.sorted {
		s.sorted = s.log.SortEqual(s.next) // no more of this instant can come
	}
	return &s.log.Facts[s.next]
}

// workThrough works through a share's facts as long as they come before those of the
// others.
func (a *Account) workThrough(s *share, horizon mono.Time, others *share) {
	var other *fact.Fact
	if others != nil {
		other = others.head(horizon)
	}
	for f := s.head(horizon); f != nil; f = s.head(horizon) {
		if f.Kind == fact.Caught {
			s.caught, s.read = f.Time, f.Since
			a.caught = mono.Never
			read := mono.Never
			for i := range a.shares {
				a.caught, read = min(a.caught, a.shares[i].caught), min(read, a.shares[i].read)
			}
			if read >= a.caught {
				read = mono.Never
			}
			a.ledger.ReadUpTo(read)
		} else {
			a.moveTo(f.At)
			a.apply(s, f)
		}
		s.next++
		if next := s.head(horizon); other != nil && next != nil && !before(next, other) {
			return
		}
	}
}

// moveTo moves the account's time, and settles what is due by then. Seconds are closed at
// instants that do not depend on how far the shares were worked through at once.
func (a *Account) moveTo(t mono.Time) {
	for t >= a.close {
		a.stepTo(a.close)
		g := &a.book.Now().Gauges
		*g = logbook.Gauges{Planned: a.trial.Planned(time.Duration(a.now))}
		for i := 1; i < a.ledger.Rooms(); i++ {
			g.Entered += a.ledger.Members(ledger.Room(i))
		}
		a.closed = append(a.closed, a.book.TakeClosed(false)...)
		a.close = a.close.Add(closeEvery)
	}
	a.stepTo(t)
}

const closeEvery = 250 * time.Millisecond

func (a *Account) stepTo(t mono.Time) {
	if t > a.now {
		a.now = t
		a.book.Advance(t)
	}
	if to := min(t, a.caught); to >= min(a.ledger.NextSettlement(), a.rumours.due(a.trial.Grace), a.feedsDue()) {
		a.settle(to)
	}
}

// settle judges what silence says up to an instant.
func (a *Account) settle(to mono.Time) {
	a.ledger.Settle(to)
	a.settleRumours(to)
	a.settleFeeds(to)
}
