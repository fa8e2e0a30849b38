// Package run wires one run together: it finds the target, starts the loop,
// collects what the loop reports, and publishes an immutable Snapshot that any
// number of readers may look at.
//
//	trial ──> engine.Loop ──reports──> collect ──> Snapshot ──> tui, headless
package run

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/engine"
	"tidepull/internal/engine/account"
	"tidepull/internal/engine/machine"
	"tidepull/internal/engine/pressure"
	"tidepull/internal/engine/process"
	"tidepull/internal/engine/traffic"
	"tidepull/internal/finding"
	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
	"tidepull/internal/wire"
)

// Options say how a trial is run.
type Options struct {
	Trial    *trial.Trial
	Portable bool         // use the portable driver
	Loops    int          // how many event loops serve the clients, of each worker; 0: as many as the trial says
	Workers  int          // how many processes do; 0: as many as it takes, which may be this one
	Over     *Over        // the machines that have joined do; nil: this one
	Live     bool         // faults can be made to happen by hand
	From     []netip.Addr // by worker, in turn: addresses of this machine to connect from; none: the system's choice
	Tool     string       // the program that workers are; "": this one
	Log      *slog.Logger
}

// A Snapshot is a run as it stands. It is immutable.
type Snapshot struct {
	Trial     *trial.Trial
	Started   time.Time
	Elapsed   time.Duration
	Leg       string
	Entries   logbook.Seconds
	Total     *logbook.Window // of all entries
	Rooms     []string        // by number
	Names     []string        // of the clients, by number
	Events    []logbook.Event
	Sent, Got []uint32 // by client: messages said, marked messages received
	Reasons   map[string]int
	Shared    []Shared // what went wrong has in common, once the run is over
	// what is wrong with the server, the worst first; while it goes on, as of a moment ago
	Findings     []finding.Finding
	Said         []bool // by number of a step: some client has said what it says; nil of a run that was kept
	Kept         []ledger.Message
	Sampled      []ledger.Message
	Lanes        []lane.Record        // in no order
	Bodies       []lane.Body          // of messages in the lanes
	Differences  []account.Difference // of messages that came otherwise than they were said, the first of each sort
	FinalResults []FinalResult
	Happened     []Happened   // faults, by when they began
	Server       []Sample     // what its process used, by second; empty if nothing is known of it
	Kernel       *traffic.Did // what the system's traffic control did of the faults, once the run is over; nil: nothing
	Processes    Processes    // that served the clients
	Alerted      []Alerted    // commands of the trial's alerts, once the run is over
	ServerSide   ServerSide   // what it wrote, and whether it is still there
	Unkept       int
	Held         int
	KernelTimes  bool
	Judgements   []Judgement
	RSSPerOpen   float64 // bytes a client at the highest tide; 0 if it is not known
	Stopped      bool    // it was asked to stop before the tide was over
	Finished     bool
	Err          error // why it ended early

	certain func(figure string) bool // what figures count is the server's doing for certain; nil of a run that was kept
}

// A TooMany is a trial that needs more open files than the process may have.
type TooMany struct{ Sockets, Files int }

func (e *TooMany) Error() string {
	return fmt.Sprintf("its clients need %d open files, and this process may have %d; take fewer clients, or raise "+
		"the limit (ulimit -n)", e.Sockets, e.Files)
}

// A Run is a trial being carried out.
type Run struct {
	trial    *trial.Trial
	engine   *engine.Engine
	snapshot atomic.Pointer[Snapshot]
	stopped  atomic.Bool
	cancel   context.CancelFunc
	done     chan struct{}
	log      *slog.Logger
	kernel   bool
	// listensAt is where the server listens, if that is a TCP port here that can be looked at; nil if not.
	listensAt *wire.Endpoint
	fleet     *fleet           // nil: the clients are in this process
	control   *traffic.Control // nil: the system does no faults
	breaker   *breaker         // nil: nothing is broken, and nothing known of the server's process
	pressure  *pressure.Watcher
	throwing  sync.Mutex
	live      []trial.Fault  // that can be made to happen by hand
	liveKeys  []string       // of live: the key that picks it
	going     map[int]*going // of live, those that were
}

