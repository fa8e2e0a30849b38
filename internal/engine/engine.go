// Package engine carries out a trial. Its clients are dealt out to shares: each share
// is one goroutine with one driver that owns its clients and their timers, with no
// locks. What they tell goes to one account, and what comes of it leaves the engine as
// Reports.
package engine

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/client"
	"tidepull/internal/engine/account"
	"tidepull/internal/engine/impair"
	"tidepull/internal/engine/machine"
	"tidepull/internal/engine/poll"
	"tidepull/internal/engine/pressure"
	"tidepull/internal/engine/traffic"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
	"tidepull/internal/wire"
)

// Config is what an Engine needs.
type Config struct {
	Trial   *trial.Trial
	Drivers []poll.Driver // one for each share that is here; the engine takes them over and closes them
	// Shares is how many there are, if some of them are in other processes, and First the number of the first one
	// that is here. Those who are elsewhere are reached by Elsewhere; nil: all shares are here, and the account.
	Shares, First int
	Elsewhere     Elsewhere
	Machines      []int // on which machine each share is, for the account; nil: all are on one
	// Off is by how much the clock of a share's machine may be off the lead's; nil: it is the same.
	Off     func(share int) time.Duration
	Start   mono.Time         // when the run begins; 0: at once
	Paths   []*impair.Driver  // the layer of each driver that faults on the path are for; nil: there are none
	Kernels []*traffic.Driver // the layer of each driver by which the system does some faults; nil: it does none
	Places  [][]client.Place  // where clients connect to: of each route, its nodes
	Web     wire.Endpoint     // for HTTP requests
	WebHost string            // for their Host field
	// Find, if set, gives the address of a place such as "http://127.0.0.1:8080" that an
	// answer leads to.
	Find func(place string) (wire.Endpoint, bool)
	Run  uint32 // 20 bits that tell this run's marks from others
	// Use reads what the process has used of the machine; nil: machine.Now. In
	// virtual time it says nothing.
	Use func() machine.Use
	// Pressure says how long what matters to the run was kept from a core; nil: nobody knows.
	Pressure func(from, to mono.Time) pressure.Pressure
	// OnThread, if set, is called by each share with the thread on which it runs.
	OnThread func(thread int)
	// Encoded has everything that passes between shares, conductor and account go
	// through its encoding, as it has to between processes.
	Encoded bool
	// Verify has what is counted as clients change held against the clients themselves, for tests.
	Verify bool
	// OneByOne has each arrival told to the account by itself, for tests that compare.
	OneByOne bool
}

// An Unreachable is why a run ended before a single connection was agreed on.
type Unreachable struct {
	To      string
	Reasons []string
	Words   string // of a run that was kept: what Error said then
}

func (e *Unreachable) Error() string {
	if e.Words != "" {
		return e.Words
	}
	text := fmt.Sprintf("no connection to %s could be opened: %s", e.To, strings.Join(e.Reasons, "; "))
	switch all := strings.Join(e.Reasons, " "); {
	case strings.Contains(all, "connection refused"):
		text += ": nobody listens there; look whether the server runs, at the port, and whether it listens at this " +
			"address " +
			"or at another one of the machine alone"
	case strings.Contains(all, "no route to host"), strings.Contains(all, "network is unreachable"):
		text += ": there is no way to it; look at the address, and at the network"
	case strings.Contains(all, "timeout"), strings.Contains(all, "no answer"):
		text += ": nothing answers there; look at the address, and for a firewall in between"
	}
	return text
}

// Elsewhere is how an engine reaches what of its run is in other processes. Its methods may be called from any of the
// engine's goroutines.
type Elsewhere interface {
	// Note takes a note to a share that is elsewhere, or to the Conductor.
	Note(share int, n fact.Note) error
	// Facts takes what a share here tells to the account, which is elsewhere; the batch's log is empty afterwards. It
	// waits if the account is too far behind.
	Facts(share int, b *fact.Batch) error
	// Stop and Throw are those of all other engines of the run.
	Stop()
	Throw(f *trial.Fault, on bool) error
}

// Conductor stands for the conductor among the shares that a note can be for. It is with the account: if all shares are
// here, the first of them has it.
const Conductor = -1

// ErrNotReached ends the shares if nothing can be reached; Run makes it an Unreachable.
var ErrNotReached = errors.New("engine: nothing can be reached")

