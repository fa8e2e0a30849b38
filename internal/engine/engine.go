// Package engine carries out a trial: a Loop is one goroutine with one driver
// that owns its clients, their timers, the ledger and the pages of the logbook,
// with no locks. What it measures leaves it as Reports.
package engine

import (
	"context"
	"fmt"
	"maps"
	"runtime"
	"runtime/debug"
	"slices"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/client"
	"tidepull/internal/engine/machine"
	"tidepull/internal/engine/poll"
	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/mark"
	"tidepull/internal/trial"
	"tidepull/internal/wire"
	"tidepull/internal/wire/transport"
)

// Config is what a Loop needs.
type Config struct {
	Trial   *trial.Trial
	Driver  poll.Driver // the loop takes it over and closes it
	To      wire.Endpoint
	Host    string // for the Host field
	Path    string
	Web     wire.Endpoint // for HTTP requests
	WebHost string        // for their Host field
	Run     uint32        // 20 bits that tell this run's marks from others
	// Use reads what the process has used of the machine; nil: machine.Now. In
	// virtual time it says nothing.
	Use func() machine.Use
}

// A Report is what a loop has to tell, four times a second. It is immutable.
type Report struct {
	Start   mono.Time
	Names   []string // of the clients, by number
	Elapsed time.Duration
	Leg     string           // of the tide; "" once it is over
	Closed  []*logbook.Entry // seconds that are over and settled, each reported once
	Open    []*logbook.Entry // the others, as they stand
	Rooms   []string         // by number
	Events  []logbook.Event  // in clients' lives, each reported once
	Sent    []uint32         // messages that each client has said
	Got     []uint32         // marked messages that each client has received
	Reasons map[string]int   // why connections were refused or broke, and what was missed
	Kept    []ledger.Message // messages with something wrong, all so far
	Sampled []ledger.Message // of the good ones
	Lanes   []lane.Record    // each reported once, in no order
	Bodies  []lane.Body      // of messages in the lanes, each reported once
	Unkept  int
	Held    int // reports that could not be handed over in time and were put off
	Last    bool
}

// An Unreachable is why a run ended before a single connection was agreed on.
type Unreachable struct {
	To      string
	Reasons []string
}

func (e *Unreachable) Error() string {
	return fmt.Sprintf("no connection to %s could be opened: %v", e.To, e.Reasons)
}

const (
	reportEvery = 250 * time.Millisecond
	tideStep    = 5 * time.Millisecond
	lookAgain   = 2 * time.Millisecond
	// startsPerTurn bounds the clients that set out before what has arrived in
	// the meantime is read: connecting takes the kernel a while.
	startsPerTurn = 32
	giveUpAfter   = 20 // refusals, before any connection was agreed on
	keepWrong     = 1000
	keepGood      = 200
)

// A Loop owns the clients of a run. All its fields belong to its goroutine,
// but for the channels.
type Loop struct {
	cfg     Config
	drv     poll.Driver
	reports chan Report
	stop    chan struct{}

	env     *client.Env
	book    *logbook.Book
	ledger  *ledger.Ledger
	clients []client.Client
	timers  *timers
	basins  []basin
	start   mono.Time
	stopped bool
	names   []string

	turned    mono.Time        // when the last turn began
	asleep    mono.Time        // until when it may have waited
	endBy     mono.Time        // when all clients are cut off, come what may; 0: not set
	stalled   time.Duration    // since measureSelf was last called
	tainted   logbook.Overload // why seconds up to taintedTo say nothing of the server
	taintedTo mono.Time

	nextReport  mono.Time
	unsent      Report // what could not be handed over
	markedWait  time.Duration
	markedAt    mono.Time
	markedUse   machine.Use
	markedPause time.Duration
	gc          debug.GCStats
	failure     error
}

// New makes a loop for a trial. It does nothing until Run.
func New(cfg Config) *Loop {
	if cfg.Use == nil {
		cfg.Use = machine.Now
	}
	return &Loop{cfg: cfg, drv: cfg.Driver, reports: make(chan Report, 8), stop: make(chan struct{}, 1)}
}

// Reports gives what the loop has to tell. The last report has Last set; then
// the channel is closed. A reader that is slow does not slow the loop.
func (l *Loop) Reports() <-chan Report { return l.reports }

