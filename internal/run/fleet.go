package run

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/netip"
	"os"
	"os/exec"
	"strconv"
	"sync"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/engine"
	"tidepull/internal/engine/machine"
	"tidepull/internal/engine/pressure"
	"tidepull/internal/engine/process"
	"tidepull/internal/engine/workers"
	"tidepull/internal/trial"
)

// MostWorkers bounds the processes of a run.
const MostWorkers = 64

// MeetVariable is the environment variable in which a worker finds where it meets its lead, and what opens that: an
// Address of package workers as JSON.
const MeetVariable = "TIDEPULL_WORKER_MEETS"

// workers is how many processes serve the clients: as many as are asked for, or as it takes for each to have few enough
// files open. 1: this one does.
func (o *Options) workers() int {
	if o.Workers > 0 {
		return min(o.Workers, MostWorkers)
	}
	limit := machine.RaiseFileLimit()
	if limit <= machine.SpareFiles {
		return 1
	}
	return machine.Processes(o.Trial.Sockets(), limit)
}

// A workOrder is what a worker is told to do.
type workOrder struct {
	Source   trial.Source
	Seed     uint64
	At       string // where clients connect to, whatever the target's address says
	Anywhere bool   // the target may be another machine
	Workers  int
	Loops    int // of each
	Run      uint32
	Portable bool
	Live     bool
	From     []netip.Addr // by worker, in turn: what its clients connect from; none: the system's choice
}

// A fleet is the processes that serve a run's clients.
type fleet struct {
	order       workOrder
	lead        *workers.Lead
	kernelTimes bool
	workers     []hand
	machines    *machines // nil: all are on this machine
	log         *slog.Logger
	watch       context.CancelFunc
	closing     sync.Once
}

// A hand is a worker's process.
type hand struct {
	letGo func()          // has it end
	kill  func()          // at once
	ended <-chan struct{} // it has
}

// startFleet starts the workers of a run, which wait to begin.
func startFleet(ctx context.Context, o Options, log *slog.Logger, to *places, n, loops int) (*fleet, error) {
	t := o.Trial
	f := &fleet{log: log, order: workOrder{Source: t.Source, Seed: t.Seed, At: t.Target.At, Anywhere: t.Target.Anywhere,
		Workers: n, Loops: loops, Run: runNumber(), Portable: o.Portable, Live: o.Live, From: o.From}}
	if len(f.order.From) == 0 {
		f.order.From = to.sources(t.Sockets(), n)
	}
	tool, err := o.tool()
	if err != nil {
		return nil, err
	}
	if f.lead, err = workers.Meet(nil); err != nil {
		return nil, err
	}
	return f.gather(ctx, time.Minute, func() error {
		at, err := json.Marshal(f.lead.Address())
		if err := errors.Join(err, f.expect(t)); err != nil {
			return err
		}
		for i := range n {
			h, err := startWorker(tool, at, f.lead.Run(), i, nil, func(why string) {
				f.lead.Ended(i, why)
				f.log.Info("a worker has ended", "worker", i, "why", why)
			})
			if err != nil {
				return fmt.Errorf("starting worker %d: %w", i, err)
			}
			f.workers = append(f.workers, h.hand)
		}
		return nil
	})
}

// expect has the fleet's lead listen for workers.
func (f *fleet) expect(t *trial.Trial) error {
	order, err := json.Marshal(f.order)
	if err != nil {
		return fmt.Errorf("what workers are to do: %w", err)
	}
	return f.lead.Expect(workers.Config{Workers: f.order.Workers, Shares: f.order.Loops, Clients: t.Clients(),
		Grace: t.Grace, Announced: t.Dialect.Gone.When != nil, Order: order})
}

// tool is the program that workers are.
func (o *Options) tool() (string, error) {
	if o.Tool != "" {
		return o.Tool, nil
	}
	tool, err := os.Executable()
	if err != nil {
		return "", fmt.Errorf("the tool's own program: %w", err)
	}
	return tool, nil
}

// gather starts the workers, and waits until all of them could begin.
func (f *fleet) gather(ctx context.Context, within time.Duration, start func() error) (*fleet, error) {
	ctx, cancel := context.WithTimeoutCause(ctx, within, fmt.Errorf("some are not there after %v", within))
	defer cancel()
	err := start()
	if err == nil {
		f.kernelTimes, err = f.lead.Gather(ctx)
	}
	if err != nil {
		f.end(true)
		return nil, err
	}
	return f, nil
}

// A started is a worker's process that this one has started.
type started struct {
	hand
	input io.WriteCloser // it ends with it; and is told the course of its clock
}

// startWorker starts one worker of a run, which meets its lead at an address, as JSON. It ends with its input, which
// ends with this process; ended is told why it did.
func startWorker(tool string, at []byte, run string, number int, flags []string, ended func(why string)) (started,
	error) {
	c := exec.Command(tool, append([]string{"work", "--run", run, strconv.Itoa(number)}, flags...)...)
	c.Env = append(os.Environ(), MeetVariable+"="+string(at))
	c.Stderr = os.Stderr
	process.Apart(c)
	in, err := c.StdinPipe()
	if err != nil {
		return started{}, err
	}
	if err := c.Start(); err != nil {
		return started{}, err
	}
	over := make(chan struct{})
	go func() {
		defer close(over)
		why := "ended before its clients had"
		if err := c.Wait(); err != nil {
			why = "ended: " + err.Error()
		}
		ended(why)
	}()
	return started{hand{letGo: func() { in.Close() }, kill: func() { _ = c.Process.Kill() }, ended: over}, in}, nil
}

