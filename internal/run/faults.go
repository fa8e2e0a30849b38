package run

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"math"
	"net/http"
	"slices"
	"sync"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/engine/process"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
	"tidepull/internal/wire"
)

// A Happened is one time that a fault happened, since the start of the run.
type Happened struct {
	Name string        `json:"name"`
	Do   string        `json:"do"`
	From time.Duration `json:"from_ns"`
	To   time.Duration `json:"to_ns"` // when it was over; 0: it is not yet
	Why  string        `json:"why"`   // it could not be done as it should; "" if it was
}

// A Sample is what the server's process used at the end of a second.
type Sample struct {
	At      int           `json:"second"` // -1: before the clients set out
	Runs    bool          `json:"runs"`
	Memory  int64         `json:"memory_bytes"`
	CPU     time.Duration `json:"cpu_ns"` // within the second
	Files   int           `json:"files"`
	Threads int           `json:"threads"`
	// Gauges are what the server says of itself (logbook.ServerGauges), by the names that the
	// trial gives them; nil of each that it does not say.
	Gauges [logbook.NumServerGauges]*float64 `json:"gauges"`
	Alone  bool                              `json:"gauges_alone"` // nothing is known of the process itself
}

// breaker makes a trial's faults happen to the server, and watches its process. One goroutine
// does so; what it has to tell is behind mu.
type breaker struct {
	trial  *trial.Trial
	server *process.Server // nil: nothing is known of its process
	start  mono.Time
	log    *slog.Logger
	cancel context.CancelFunc
	done   chan struct{}
	before process.Used
	thrown chan throwing            // by hand
	began  func() (mono.Time, bool) // see engine.Began
	web    *http.Client             // for the server's page of metrics
	pid    int

	mu       sync.Mutex
	happened []Happened
	samples  []Sample
}

// A throwing is a fault that is made to happen by hand, or ended.
type throwing struct {
	fault *trial.Fault
	on    bool
	at    time.Duration // since the start of the run
}

// throw makes a fault happen by hand, or ends it. What happens to clients is only noted: the
// engine sees to it.
func (b *breaker) throw(f *trial.Fault, on bool) {
	select {
	case b.thrown <- throwing{f, on, b.since()}:
	case <-b.done:
	}
}

// takeThrown carries out what is made to happen by hand.
func (b *breaker) takeThrown(ctx context.Context, t throwing, second *int) {
	f := t.fault
	switch {
	case f.Do == trial.RestartServer || f.Do == trial.StopServer:
		b.happen(ctx, f, second)
	case t.on:
		h := Happened{Name: f.Name, Do: f.Do.String(), From: t.at}
		switch {
		case f.Do == trial.PauseServer:
			b.why(&h, b.do(f))
		case f.Lasts > 0 || f.Do.AtOnce():
			h.To = h.From + f.Lasts
		}
		b.mu.Lock()
		b.happened = append(b.happened, h)
		b.mu.Unlock()
	default:
		var err error
		if f.Do == trial.PauseServer {
			err = b.undo(ctx, f)
		}
		b.mu.Lock()
		defer b.mu.Unlock()
		for i := range b.happened {
			if h := &b.happened[i]; h.Name == f.Name && h.To == 0 {
				h.To = t.at
				b.why(h, err)
			}
		}
	}
}

// why notes why a fault could not be made to happen, or ended, if it could not.
func (b *breaker) why(h *Happened, err error) {
	if err != nil {
		h.Why = err.Error()
		b.log.Error("a fault could not be made to happen", "name", h.Name, "error", err)
	}
}

// startServer starts the server that a trial names, if it names any.
func startServer(ctx context.Context, t *trial.Trial) (*process.Server, error) {
	if t.Server == nil || len(t.Server.Command) == 0 && t.Server.PID == 0 {
		return nil, nil
	}
	address := ""
	if a, err := wire.ParseAddress(t.Target.Address); err == nil && a.Scheme != "udp" {
		address = fmt.Sprintf("%s:%d", a.Name, a.Port)
	}
	c := t.Server
	return process.Start(ctx, process.Config{Command: c.Command, Dir: c.Dir, PID: c.PID, Ready: c.Ready,
		Address: address, Within: c.Within})
}

// begin begins to follow the run.
func (b *breaker) begin(ctx context.Context) {
	ctx, b.cancel = context.WithCancel(ctx)
	b.done, b.start = make(chan struct{}), mono.Now()
	if b.watches() {
		b.keep(-1)
	}
	go b.run(ctx)
}

// stop stops following the run, and looks at the server's process once more, now that all
// clients have gone: it may need a moment to notice.
func (b *breaker) stop() {
	b.cancel()
	<-b.done
	if len(b.samples) == 0 {
		return
	}
	second := int(b.since() / time.Second)
	for range 20 {
		b.keep(second)
		last := &b.samples[len(b.samples)-1]
		if !last.Runs || last.Files <= b.samples[0].Files && !leaves(last, &b.samples[0]) {
			return
		}
		time.Sleep(50 * time.Millisecond)
		b.mu.Lock()
		b.samples = b.samples[:len(b.samples)-1]
		b.mu.Unlock()
	}
	b.keep(second)
}

// leaves reports whether something is there that was not before.
func leaves(last, first *Sample) bool {
	for i, g := range last.Gauges {
		if before := first.Gauges[i]; g != nil && (before == nil && *g > 0 || before != nil && *g > *before) {
			return true
		}
	}
	return false
}

// end ends the server, if the trial started it, and what was open to its page of metrics.
func (b *breaker) end() {
	b.web.CloseIdleConnections()
	if b.server != nil {
		b.server.End()
	}
}