// An Engine carries out one trial.
type Engine struct {
	cfg      Config
	real     bool  // the processor time that threads use is measured, and the process's memory
	resident int64 // the process's memory before it has clients
	shares   []*share
	account  *account.Account
	working  sync.Mutex // held by the share that works on the account

	conducting sync.Mutex
	conductor  *conductor // nil: the first share has it, or another process

	slots   []slot     // what the shares have handed over; none with one share
	batch   fact.Batch // that is being taken
	reports chan account.Report
	unsent  account.Report // what could not be handed over
	reasons map[string]int // as last reported
	total   logbook.Window // of the seconds that are over, if assert steps use figures
	failed  error
	began   atomic.Int64 // when the clients' clock began, as a mono.Time; 0: it has not
	stopped atomic.Bool
	set     chan struct{} // closed once the account is there
	ended   chan struct{} // closed once the account has all of the run, if no share is here
}

// New makes an engine for a trial. It does nothing until Run.
func New(cfg Config) *Engine {
	real := cfg.Use == nil
	if real {
		cfg.Use = machine.Now
	}
	if cfg.Pressure == nil {
		cfg.Pressure = func(mono.Time, mono.Time) (none pressure.Pressure) { return none }
	}
	if cfg.Elsewhere == nil {
		cfg.Shares = len(cfg.Drivers)
	}
	e := &Engine{cfg: cfg, real: real, reports: make(chan account.Report, 8), set: make(chan struct{}),
		ended: make(chan struct{})}
	for i := range cfg.Drivers {
		e.shares = append(e.shares, newShare(e, cfg.First+i))
	}
	return e
}

// here gives a share that is in this process; nil if it is in another one.
func (e *Engine) here(share int) *share {
	if i := share - e.cfg.First; i >= 0 && i < len(e.shares) {
		return e.shares[i]
	}
	return nil
}

// accounts reports whether the account is in this process.
func (e *Engine) accounts() bool { return e.cfg.Elsewhere == nil || len(e.shares) == 0 }

// Reports gives what there is to tell. The last report has Last set; then the channel
// is closed. A reader that is slow slows nothing.
func (e *Engine) Reports() <-chan account.Report { return e.reports }

// Stop makes the tide fall at once: every client finishes its session and
// closes, what is open is settled, and the run ends. It may be called from any
// goroutine, and more than once.
func (e *Engine) Stop() {
	e.stopped.Store(true)
	for _, s := range e.shares {
		select {
		case s.stop <- struct{}{}:
		default:
		}
	}
	if e.cfg.Elsewhere != nil && e.accounts() {
		e.cfg.Elsewhere.Stop()
	}
}

// Began is when the run began, from which its times count; false if it has not.
func (e *Engine) Began() (mono.Time, bool) {
	t := e.began.Load()
	return mono.Time(t), t != 0
}

// Throw makes a fault happen by hand from now on, or ends it, for all clients that it is
// about. It may be called from any goroutine while the engine runs.
func (e *Engine) Throw(f *trial.Fault, on bool) error {
	for _, s := range e.shares {
		select {
		case s.thrown <- thrown{f, on}:
			s.drv.Wake()
		default:
			return errors.New("too many at once: the clients have not come to the last ones yet")
		}
	}
	if e.cfg.Elsewhere != nil && e.accounts() {
		return e.cfg.Elsewhere.Throw(f, on)
	}
	return nil
}

// Run carries the trial out and returns when it is over: nil after a whole run
// and after Stop, an *Unreachable if the target could not be reached, and
// the context's error if that ended first.
func (e *Engine) Run(ctx context.Context) error {
	defer close(e.reports)
	defer e.ownThread()()
	e.resident = machine.Resident()
	e.setUp()
	close(e.set)
	if wait := e.cfg.Start.Sub(mono.Now()); e.cfg.Start != 0 && wait > 0 {
		time.Sleep(wait)
	}
	switch {
	case len(e.shares) == 0:
		e.follow(ctx)
	case len(e.shares) == 1:
		e.fail(e.shares[0].run(ctx))
	default:
		e.runSeveral(ctx)
	}
	if !e.accounts() {
		return e.failed
	}
	e.working.Lock()
	e.takeAll()
	e.working.Unlock()
	e.reportLast(ctx)
	if errors.Is(e.failed, ErrNotReached) {
		return &Unreachable{To: e.cfg.Places[0][0].To.String(), Reasons: slices.Sorted(maps.Keys(e.reasons))}
	}
	return e.failed
}