// engine makes the engine that has the account of what the workers tell.
func (f *fleet) engine(t *trial.Trial, to *places) *engine.Engine {
	return engine.New(engine.Config{Trial: t, Run: f.order.Run, Shares: f.order.Workers * f.order.Loops,
		Places: to.routes, Elsewhere: f.lead, Machines: f.machines.byShare(f.order.Loops),
		Start: mono.Now().Add(settingUp +
			time.Duration(t.Clients())*perClient)})
}

// How long workers have from the order to begin to the beginning: each makes its clients.
const (
	settingUp = 200 * time.Millisecond
	perClient = 10 * time.Microsecond
)

// begin has the workers begin.
func (f *fleet) begin(ctx context.Context, e *engine.Engine) error {
	for _, is := e.Began(); !is; _, is = e.Began() { // the account is not there yet
		time.Sleep(time.Millisecond)
	}
	at, _ := e.Began()
	ctx, f.watch = context.WithCancel(ctx)
	go f.lead.Watch(ctx, f.kill)
	return f.lead.Begin(e, at)
}

func (f *fleet) kill(worker int) { f.workers[worker].kill() }

// end ends the workers: those that do not within a while are killed.
func (f *fleet) end(abort bool) {
	f.closing.Do(func() {
		if f.watch != nil {
			f.watch()
		}
		if abort {
			f.lead.Abort()
		}
		for _, w := range f.workers {
			w.letGo()
		}
		patience := time.After(3 * time.Second)
		for _, w := range f.workers {
			select {
			case <-w.ended:
			case <-patience:
				w.kill()
				if f.machines == nil {
					<-w.ended
				}
			}
		}
		f.lead.Close()
		f.machines.close()
	})
}

// processes says which there are, and what became of them.
func (f *fleet) processes() (p Processes) {
	if f == nil {
		return p
	}
	lost := f.lead.Lost()
	for i := range lost {
		lost[i].Machine = f.machines.of(lost[i].Worker)
	}
	return Processes{Workers: f.order.Workers, Machines: f.machines.summary(f.lead), Waited: f.lead.Waited(),
		Lost: lost}
}

// Work is what a worker process does: it joins the lead of a run, and serves its part of the clients. It returns when
// those have ended, or the lead is gone.
func Work(ctx context.Context, at *workers.Address, run string, number int, own *Own,
	read func(*trial.Source) (*trial.Trial, error)) error {
	w, b, err := workers.Join(ctx, at, run, number)
	if err != nil {
		return err
	}
	defer w.Close()
	var order workOrder
	if err := json.Unmarshal(b, &order); err != nil {
		return fmt.Errorf("what the lead wants: %w", err)
	}
	w.Deal(order.Loops)
	if own.Course != nil {
		go own.follow()
	}
	t, to, l, err := prepare(w.Context(), &order, number, own, read)
	kernelTimes := err == nil && l.drivers[0].KernelTimes()
	start, err := w.Ready(kernelTimes, err)
	if err != nil {
		return err
	}
	served := to.served()
	watcher := pressure.Watch(func() ([]int, bool) { return pressure.Listening(served) })
	defer watcher.Stop()
	giveProcessors(order.Loops)
	e := l.engine(engine.Config{Trial: t, Run: order.Run, Shares: order.Workers * order.Loops,
		First: number * order.Loops, Elsewhere: w, Start: start, Off: own.off()}, to, watcher)
	if err := w.Serve(e); err != nil {
		return err
	}
	err = e.Run(w.Context())
	if cause := context.Cause(w.Context()); cause != nil {
		err = cause
	}
	w.Done(err)
	return err
}

// prepare does what a worker can do before the run begins.
func prepare(ctx context.Context, order *workOrder, number int, own *Own, read func(*trial.Source) (*trial.Trial,
	error)) (
	*trial.Trial, *places, *layers, error) {
	machine.RaiseFileLimit()
	t, err := read(&order.Source)
	if err != nil {
		return nil, nil, nil, err
	}
	t.Seed, t.Kernel = order.Seed, false
	t.Target.At, t.Target.Anywhere = order.At, order.Anywhere
	to, err := findPlaces(ctx, &t.Target)
	if err != nil {
		return nil, nil, nil, err
	}
	if err := own.agrees(to); err != nil {
		return nil, nil, nil, err
	}
	if n := len(order.From); n > 0 {
		to.from(order.From[number%n])
	}
	l, err := stack(t, Options{Portable: order.Portable, Live: order.Live}, nil, order.Loops, number*order.Loops)
	return t, to, l, err
}

// from has all clients connect from an address of this machine.
func (p *places) from(at netip.Addr) {
	p.web.From = at
	for _, nodes := range p.routes {
		for i := range nodes {
			nodes[i].To.From = at
			for k := range nodes[i].Others {
				nodes[i].Others[k].From = at
			}
		}
	}
}

// sources gives each of some workers an address to connect from, if they would run out of ports otherwise: the system
// gives each pair of addresses and port of the target about 28,000. On loopback there are addresses enough.
func (p *places) sources(sockets, n int) (from []netip.Addr) {
	nodes := map[netip.AddrPort]bool{}
	for _, at := range p.served() {
		if !at.Addr().Unmap().Is4() || !at.Addr().IsLoopback() {
			return nil
		}
		nodes[at] = true
	}
	if sockets <= len(nodes)*machine.Ports() {
		return nil
	}
	for i := range n {
		from = append(from, netip.AddrFrom4([4]byte{127, 77, byte(i >> 8), byte(i + 1)}))
	}
	return from
}