// Start starts a trial. Errors here, a *TooMany or an *engine.Unreachable among
// them, mean that nothing was started.
func Start(ctx context.Context, o Options) (*Run, error) {
	t := o.Trial
	if limit := machine.RaiseFileLimit(); limit > 0 && o.Over == nil &&
		t.Sockets() > MostWorkers*(limit-machine.SpareFiles) {
		return nil, &TooMany{t.Sockets(), limit}
	}
	server, err := startServer(ctx, t)
	if err != nil {
		return nil, err
	}
	r, err := start(ctx, o, server)
	if err != nil && server != nil {
		server.End()
	}
	return r, err
}

// start starts a trial; its server runs.
func start(ctx context.Context, o Options, server *process.Server) (*Run, error) {
	t := o.Trial
	to, err := findPlaces(ctx, &t.Target)
	if err != nil {
		return nil, err
	}
	log := o.Log
	if log == nil {
		log = slog.New(slog.DiscardHandler)
	}
	n := loops(o.Loops, t)
	control, err := control(t, log)
	if err != nil {
		return nil, err
	}
	var l *layers
	var fleet *fleet
	if workers := o.workers(); workers > 1 || o.Workers == 1 || o.Over != nil {
		if control != nil {
			control.Close()
			return nil, errors.New("faults by the kernel need one process: take path = \"own\", or fewer clients")
		}
		if o.Over != nil {
			fleet, err = startOver(ctx, o, log, n)
		} else {
			fleet, err = startFleet(ctx, o, log, to, workers, n)
		}
	} else if l, err = stack(t, o, control, n, 0); err == nil && len(o.From) > 0 {
		to.from(o.From[0])
	} else if err != nil && control != nil {
		control.Close()
	}
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithCancel(ctx)
	r := &Run{trial: t, cancel: cancel, done: make(chan struct{}), log: log, control: control, fleet: fleet}
	r.listensAt = to.listening()
	served := to.served()
	r.pressure = pressure.Watch(func() ([]int, bool) { return pressure.Listening(served) })
	if fleet != nil {
		r.kernel = fleet.kernelTimes
		r.engine = fleet.engine(t, to)
	} else {
		giveProcessors(n)
		r.kernel = l.drivers[0].KernelTimes()
		r.engine = l.engine(engine.Config{Trial: t, Run: runNumber()}, to, r.pressure)
	}
	shown := t.Shown()
	shown.Target.Address += to.note()
	r.snapshot.Store(&Snapshot{Trial: shown, Started: time.Now(), Total: &logbook.Window{}, KernelTimes: r.kernel})
	r.log.Info("run starts", "trial", t.Name, "target", t.Hide(t.Target.Address), "clients", t.Clients())
	if o.Live {
		r.live, r.liveKeys = liveFaults(t, server != nil)
		r.going = map[int]*going{}
	}
	if server != nil || t.Server != nil || len(t.Faults) > 0 || o.Live {
		r.breaker = &breaker{trial: t, server: server, log: r.log, thrown: make(chan throwing, 16),
			began: r.engine.Began, web: webClient(&t.Target)}
		r.breaker.begin(ctx)
	}
	failed := make(chan error, 1)
	go func() {
		err := r.engine.Run(ctx)
		if fleet != nil {
			fleet.end(err != nil)
		}
		failed <- err
	}()
	if fleet != nil {
		if err := fleet.begin(ctx, r.engine); err != nil {
			r.engine.Fail(err)
		}
	}
	go r.collect(failed)
	return r, nil
}

// loops is how many event loops serve a trial's clients: as many as are asked for, or
// one for each core that the machine has beyond two, which are for the server and for
// the account. No loop is without a client.
func loops(asked int, t *trial.Trial) int {
	n := asked
	if n == 0 {
		n = t.Loops
	}
	if n == 0 {
		n = runtime.NumCPU() - 2
	}
	return max(1, min(n, t.Clients()))
}

// giveProcessors lets as many goroutines run as there are loops, and one more. With none to spare, Go takes the
// loop's right to run away each time that it waits in the kernel for 20 us, and gives it back after: on a machine of
// one core that was an eighth of what a delivery costs.
func giveProcessors(loops int) {
	if runtime.GOMAXPROCS(0) <= loops {
		runtime.GOMAXPROCS(loops + 1)
	}
}

