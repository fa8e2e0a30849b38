package engine

import (
	"context"
	"runtime/debug"
	"slices"
	"sync/atomic"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/client"
	"tidepull/internal/engine/impair"
	"tidepull/internal/engine/machine"
	"tidepull/internal/engine/poll"
	"tidepull/internal/engine/traffic"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/mark"
	"tidepull/internal/trial"
	"tidepull/internal/wire"
	"tidepull/internal/wire/transport"
)

const (
	reportEvery = 250 * time.Millisecond
	lookAgain   = 2 * time.Millisecond
)

// A share owns some of a run's clients: client n belongs to share n modulo the number
// of shares. All its fields belong to its goroutine, but for the channel, the mailbox
// and stopped.
type share struct {
	cfg    *Config
	engine *Engine
	trial  *trial.Trial
	number int
	drv    poll.Driver
	stop   chan struct{}
	thrown chan thrown // faults by hand
	mail   mailbox

	env        *client.Env
	book       *logbook.Book
	clients    []client.Client // by number divided by the number of shares
	stride     int32           // how many clients the biggest share has
	timers     *timers
	tideGroups []tideGroup
	late       []lateStart
	load       load
	troubles   troubles
	grid       mono.Time // the next instant at which the tide is looked at
	start      mono.Time
	stopped    atomic.Bool
	gauges     gauges
	conductor  *conductor // nil but for the first share of a run that is all here

	turned       mono.Time        // when the last pass of the loop began
	asleep       mono.Time        // until when it may have waited
	endBy        mono.Time        // when all clients are cut off, come what may; 0: not set
	path         *impair.Driver   // what faults do to what goes over lines; nil if no fault does any
	kernel       *traffic.Driver  // nil: the system does nothing on the path of clients
	faultEdges   []faultEdge      // of faults that happen to clients, still to come, by time
	activeFaults []*activeFault   // that are under way
	effects      []*trial.Effects // of clients' paths, by where they stand in the share; nil: none
	dropped      int              // datagrams, by this machine, up to the last look
	stalled      time.Duration    // since measureSelf was last called
	tainted      logbook.Overload // why seconds up to taintedTo say nothing of the server
	taintedTo    mono.Time

	ticks       int // parts told so far
	batch       fact.Batch
	read        []fact.Note // that were in the mailbox
	answers     []fact.Note // of the conductor
	markedWait  time.Duration
	markedAt    mono.Time
	markedUse   machine.Use
	markedPause time.Duration
	gc          debug.GCStats
	failure     error
}

func newShare(e *Engine, number int) *share {
	s := &share{cfg: &e.cfg, engine: e, trial: e.cfg.Trial, number: number, drv: e.cfg.Drivers[number-e.cfg.First],
		stop: make(chan struct{}, 1), thrown: make(chan thrown, 16)}
	s.mail.wake = s.drv.Wake
	return s
}

func (s *share) setUp(start mono.Time, names *client.Names) {
	t, shares := s.trial, s.cfg.Shares
	s.start = start
	s.book = logbook.NewBook(s.start, len(t.Crews))
	s.book.Close = s.measureSelf
	s.book.Hold = int(t.Grace/time.Second) + 2 // a stall marks what was under way when it began
	s.env = client.NewEnv(t, names, s.book)
	s.env.Share, s.env.Shares = s.number, shares
	s.env.Run, s.env.Places = s.cfg.Run, s.cfg.Places
	for _, io := range [...]*transport.IO{&s.env.IO, &s.env.Beside} {
		io.Find, io.WallOffset = s.cfg.Find, mono.WallOffset()
	}
	if s.cfg.OneByOne {
		s.env.TellsOneByOne()
	}
	s.env.Side, s.env.Web = s.cfg.Web, s.cfg.WebHost
	s.env.Gone = func(c ledger.Client) mono.Span { return s.drv.Gone(s.local(c)) }
	s.env.Queued = func(c ledger.Client) int { return s.drv.Queued(s.local(c)) }
	s.env.ReadUpTo = s.drv.CaughtUp
	s.env.Hindered = s.hindered
	s.env.Doubtful = s.doubtful
	s.env.Epoch = mono.WallOffset()/1000 - mark.Epoch
	s.stride = int32((t.Clients() + shares - 1) / shares)
	s.clients = make([]client.Client, 0, s.stride)
	if s.number == 0 && s.cfg.Elsewhere == nil {
		s.conductor = newConductor(t)
	}
}

