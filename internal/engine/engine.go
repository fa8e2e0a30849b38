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
	"sync"
	"time"

	"tidepull/internal/client"
	"tidepull/internal/engine/machine"
	"tidepull/internal/engine/poll"
	"tidepull/internal/measure/account"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
	"tidepull/internal/wire"
)

// Config is what an Engine needs.
type Config struct {
	Trial   *trial.Trial
	Drivers []poll.Driver // one for each share; the engine takes them over and closes them
	To      wire.Endpoint
	Host    string // for the Host field
	Path    string
	Web     wire.Endpoint // for HTTP requests
	WebHost string        // for their Host field
	Run     uint32        // 20 bits that tell this run's marks from others
	// Use reads what the process has used of the machine; nil: machine.Now. In
	// virtual time it says nothing.
	Use func() machine.Use
	// Encoded has everything that passes between shares, conductor and account go
	// through its encoding, as it has to between processes.
	Encoded bool
}

// An Unreachable is why a run ended before a single connection was agreed on.
type Unreachable struct {
	To      string
	Reasons []string
}

func (e *Unreachable) Error() string {
	return fmt.Sprintf("no connection to %s could be opened: %v", e.To, e.Reasons)
}

// errNotReached ends the shares if nothing can be reached; Run makes it an Unreachable.
var errNotReached = errors.New("engine: nothing can be reached")

// An Engine carries out one trial.
type Engine struct {
	cfg     Config
	shares  []*share
	account *account.Account
	inbox   *inbox // nil with one share, which works on the account itself
	reports chan account.Report
	unsent  account.Report // what could not be handed over
	reasons map[string]int // as last reported

	use    machine.Use // of the account's thread, when a second was over last
	failed error
}

// New makes an engine for a trial. It does nothing until Run.
func New(cfg Config) *Engine {
	if cfg.Use == nil {
		cfg.Use = machine.Now
	}
	e := &Engine{cfg: cfg, reports: make(chan account.Report, 8)}
	for i := range cfg.Drivers {
		e.shares = append(e.shares, newShare(e, i))
	}
	return e
}

// Reports gives what there is to tell. The last report has Last set; then the channel
// is closed. A reader that is slow slows nothing.
func (e *Engine) Reports() <-chan account.Report { return e.reports }

// Stop makes the tide fall at once: every client finishes its session and
// closes, what is open is settled, and the run ends. It may be called from any
// goroutine, and more than once.
func (e *Engine) Stop() {
	for _, s := range e.shares {
		select {
		case s.stop <- struct{}{}:
		default:
		}
	}
}

// Run carries the trial out and returns when it is over: nil after a whole run
// and after Stop, an *Unreachable if the target could not be reached, and
// the context's error if that ended first.
func (e *Engine) Run(ctx context.Context) error {
	defer close(e.reports)
	runtime.LockOSThread() // so that the thread's processor time is its own
	defer runtime.UnlockOSThread()
	e.setUp()
	if len(e.shares) == 1 {
		e.failed = e.shares[0].run(ctx)
		e.work()
	} else {
		e.runSeveral(ctx)
	}
	e.reportLast(ctx)
	if errors.Is(e.failed, errNotReached) {
		return &Unreachable{To: e.cfg.To.String(), Reasons: slices.Sorted(maps.Keys(e.reasons))}
	}
	return e.failed
}

// setUp makes the clients, in the order of their numbers, and the account.
func (e *Engine) setUp() {
	t := e.cfg.Trial
	n := len(e.shares)
	all := client.NewNames()
	start := e.cfg.Drivers[0].Now()
	for _, s := range e.shares {
		s.setUp(start, all)
	}
	names := make([]string, 0, t.Clients())
	id := ledger.Client(0)
	for crew := range t.Crews {
		for k := range t.Crews[crew].Clients {
			s := e.shares[int(id)%n]
			s.clients = append(s.clients, s.env.New(id, uint16(crew), int32(k)))
			names = append(names, t.Hide(s.clients[len(s.clients)-1].Name()))
			id++
		}
	}
	cfg := account.Config{Trial: t, Run: e.cfg.Run, Shares: n, Names: names, Followed: client.Followed(t),
		Sharers: func(c ledger.Client) []ledger.Client { return all.Sharers(c) }}
	if n > 1 {
		e.inbox = newInbox(n)
		e.use = e.cfg.Use()
		cfg.Close = e.measureAccount
	}
	e.account = account.New(cfg)
	for _, s := range e.shares {
		s.ready()
	}
}

// runSeveral runs shares on threads of their own, and the account on this one.
func (e *Engine) runSeveral(ctx context.Context) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer e.inbox.end()
	var running sync.WaitGroup
	errs := make(chan error, len(e.shares))
	for _, s := range e.shares {
		running.Go(func() {
			runtime.LockOSThread()
			defer runtime.UnlockOSThread()
			errs <- s.run(ctx)
		})
	}
	batch := fact.Batch{}
	for ended := 0; ended < len(e.shares); {
		select {
		case <-e.inbox.signal:
		case err := <-errs:
			ended++
			if err != nil && (e.failed == nil || errors.Is(e.failed, context.Canceled)) {
				e.failed = err
				cancel() // one cannot go on without the others
			}
		}
		for i := range e.shares {
			for e.inbox.take(i, &batch) {
				e.take(i, &batch)
			}
		}
		e.work()
	}
	running.Wait()
}

// hand takes a batch of a share to the account.
func (e *Engine) hand(share int, b *fact.Batch) {
	if e.inbox != nil {
		e.inbox.put(share, b)
		return
	}
	e.take(share, b)
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
	if err := e.account.Work(); err != nil {
		e.fail(err)
	}
	if e.account.Due() {
		e.report()
	}
}

// fail ends the run with an error, if it has none yet.
func (e *Engine) fail(err error) {
	if e.failed == nil {
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
	u := &e.unsent
	r.Closed, r.Events = append(u.Closed, r.Closed...), append(u.Events, r.Events...)
	r.Lanes, r.Bodies = append(u.Lanes, r.Lanes...), append(u.Bodies, r.Bodies...)
	r.Held = u.Held
	if slices.ContainsFunc(e.shares, func(s *share) bool { return s.stopped.Load() }) {
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
		e.unsent = account.Report{Held: u.Held + 1, Closed: r.Closed, Events: r.Events, Lanes: r.Lanes, Bodies: r.Bodies}
	}
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

// measureAccount books what the account's own thread used in a second.
func (e *Engine) measureAccount(p *logbook.Page) {
	use := e.cfg.Use()
	p.Health.CPU, e.use = use.Thread-e.use.Thread, use
}