// since is how long the run has gone on, by the clock of its clients once that goes.
func (b *breaker) since() time.Duration {
	if began, ok := b.began(); ok {
		return mono.Now().Sub(began)
	}
	return mono.Now().Sub(b.start)
}

func (b *breaker) run(ctx context.Context) {
	defer close(b.done)
	moments := b.trial.Moments(func(f *trial.Fault) bool { return f.Do.AtServer() })
	second := 1
	for {
		next := time.Duration(second) * time.Second
		if len(moments) > 0 {
			next = min(next, moments[0].At)
		}
		if !b.sleepOrThrow(ctx, next, &second) {
			return
		}
		if len(moments) > 0 && moments[0].At <= b.since() {
			b.happen(ctx, moments[0].Fault, &second)
			moments = moments[1:]
		}
		b.sample(&second)
	}
}

// sleepOrThrow is sleep, and carries out what is made to happen by hand meanwhile.
func (b *breaker) sleepOrThrow(ctx context.Context, until time.Duration, second *int) bool {
	timer := time.NewTimer(max(0, until-b.since()))
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return false
	case t := <-b.thrown:
		b.takeThrown(ctx, t, second)
	case <-timer.C:
	}
	return true
}

// sleep waits until so long after the start; false if the run is over.
func (b *breaker) sleep(ctx context.Context, until time.Duration) bool {
	timer := time.NewTimer(max(0, until-b.since()))
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return false
	case <-timer.C:
		return true
	}
}

// happen makes a fault happen and waits until it is over; meanwhile the process is watched.
func (b *breaker) happen(ctx context.Context, f *trial.Fault, second *int) {
	b.mu.Lock()
	i := len(b.happened)
	b.happened = append(b.happened, Happened{Name: f.Name, Do: f.Do.String(), From: b.since()})
	b.mu.Unlock()
	b.log.Info("fault", "name", f.Name, "do", f.Do.String())
	err := b.do(f)
	if f.Do != trial.StopServer && err == nil {
		over := b.since() + f.Lasts
		for b.since() < over {
			if !b.sleep(ctx, min(over, time.Duration(*second)*time.Second)) {
				break // it is put right all the same
			}
			b.sample(second)
		}
		err = b.undo(ctx, f)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	h := &b.happened[i]
	if h.To = b.since(); f.Do == trial.StopServer {
		h.To = max(h.To, b.trial.Length())
	}
	b.why(h, err)
}

func (b *breaker) do(f *trial.Fault) error {
	if f.Do == trial.PauseServer {
		return b.server.Pause(true)
	}
	return b.server.Stop(f.Rude)
}

func (b *breaker) undo(ctx context.Context, f *trial.Fault) error {
	switch {
	case f.Do == trial.PauseServer:
		return b.server.Pause(false)
	case ctx.Err() != nil:
		return nil // the run is over: nobody needs it any more
	}
	return b.server.Begin(ctx)
}

// sample keeps what the process uses, once for each second that is over.
func (b *breaker) sample(second *int) {
	if !b.watches() || b.since() < time.Duration(*second)*time.Second {
		*second = max(*second, int(b.since()/time.Second)+1)
		return
	}
	b.keep(*second - 1)
	*second = int(b.since()/time.Second) + 1
}

// watches reports whether anything is to be known of the server's process.
func (b *breaker) watches() bool {
	return b.server != nil || b.trial.Server != nil && b.trial.Server.Metrics != ""
}

// use asks what the server's process uses, of itself or of the system, and which process it
// is (-1: the one that the page is of); what the server says of itself goes into the sample.
func (b *breaker) use(s *Sample) (u process.Used, pid int, ok bool) {
	if page := b.trial.Server.Metrics; page != "" {
		u, gauges, of, err := process.Scrape(context.Background(), b.web, page, b.trial.Server.Gauges[:])
		if err != nil {
			b.log.Warn("the server's metrics", "error", err)
			return u, 0, false
		}
		for i, v := range gauges {
			if !math.IsNaN(v) {
				s.Gauges[i] = &v
			}
		}
		if of || b.server == nil {
			s.Alone = !of
			return u, -1, true
		}
	}
	if pid = b.server.PID(); pid == 0 {
		return u, 0, false
	}
	u, ok = process.Use(pid)
	return u, pid, ok
}

// keep keeps what the process uses, under a second.
func (b *breaker) keep(second int) {
	s := Sample{At: second}
	if u, pid, ok := b.use(&s); ok {
		s.Runs, s.Memory, s.Files, s.Threads = true, u.Memory, u.Files, u.Threads
		if b.pid == pid {
			s.CPU = max(0, u.CPU-b.before.CPU)
		}
		b.before, b.pid = u, pid
	}
	b.mu.Lock()
	b.samples = append(b.samples, s)
	b.mu.Unlock()
}

// told gives what has happened and what was used so far.
func (b *breaker) told() (happened []Happened, samples []Sample) {
	if b == nil {
		return nil, nil
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	happened = append(happened, b.happened...)
	for _, m := range b.trial.Moments(func(f *trial.Fault) bool { return !f.Do.AtServer() }) {
		if m.At <= b.since() { // the shares do it by themselves
			happened = append(happened, Happened{m.Fault.Name, m.Fault.Do.String(), m.At, m.At + m.Fault.Lasts, ""})
		}
	}
	slices.SortStableFunc(happened, func(a, b Happened) int { return cmp.Compare(a.From, b.From) })
	return happened, b.samples[:len(b.samples):len(b.samples)]
}