// ready ends the set-up, once the clients are there.
func (s *share) ready() {
	s.timers = newTimers(len(s.clients))
	s.gauges.standing = make([]standing, len(s.clients))
	s.gauges.all[0] = int64(len(s.clients))
	s.tideGroups = tideGroups(s.trial)
	s.load = load{booked: s.start, connecting: make([]mono.Time, len(s.clients))}
	s.grid = s.start
	s.faultEdges, s.effects = faultEdges(s.trial), make([]*trial.Effects, len(s.clients))
	if len(s.cfg.Paths) > 0 {
		s.path = s.cfg.Paths[s.number-s.cfg.First]
		s.path.For = func(id int32) *trial.Effects { return s.effects[id%s.stride] }
		s.path.Lost, s.path.Doubled = s.onPath((*client.Client).LostOnPath), s.onPath((*client.Client).DoubledOnPath)
		s.path.Corrupted = s.onPath((*client.Client).CorruptedOnPath)
	}
	if len(s.cfg.Kernels) > 0 {
		s.kernel = s.cfg.Kernels[s.number-s.cfg.First]
		s.kernel.For = func(id int32) *trial.Effects { return s.effectsOn(id%s.stride, true) }
	}
	s.markedAt, s.markedWait, s.markedUse = s.start, s.drv.Blocked(), s.cfg.Use()
	s.markedPause = s.gcPause()
}

// since is how long the run has gone on.
func (s *share) since(now mono.Time) time.Duration { return now.Sub(s.start) }

// local is where a client of the share stands in it.
func (s *share) local(id ledger.Client) int32 { return id / int32(s.cfg.Shares) }

// mine reports whether a client is the share's.
func (s *share) mine(id ledger.Client) bool { return int(id)%s.cfg.Shares == s.number }

// run carries out what the share has to do of the trial.
func (s *share) run(ctx context.Context) error {
	defer s.drv.Close()
	for !s.over() {
		now := s.drv.Now()
		s.noticeStall(now)
		s.noticeDropped(now)
		s.book.Advance(now)
		s.takeOrders(ctx)
		s.takeNotes(now)
		s.endInTime(now)
		s.followTide(now)
		s.happen(now)
		s.fireTimers(now)
		s.takeNotes(now)
		s.flushFacts(now)
		s.turned, s.asleep = now, s.wake(now)
		if err := s.drv.Wait(s.asleep, s); err != nil {
			s.failure = err
		}
	}
	s.finish()
	return s.failure
}

func (s *share) takeOrders(ctx context.Context) {
	select {
	case <-s.stop:
		if s.stopped.Swap(true) {
			break // it was stopped before, and has its time
		}
		for len(s.activeFaults) > 0 { // the clients are to close in order
			s.endFault(s.activeFaults[0], s.drv.Now())
		}
		s.faultEdges, s.endBy = nil, s.drv.Now().Add(stopWithin)
	case t := <-s.thrown:
		s.throw(t)
	case <-ctx.Done():
		s.failure = ctx.Err()
	default:
	}
}

// flushFacts hands over what was told, and four times a second what the share measured
// itself. What is told later has a time from now on.
func (s *share) flushFacts(now mono.Time) {
	s.env.CaughtUp(s.heardUpTo(now), s.readUpTo(now))
	s.batch.Log, s.env.Facts = s.env.Facts, s.batch.Log
	s.batch.UpTo, s.batch.Part = mono.Time(s.since(s.drv.Now())), nil
	if ticks := int(s.since(now) / reportEvery); ticks >= s.ticks {
		s.ticks = ticks + 1
		s.batch.Part = s.part(ticks, false)
	}
	s.deliver()
}

// deliver hands the batch over.
func (s *share) deliver() {
	if s.cfg.Off != nil {
		s.batch.Off = s.cfg.Off(s.number)
	}
	if err := s.engine.deliverFacts(s.number, &s.batch); err != nil {
		s.failure = err
	}
}

// part is what the share measured itself.
func (s *share) part(tick int, all bool) *fact.Part {
	if s.cfg.Verify {
		s.gauges.verify(s.clients, &s.trial.Target)
	}
	s.load.book(s.loadCounts(), min(s.drv.Now(), s.start.Add(time.Duration(s.book.Now().At+1)*time.Second)))
	s.gauges.book(s.book.Now())
	s.countPath()
	p := &fact.Part{Tick: tick, Reasons: s.env.Reasons.All(), Said: slices.Clone(s.env.Said)}
	p.Closed, p.Open = s.book.Take(all)
	if s.number == s.cfg.First && s.engine.real {
		p.Grown = max(0, machine.Resident()-s.engine.resident)
	}
	return p
}

// finish hands over the last of what was told.
func (s *share) finish() {
	now := s.drv.Now()
	s.book.Advance(now)
	s.load.book(s.loadCounts(), now)
	s.gauges.book(s.book.Now())
	s.measureSelf(s.book.Now())
	s.book.Now().Judge()
	s.env.CaughtUp(mono.Never, mono.Never)
	s.batch = fact.Batch{Log: s.env.Facts, UpTo: mono.Time(s.since(now)), Ended: true,
		Part: s.part(fact.LastTick, true)}
	s.deliver()
}