// Stop makes the tide fall at once: every client finishes its session and
// closes, what is open is settled, and the run ends. It may be called from any
// goroutine, and more than once.
func (l *Loop) Stop() {
	select {
	case l.stop <- struct{}{}:
	default:
	}
}

// Run carries the trial out and returns when it is over: nil after a whole run
// and after Stop, an *Unreachable if the target could not be reached, and
// the context's error if that ended first.
func (l *Loop) Run(ctx context.Context) error {
	runtime.LockOSThread() // so that the thread's processor time is the loop's
	defer runtime.UnlockOSThread()
	defer close(l.reports)
	defer l.drv.Close()
	l.setUp()
	for !l.over() {
		now := l.drv.Now()
		l.noticeStall(now)
		l.book.Advance(now)
		l.takeOrders(ctx)
		l.checkReach()
		l.endInTime(now)
		l.followTide(now)
		l.fireTimers(now)
		l.letGo()
		l.env.Lanes.Settle(now.Sub(l.start))
		l.ledger.Settle(l.heardUpTo(now)) // what came in time may not be read yet
		l.env.SettleRumours(l.heardUpTo(now))
		if now >= l.nextReport {
			l.report(now)
		}
		l.turned, l.asleep = now, l.wake(now)
		if err := l.drv.Wait(l.asleep, l); err != nil {
			l.failure = err
		}
	}
	l.finish(ctx)
	return l.failure
}

func (l *Loop) setUp() {
	t := l.cfg.Trial
	l.start = l.drv.Now()
	l.book = logbook.NewBook(l.start, len(t.Crews))
	l.book.Close = l.measureSelf
	c := ledger.Config{Run: l.cfg.Run, Crews: len(t.Crews), Prompt: t.Prompt, Grace: t.Grace, Keep: keepWrong,
		Sample: keepGood, Order: t.Target.Order,
		Spread:    func(s ledger.Spread) { l.book.Of(s.Sheet).Spread(s) },
		Lost:      func(number uint64, s ledger.Say, to ledger.Client) { l.env.LostTo(number, s, to, l.drv.Now()) },
		Disagreed: func(number uint64, s ledger.Say, to ledger.Client) { l.env.DisagreedAt(number, s, to) }}
	if t.Dialect.Presence.When != nil {
		c.Settle, c.Presence = t.Dialect.Presence.Within, func(n ledger.Count) { l.env.Counted(n, l.drv.Now()) }
	}
	l.ledger = ledger.New(c)
	l.env = client.NewEnv(t, l.ledger, l.book)
	l.env.Run, l.env.Main, l.env.Host, l.env.Path = l.cfg.Run, l.cfg.To, l.cfg.Host, l.cfg.Path
	l.env.Side, l.env.Web = l.cfg.Web, l.cfg.WebHost
	l.env.Queued = func(c ledger.Client) int { return l.drv.Queued(c) }
	l.env.Hindered = l.hindered
	l.env.Epoch = mono.WallOffset()/1000 - mark.Epoch
	l.clients = make([]client.Client, 0, t.Clients())
	l.ledger.Expect(t.Clients())
	for crew := range t.Crews {
		for n := range t.Crews[crew].Clients {
			id := l.ledger.AddClient(uint16(crew))
			l.clients = append(l.clients, l.env.New(id, uint16(crew), int32(n)))
		}
	}
	names := make([]string, len(l.clients))
	for i := range l.clients {
		names[i] = t.Hide(l.clients[i].Name())
	}
	l.names = names
	l.timers = newTimers(len(l.clients))
	l.basins = basins(t)
	l.follow()
	l.nextReport = l.start
	l.markedAt, l.markedWait, l.markedUse = l.start, l.drv.Blocked(), l.cfg.Use()
	l.markedPause = l.gcPause()
}

func (l *Loop) takeOrders(ctx context.Context) {
	select {
	case <-l.stop:
		l.stopped = true
		l.endBy = l.drv.Now().Add(stopWithin)
	case <-ctx.Done():
		l.failure = ctx.Err()
	default:
	}
}

func (l *Loop) fireTimers(now mono.Time) {
	for {
		id, when := l.timers.first()
		if when > now {
			return
		}
		c := &l.clients[id]
		if c.AwaitsServer() && c.Next() > l.heardUpTo(now) {
			l.timers.set(id, now.Add(lookAgain)) // the answer may be here, and not read yet
			continue
		}
		c.Tick(l.env, l.drv.Now())
		l.after(id)
	}
}