// ownThread keeps a goroutine on a thread of its own, so that the thread's processor time
// is the goroutine's, until the function that it returns is called.
func (e *Engine) ownThread() (until func()) {
	if !e.real {
		return func() {}
	}
	runtime.LockOSThread()
	if e.cfg.OnThread != nil {
		e.cfg.OnThread(machine.Thread())
	}
	return runtime.UnlockOSThread
}

// setUp makes the clients that are here, in the order of their numbers, and the account.
func (e *Engine) setUp() {
	t := e.cfg.Trial
	all := client.NewNames()
	start := e.cfg.Start
	if start == 0 {
		start = e.cfg.Drivers[0].Now()
	}
	e.began.Store(int64(start))
	for _, s := range e.shares {
		s.setUp(start, all)
	}
	others := client.NewEnv(t, all, logbook.NewBook(0, len(t.Crews)))
	names := make([]string, 0, t.Clients())
	id := ledger.Client(0)
	for crew := range t.Crews {
		for k := range t.Crews[crew].Clients {
			var c client.Client
			if s := e.here(int(id) % e.cfg.Shares); s != nil {
				c = s.env.New(id, uint16(crew), int32(k))
				s.clients = append(s.clients, c)
			} else {
				c = others.New(id, uint16(crew), int32(k)) // for its name
			}
			names = append(names, t.Hide(c.Name()))
			id++
		}
	}
	if e.accounts() {
		cfg := account.Config{Trial: t, Run: e.cfg.Run, Shares: e.cfg.Shares, Names: names,
			Followed: client.Followed(t), Sharers: all.Sharers, Machines: e.cfg.Machines}
		if e.cfg.Shares > 1 || len(e.shares) == 0 {
			e.slots = make([]slot, e.cfg.Shares)
		}
		e.account = account.New(cfg)
		if len(e.shares) == 0 {
			e.conductor = newConductor(t)
		}
	}
	for _, s := range e.shares {
		s.ready()
	}
}

// follow waits until the account has all of a run whose shares are in other processes.
func (e *Engine) follow(ctx context.Context) {
	select {
	case <-e.ended:
	case <-ctx.Done():
		e.working.Lock()
		defer e.working.Unlock()
		e.fail(ctx.Err())
	}
}

// Put takes what a share in another process tells to the account, and works through it; the batch's log is empty
// afterwards. It may be called from several goroutines, but for each share from one at a time.
func (e *Engine) Put(share int, b *fact.Batch) {
	<-e.set
	e.slots[share].put(b)
	e.working.Lock()
	defer e.working.Unlock()
	e.takeAll()
	if e.account.Ended() {
		e.end()
	}
}

// Fail ends a run whose shares are in other processes.
func (e *Engine) Fail(err error) {
	e.working.Lock()
	defer e.working.Unlock()
	e.fail(err)
	e.end()
}

// end tells follow that there is nothing more to wait for; the caller works on the account.
func (e *Engine) end() {
	select {
	case <-e.ended:
	default:
		close(e.ended)
	}
}

// Post takes a note from another process to a share that is here, or to the conductor.
func (e *Engine) Post(share int, n fact.Note) error {
	if share == Conductor && e.conductor != nil {
		return e.conduct(&n)
	}
	s := e.here(share)
	if s == nil {
		return fmt.Errorf("engine: share %d is not here", share)
	}
	return s.post(true, n)
}

// conduct does what a note to the conductor asks for, whose clients are all elsewhere.
func (e *Engine) conduct(n *fact.Note) error {
	e.conducting.Lock()
	defer e.conducting.Unlock()
	for _, answer := range e.conductor.take(nil, n) {
		first, last := 0, e.cfg.Shares-1 // it is for all
		if answer.Kind == fact.MayGo {
			first = int(answer.Client) % e.cfg.Shares
			last = first
		}
		for share := first; share <= last; share++ {
			if err := e.cfg.Elsewhere.Note(share, answer); err != nil {
				return err
			}
		}
	}
	return nil
}