func runNumber() uint32 {
	var b [4]byte
	rand.Read(b[:]) // never fails (crypto/rand)
	return binary.LittleEndian.Uint32(b[:]) & (1<<20 - 1)
}

// Snapshot returns the run as it stands.
func (r *Run) Snapshot() *Snapshot { return r.snapshot.Load() }

// Stop makes the clients close, settles, and ends the run; what was measured
// is kept.
func (r *Run) Stop() {
	r.stopped.Store(true)
	r.engine.Stop()
}

// Abort ends the run at once.
func (r *Run) Abort() {
	r.stopped.Store(true)
	r.cancel()
}

// Done is closed when the run is over.
func (r *Run) Done() <-chan struct{} { return r.done }

// Wait blocks until the run is over and returns it as it ended.
func (r *Run) Wait() *Snapshot {
	<-r.done
	return r.Snapshot()
}

// wall is the time since 1970 of an instant, in nanoseconds.
func wall(t mono.Time) int64 { return int64(t) + wallOffset }

// wallOffset is taken once: the clock may be set while a run goes on.
var wallOffset = mono.WallOffset()

// collect turns the loop's reports into snapshots until the loop has ended.
func (r *Run) collect(failed <-chan error) {
	defer close(r.done)
	defer r.cancel()
	limits := Limits(r.trial)
	c := NewCollector(limits, r.trial.Grace)
	watch := startAlerts(r.trial)
	for report := range r.engine.Reports() {
		happened, server := r.breaker.told()
		c.past.Happened = happened
		s, err := c.Add(report, server)
		if err != nil {
			r.log.Error("a report could not be read", "error", err)
			continue
		}
		s.Trial, s.Started, s.KernelTimes, s.Stopped = r.Snapshot().Trial, r.Snapshot().Started, r.kernel,
			r.stopped.Load()
		if began, ok := r.engine.Began(); ok { // from which the run's times count
			s.Started = time.Unix(0, wall(began))
		}
		s.Happened, s.ServerSide, s.Processes = happened, r.breaker.serverSide(), r.fleet.processes()
		s.Findings = c.find(s)
		r.snapshot.Store(s)
		watch.look(s)
	}
	r.pressure.Stop()
	last := *r.Snapshot()
	if last.Err = <-failed; last.Err == nil && last.nobodyGotIn() {
		last.Err = &engine.Unreachable{To: last.Trial.Target.Address, Reasons: last.refusals()}
	}
	if last.Err == nil {
		behind := int64(0)
		if c.clean != nil {
			behind = last.Total.Total.Excused - c.clean.Total.Excused
		}
		last.FinalResults = finalChecks(r.trial, last.Total, behind)
	}
	last.ServerSide, last.Processes = r.breaker.serverSide(), r.fleet.processes()
	if to := r.listensAt; to != nil && !slices.ContainsFunc(r.trial.Faults, func(f trial.Fault) bool {
		return f.Do == trial.StopServer
	}) {
		last.listens(to)
	}
	if r.breaker != nil {
		r.breaker.stop()
		last.Happened, last.Server = r.breaker.told()
		total := *last.Total // of which nobody else may see a change
		last.Total = &total
		last.Finished = true
		c.judge(&last)
		r.breaker.end()
	}
	if r.control != nil {
		did := r.control.Close()
		last.Kernel = &did
		r.log.Info("faults by the kernel", "orders", did.Orders, "slowest", did.Slowest, "dropped", did.Dropped)
	}
	last.Finished = true
	last.Shared = last.InCommon()
	last.Findings = last.Find()
	last.provesNothing()
	last.missingClients()
	last.Alerted = watch.finish(&last)
	r.snapshot.Store(&last)
	r.log.Info("run ends", "trial", r.trial.Name, "elapsed", last.Elapsed, "owed", last.Total.Total.Owed, "lost",
		last.Total.Total.Lost, "error", last.Err)
}

// ClientName is the name of a client by its number in the run.
func (s *Snapshot) ClientName(id ledger.Client) string {
	if id < 0 || int(id) >= len(s.Names) {
		return ""
	}
	return s.Names[id]
}

// CrewOf is the number of a client's crew.
func (s *Snapshot) CrewOf(id ledger.Client) int {
	for i, c := range s.Trial.Crews {
		if int(id) < c.Clients {
			return i
		}
		id -= int32(c.Clients)
	}
	return 0
}
