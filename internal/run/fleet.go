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

// TokenVariable is the environment variable in which a worker finds what opens the lead's server.
const TokenVariable = "TIDEPULL_WORKER_TOKEN"

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
	workers     []*exec.Cmd
	inputs      []io.Closer // of each: it ends with its input
	log         *slog.Logger
	ended       []chan struct{} // by worker: its process is over
	watch       context.CancelFunc
	closing     sync.Once
}

// startFleet starts the workers of a run, which wait to begin.
func startFleet(ctx context.Context, o Options, log *slog.Logger, to *places, n, loops int) (*fleet, error) {
	t := o.Trial
	f := &fleet{log: log, order: workOrder{Source: t.Source, Seed: t.Seed, At: t.Target.At, Anywhere: t.Target.Anywhere,
		Workers: n, Loops: loops, Run: runNumber(), Portable: o.Portable, Live: o.Live, From: o.From}}
	if len(f.order.From) == 0 {
		f.order.From = to.sources(t.Sockets(), n)
	}
	order, err := json.Marshal(f.order)
	if err != nil {
		return nil, fmt.Errorf("what workers are to do: %w", err)
	}
	f.lead, err = workers.Listen(workers.Config{Workers: n, Shares: loops, Clients: t.Clients(), Grace: t.Grace,
		Announced: t.Dialect.Gone.When != nil, Order: order})
	if err != nil {
		return nil, err
	}
	tool := o.Tool
	if tool == "" {
		if tool, err = os.Executable(); err != nil {
			f.lead.Close()
			return nil, fmt.Errorf("the tool's own program: %w", err)
		}
	}
	gathering, cancel := context.WithTimeoutCause(ctx, time.Minute, errors.New("some are not there after a minute"))
	defer cancel()
	for i := range n {
		if err := f.start(tool, i); err != nil {
			f.end(true)
			return nil, fmt.Errorf("starting worker %d: %w", i, err)
		}
	}
	if f.kernelTimes, err = f.lead.Gather(gathering); err != nil {
		f.end(true)
		return nil, err
	}
	return f, nil
}

// start starts one worker. It ends with its input, which ends with this process.
func (f *fleet) start(tool string, number int) error {
	c := exec.Command(tool, "work", "--lead", f.lead.URL(), strconv.Itoa(number))
	c.Env = append(os.Environ(), TokenVariable+"="+f.lead.Token())
	c.Stderr = os.Stderr
	process.Apart(c)
	in, err := c.StdinPipe()
	if err != nil {
		return err
	}
	if err := c.Start(); err != nil {
		return err
	}
	ended := make(chan struct{})
	f.workers, f.inputs, f.ended = append(f.workers, c), append(f.inputs, in), append(f.ended, ended)
	go func() {
		defer close(ended)
		err := c.Wait()
		why := "ended before its clients had"
		if err != nil {
			why = "ended: " + err.Error()
		}
		f.lead.Ended(number, why)
		f.log.Info("a worker has ended", "worker", number, "error", err)
	}()
	return nil
}

// engine makes the engine that has the account of what the workers tell.
func (f *fleet) engine(t *trial.Trial) *engine.Engine {
	return engine.New(engine.Config{Trial: t, Run: f.order.Run, Shares: f.order.Workers * f.order.Loops,
		Elsewhere: f.lead, Start: mono.Now().Add(settingUp + time.Duration(t.Clients())*perClient)})
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

func (f *fleet) kill(worker int) { _ = f.workers[worker].Process.Kill() } // it may have ended by itself

// end ends the workers: those that do not within a while are killed.
func (f *fleet) end(abort bool) {
	f.closing.Do(func() {
		if f.watch != nil {
			f.watch()
		}
		if abort {
			f.lead.Abort()
		}
		for _, in := range f.inputs {
			in.Close()
		}
		patience := time.After(3 * time.Second)
		for i, ended := range f.ended {
			select {
			case <-ended:
			case <-patience:
				f.kill(i)
				<-ended
			}
		}
		f.lead.Close()
	})
}

// processes says which there are, and what became of them.
func (f *fleet) processes() (p Processes) {
	if f == nil {
		return p
	}
	return Processes{Workers: f.order.Workers, Waited: f.lead.Waited(), Lost: f.lead.Lost()}
}

// Work is what a worker process does: it joins the lead at a NATS URL, which a token opens, and serves its part of the
// clients. It returns when those have ended, or the lead is gone.
func Work(ctx context.Context, lead, token string, number int, read func(*trial.Source) (*trial.Trial, error)) error {
	w, b, err := workers.Join(ctx, lead, token, number)
	if err != nil {
		return err
	}
	defer w.Close()
	var order workOrder
	if err := json.Unmarshal(b, &order); err != nil {
		return fmt.Errorf("what the lead wants: %w", err)
	}
	w.Deal(order.Loops)
	t, to, l, err := prepare(w.Context(), &order, number, read)
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
		First: number * order.Loops, Elsewhere: w, Start: start}, to, watcher)
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
func prepare(ctx context.Context, order *workOrder, number int, read func(*trial.Source) (*trial.Trial, error)) (
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