// runSeveral runs shares on threads of their own. If one fails the others end, too.
func (e *Engine) runSeveral(ctx context.Context) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	errs := make(chan error, len(e.shares))
	for _, s := range e.shares {
		go func() {
			defer e.ownThread()()
			errs <- s.run(ctx)
		}()
	}
	var failed error
	for range e.shares {
		if err := <-errs; err != nil {
			if failed == nil {
				failed = err
			}
			cancel()
		}
	}
	e.fail(failed)
}

// maxWaiting is how many facts of a share may wait for the account. One that is further
// ahead waits for those who work on it.
const maxWaiting = 1 << 18

// deliverFacts takes what a share has to tell to the account. Whichever share finds nobody at
// work on the account works on what all of them have handed over; the others go on with
// their clients.
func (e *Engine) deliverFacts(share int, b *fact.Batch) error {
	if !e.accounts() {
		return e.cfg.Elsewhere.Facts(share, b)
	}
	if len(e.slots) == 0 {
		e.take(share, b)
		e.work()
		return nil
	}
	if waiting := e.slots[share].put(b); waiting > maxWaiting {
		e.working.Lock()
	} else if !e.working.TryLock() {
		return nil
	}
	defer e.working.Unlock()
	e.takeAll()
	return nil
}

// takeAll takes what all shares have handed over.
func (e *Engine) takeAll() {
	for i := range e.slots {
		if e.slots[i].take(&e.batch) {
			e.take(i, &e.batch)
		}
	}
	e.work()
}

func (e *Engine) take(share int, b *fact.Batch) {
	if e.cfg.Encoded {
		again, err := fact.ParseBatch(fact.AppendBatch(nil, b))
		if err != nil {
			e.fail(err)
			return
		}
		*b = again
	}
	e.account.Take(share, b)
}

// work works through what was told, and reports if it is time to.
func (e *Engine) work() {
	e.fail(e.account.Work())
	if e.account.Due() {
		e.report()
	}
}

// fail keeps the first error of the account, which Run returns in the end: the run goes on.
func (e *Engine) fail(err error) {
	if e.failed == nil && err != nil {
		e.failed = err
	}
}

// report hands a report over. The last one waits for reportLast.
func (e *Engine) report() {
	r, err := e.account.Report()
	if err != nil {
		e.fail(err)
		return
	}
	e.reasons = r.Reasons
	if len(e.cfg.Trial.Asserted) > 0 {
		e.fail(e.tellFigures(&r))
	}
	u := &e.unsent
	r.Closed, r.Events = append(u.Closed, r.Closed...), append(u.Events, r.Events...)
	r.Lanes, r.Bodies = append(u.Lanes, r.Lanes...), append(u.Bodies, r.Bodies...)
	r.Held = u.Held
	if e.stopped.Load() {
		r.Leg = ""
	}
	if r.Last {
		e.unsent = r
		return
	}
	select {
	case e.reports <- r:
		e.unsent = account.Report{Held: u.Held}
	default:
		e.unsent = account.Report{Held: u.Held + 1, Closed: r.Closed, Events: r.Events, Lanes: r.Lanes,
			Bodies: r.Bodies}
	}
}

// tellFigures tells all shares the figures that assert steps use.
func (e *Engine) tellFigures(r *account.Report) error {
	for _, entry := range r.Closed {
		if err := e.total.Add(entry); err != nil {
			return err
		}
	}
	now := e.total.Clone()
	for _, entry := range r.Open {
		if err := now.Add(entry); err != nil {
			return err
		}
	}
	names := e.cfg.Trial.Asserted
	for i, name := range names {
		value, _ := logbook.FigureNamed(name).Of(now) // 0 if there is nothing yet
		note := fact.Note{At: mono.Time(r.Elapsed), Kind: fact.Measures, Which: int32(i), Value: value}
		for share := range e.cfg.Shares {
			if err := e.send(share, i == len(names)-1, &note); err != nil {
				return err
			}
		}
	}
	return nil
}

// reportLast hands the last report over, waiting for the reader: nothing is being
// measured any more.
func (e *Engine) reportLast(ctx context.Context) {
	if !e.unsent.Last {
		return // the account could not be closed; the error says why
	}
	select {
	case e.reports <- e.unsent:
	case <-ctx.Done():
		select {
		case e.reports <- e.unsent:
		case <-time.After(time.Second):
		}
	}
}