// after does what a client asked for.
func (l *Loop) after(id int32) {
	c, e := &l.clients[id], l.env
	for asked := true; asked; {
		l.boundQueues(id)
		var dial [transport.NumLines]*wire.Endpoint
		for line := range e.IO.Lines {
			if w := &e.IO.Lines[line]; w.Asks() {
				l.serve(l.lineID(id, line), w)
				dial[line] = w.Dial
			}
		}
		e.IO.Clear()
		asked = false
		for line, to := range dial {
			if to == nil {
				continue
			}
			if err := l.drv.Dial(l.lineID(id, line), *to); err != nil {
				c.Broke(e, line, l.drv.Now(), err)
				asked = e.IO.Asks() // a failed attempt may have led to the next
			}
		}
	}
	l.timers.set(id, c.Next())
}

// serve does what is asked for of one line, but for dialling.
func (l *Loop) serve(id int32, w *transport.Line) {
	if len(w.Out) > 0 {
		l.drv.Write(id, w.Out)
	}
	if w.Hangup {
		l.drv.FinishAndHangup(id)
	}
	if w.Hold || w.Resume {
		l.drv.Hold(id, w.Hold)
	}
}

// letGo lets those go on who waited for each other.
func (l *Loop) letGo() {
	for len(l.env.Released) > 0 {
		released := l.env.Released
		l.env.Released = nil
		now := l.drv.Now()
		for _, id := range released {
			l.clients[id].Go(l.env, now)
			l.after(id)
		}
	}
}

// Accepted does not happen: the loop does not listen.
func (l *Loop) Accepted(int32) {}

// lineID is the driver's number for a line of a client.
func (l *Loop) lineID(client int32, line int) int32 {
	return client + int32(line*len(l.clients))
}

// lineOf is the opposite of lineID.
func (l *Loop) lineOf(id int32) (client int32, line int) {
	n := int32(len(l.clients))
	return id % n, int(id / n)
}

// Opened implements poll.Handler.
func (l *Loop) Opened(id int32) {
	id, line := l.lineOf(id)
	l.clients[id].Connected(l.env, line, l.drv.Now())
	l.after(id)
}

// Data implements poll.Handler.
func (l *Loop) Data(id int32, b []byte, came mono.Span) {
	now := l.drv.Now()
	l.book.Advance(now)
	id, line := l.lineOf(id)
	l.clients[id].Data(l.env, line, b, came, now)
	l.after(id)
}

// Broke implements poll.Handler.
func (l *Loop) Broke(id int32, err error) {
	id, line := l.lineOf(id)
	l.clients[id].Broke(l.env, line, l.drv.Now(), err)
	l.after(id)
}

// checkReach gives the run up where every connection so far was refused.
func (l *Loop) checkReach() {
	if l.env.Opened == 0 && l.env.Refused >= min(giveUpAfter, len(l.clients)) {
		l.failure = &Unreachable{To: l.cfg.To.String(), Reasons: slices.Sorted(maps.Keys(l.env.Reasons))}
	}
}

// wake is when the loop must act even if nothing arrives.
func (l *Loop) wake(now mono.Time) mono.Time {
	_, until := l.timers.first()
	until = min(until, l.nextReport, l.ledger.NextSettlement())
	if l.behind(now) {
		until = min(until, now.Add(200*time.Microsecond)) // more are to set out; see startsPerTurn
	}
	if since := now.Sub(l.start); !l.stopped && since <= l.cfg.Trial.Length() {
		until = min(until, now.Add(tideStep))
	}
	return until
}

// over reports whether the tide is over and all clients have ended.
func (l *Loop) over() bool {
	if l.failure != nil {
		return true
	}
	if !l.stopped && l.drv.Now().Sub(l.start) <= l.cfg.Trial.Length() {
		return false
	}
	for i := range l.clients {
		if !l.clients[i].Idle() {
			return false
		}
	}
	return true
}

// finish settles everything and hands over the last report, waiting for the
// reader: nothing is being measured any more.
func (l *Loop) finish(ctx context.Context) {
	now := l.drv.Now()
	l.book.Advance(now)
	l.ledger.Settle(mono.Never - 1)
	l.env.SettleRumours(mono.Never - 1)
	l.env.Lanes.Settle(1 << 62)
	l.gauge(now)
	l.measureSelf(l.book.Now())
	l.book.Now().Judge()
	r := l.makeReport(now, true)
	r.Last = true
	select {
	case l.reports <- r:
	case <-ctx.Done():
		select {
		case l.reports <- r:
		case <-time.After(time.Second):
		}
	}
}