func (s *share) fireTimers(now mono.Time) {
	for {
		i, when := s.timers.first()
		if when > now {
			return
		}
		c := &s.clients[i]
		if c.AwaitsServer() && c.Next() > s.heardUpTo(now) {
			s.timers.set(i, now.Add(lookAgain)) // the answer may be here, and not read yet
			continue
		}
		s.lags(s.second(now), now.Sub(when))
		c.Tick(s.env, s.drv.Now())
		s.after(i)
	}
}

// after does what a client asked for.
func (s *share) after(i int32) {
	c, e := &s.clients[i], s.env
	for asked := true; asked; {
		s.boundQueues(i)
		var dial [2 * transport.NumLines]*wire.Endpoint
		sent := &s.book.Now().Counts.Routes
		for k, io := range [...]*transport.IO{&e.IO, &e.Beside} {
			sent.Asked += int64(io.Asked)
			io.Asked = 0
			if !io.Asks() {
				continue
			}
			for line := range io.Lines {
				if w := &io.Lines[line]; w.Asks() {
					sent.BytesUp += int64(len(w.Out))
					if !s.serve(s.lineID(i, line+k*transport.NumLines), w) {
						c.Unsent(e, line+k*transport.NumLines, s.drv.Now())
					}
					dial[line+k*transport.NumLines] = w.Dial
				}
			}
			io.Clear()
		}
		asked = false
		for line, to := range dial {
			if to == nil {
				continue
			}
			sent.Dials++
			if err := s.drv.Dial(s.lineID(i, line), *to); err != nil {
				c.Broke(e, line, s.drv.Now(), err)
				asked = e.IO.Asks() || e.Beside.Asks() // a failed attempt may have led to the next
			}
		}
	}
	s.timers.set(i, c.Next())
	s.seesLoad(i)
	s.gauges.sees(i, standingOf(c, &s.trial.Target))
}

// serve does what is asked for of one line, but for dialling. It reports false if what
// was to be sent could not be, as the connection is gone.
func (s *share) serve(id int32, w *transport.Line) bool {
	sent := w.Send(id, s.drv.Write)
	switch {
	case w.Abort:
		s.drv.Abort(id)
	case w.Hangup:
		s.drv.CloseWhenFlushed(id)
	}
	if w.Hold || w.Resume {
		s.drv.Hold(id, w.Hold)
	}
	if w.Plug && s.unplugged(id%s.stride) { // a fault still keeps everything from it
		w.Plug = false
	}
	if (w.Unplug || w.Plug) && !s.drv.Unplug(id, w.Unplug) && w.Unplug {
		s.env.Reasons.Count("this system cannot unplug a client: it only stops reading", 1)
		s.drv.Hold(id, true)
	}
	return sent
}

// Accepted does not happen: a share does not listen.
func (s *share) Accepted(int32) {}

// lineID is the driver's number for a line of a client.
func (s *share) lineID(i int32, line int) int32 { return i + int32(line)*s.stride }

// lineOf is the opposite of lineID.
func (s *share) lineOf(id int32) (i int32, line int) { return id % s.stride, int(id / s.stride) }

// Opened implements poll.Handler.
func (s *share) Opened(id int32) {
	i, line := s.lineOf(id)
	now := s.drv.Now()
	s.heed(now)
	s.clients[i].Connected(s.env, line, now)
	s.after(i)
}

// Data implements poll.Handler.
func (s *share) Data(id int32, b []byte, came mono.Span) {
	now := s.drv.Now()
	s.book.Advance(now)
	s.heed(now)
	i, line := s.lineOf(id)
	s.clients[i].Data(s.env, line, b, came, now)
	s.after(i)
}

// Broke implements poll.Handler.
func (s *share) Broke(id int32, err error) {
	now := s.drv.Now()
	s.heed(now)
	i, line := s.lineOf(id)
	s.clients[i].Broke(s.env, line, now, err)
	s.after(i)
}

// wake is when the share must act even if nothing arrives.
func (s *share) wake(now mono.Time) mono.Time {
	_, until := s.timers.first()
	until = min(until, s.start.Add(time.Duration(s.ticks)*reportEvery))
	if !s.stopped.Load() && s.since(now) <= s.trial.Ends() {
		until = min(until, s.grid)
	}
	if len(s.faultEdges) > 0 {
		until = min(until, s.start.Add(s.faultEdges[0].at))
	}
	return until
}

// over reports whether the tide is over and all clients have ended.
func (s *share) over() bool {
	if s.failure != nil {
		return true
	}
	if !s.stopped.Load() && s.since(s.drv.Now()) <= s.trial.Ends() {
		return false
	}
	return s.gauges.out() == 0 && len(s.late) == 0
}