func (l *Loop) report(now mono.Time) {
	l.nextReport = now.Add(reportEvery)
	l.gauge(now)
	r := l.makeReport(now, false)
	select {
	case l.reports <- r:
		l.unsent = Report{Held: l.unsent.Held}
	default:
		l.unsent.Held++
		l.unsent.Closed, l.unsent.Events, l.unsent.Lanes, l.unsent.Bodies = r.Closed, r.Events, r.Lanes, r.Bodies
	}
}

func (l *Loop) makeReport(now mono.Time, all bool) Report {
	closed, open := l.book.Take(all)
	since := now.Sub(l.start)
	r := Report{Start: l.start, Names: l.names, Elapsed: since, Leg: l.cfg.Trial.LegAt(since), Open: open,
		Closed:  append(l.unsent.Closed, closed...),
		Reasons: maps.Clone(l.env.Reasons), Kept: slices.Clip(l.ledger.Kept), Sampled: slices.Clone(l.ledger.Sampled),
		Unkept: l.ledger.Unkept, Held: l.unsent.Held}
	if l.stopped {
		r.Leg = ""
	}
	lanes, bodies := l.env.Lanes.Take()
	r.Lanes, r.Bodies = append(l.unsent.Lanes, lanes...), append(l.unsent.Bodies, bodies...)
	r.Events = append(l.unsent.Events, l.env.Events...)
	l.env.Events = nil
	r.Sent, r.Got = make([]uint32, len(l.clients)), make([]uint32, len(l.clients))
	for i := range l.clients {
		r.Sent[i], r.Got[i] = l.clients[i].Traffic()
	}
	for i := range l.ledger.Rooms() {
		r.Rooms = append(r.Rooms, l.cfg.Trial.Hide(l.ledger.RoomName(ledger.Room(i))))
	}
	return r
}

func (l *Loop) gauge(now mono.Time) {
	g := &l.book.Now().Gauges
	*g = logbook.Gauges{Planned: l.allPlanned(now)}
	for i := range l.clients {
		if c := &l.clients[i]; !c.Idle() {
			g.Out++
			if c.Open() {
				g.Open++
			}
		}
	}
	for r := 1; r < l.ledger.Rooms(); r++ {
		g.Entered += l.ledger.Members(ledger.Room(r))
	}
}

// measureSelf books what the loop itself used since it was last called.
func (l *Loop) measureSelf(p *logbook.Page) {
	now, wait, use, pause := l.drv.Now(), l.drv.Blocked(), l.cfg.Use(), l.gcPause()
	all := now.Sub(l.markedAt)
	end := min(now, l.start.Add(time.Duration(p.At+1)*time.Second))
	span := max(0, end.Sub(l.markedAt))
	// After a long turn several seconds end at once: each has its part.
	part := func(d time.Duration) time.Duration {
		if all <= 0 {
			return d
		}
		return time.Duration(float64(d) * float64(span) / float64(all))
	}
	h, was := &p.Health, l.markedUse
	h.Span, h.Busy = span, max(0, span-part(wait-l.markedWait+l.stalled))
	h.CPU, h.Process, h.GCPause = part(use.Thread-was.Thread), part(use.Process-was.Process), part(pause-l.markedPause)
	h.Waited, h.Stolen = part(use.Waited-was.Waited), part(use.Stolen-was.Stolen)
	l.markedAt = l.markedAt.Add(span)
	l.markedWait += part(wait - l.markedWait)
	l.stalled -= part(l.stalled)
	l.markedPause += h.GCPause
	l.markedUse = machine.Use{Process: was.Process + h.Process, Thread: was.Thread + h.CPU,
		Waited: was.Waited + h.Waited, Stolen: was.Stolen + h.Stolen}
	if l.start.Add(time.Duration(p.At)*time.Second) <= l.taintedTo {
		h.Waiting |= l.tainted
	}
}

func (l *Loop) gcPause() time.Duration {
	debug.ReadGCStats(&l.gc)
	return l.gc.PauseTotal
}
