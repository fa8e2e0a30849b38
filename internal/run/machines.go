package run

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"sync"
	"time"

	"tidepull/internal/engine/clocks"
	"tidepull/internal/engine/workers"
	"tidepull/internal/measure/logbook"
)

// Over says over which machines a run's clients are dealt out.
type Over struct {
	Address  workers.Address // the NATS server where they meet
	Machines int             // how many are waited for; 0: those that are there
	Version  string          // of the tool, which has to be theirs
}

// machines are those that serve a run.
type machines struct {
	shares []workers.Share
	clock  *clocks.Clock // of this machine, that they follow
}

const (
	offersIn = 2 * time.Second // machines answer within
	joinIn   = time.Minute     // as many as are wanted join within
	hireIn   = 10 * time.Second
)

// startOver starts the workers of a run on other machines.
func startOver(ctx context.Context, o Options, log *slog.Logger, loops int) (*fleet, error) {
	t := o.Trial
	f := &fleet{log: log, order: workOrder{Source: t.Source, Seed: t.Seed, At: t.Target.At, Anywhere: t.Target.Anywhere,
		Loops: loops, Run: runNumber(), Portable: o.Portable, Live: o.Live}}
	var err error
	if f.lead, err = workers.Meet(&o.Over.Address); err != nil {
		return nil, err
	}
	f.machines = &machines{}
	return f.gather(ctx, joinIn+time.Minute, func() error {
		// Which machines there are is known before how many workers.
		var err error
		if f.machines.shares, err = o.Over.deal(ctx, f.lead, t.Clients(), log); err != nil {
			return err
		}
		for _, s := range f.machines.shares {
			f.order.Workers += s.Workers
		}
		var secret clocks.Secret
		_, _ = rand.Read(secret[:])       // never fails
		at, here := o.Over.Address.Here() // where machines find this one
		if !here {
			at = netip.IPv6Unspecified()
		}
		f.machines.clock, err = clocks.Serve(netip.AddrPortFrom(at, 0), secret)
		if err := errors.Join(err, f.expect(t)); err != nil {
			return err
		}
		return f.hire(ctx, secret)
	})
}

// deal finds machines, and deals the clients out to them.
func (o *Over) deal(ctx context.Context, lead *workers.Lead, clients int, log *slog.Logger) ([]workers.Share, error) {
	within := offersIn
	if o.Machines > 0 {
		within = joinIn
	}
	all, err := lead.Offers(ctx, o.Machines, within)
	if err != nil {
		return nil, err
	}
	var wrong []error
	good := slices.DeleteFunc(all, func(m workers.Offer) bool {
		switch {
		case m.Version != o.Version:
			wrong = append(wrong, fmt.Errorf("machine %s has tide pull %s, and this one %s", m.Name, m.Version,
				o.Version))
		case m.Busy:
			wrong = append(wrong, fmt.Errorf("machine %s serves another run", m.Name))
		default:
			log.Info("a machine", "name", m.Name, "clients", m.Clients, "workers", m.Workers)
			return false
		}
		return true
	})
	if len(good) < max(1, o.Machines) {
		return nil, errors.Join(append(wrong, fmt.Errorf("%d machines have joined at %s; start tidepull join there, "+
			"with "+
			"the same token", len(good), o.Address.URL))...)
	}
	return workers.Deal(clients, good, MostWorkers)
}

// hire has the machines start the workers.
func (f *fleet) hire(ctx context.Context, secret clocks.Secret) error {
	n := f.order.Workers
	over := make([]chan struct{}, n)
	var once = make([]sync.Once, n)
	for i := range over {
		over[i] = make(chan struct{})
	}
	if err := f.lead.Endings(func(worker int, why string) {
		once[worker].Do(func() { close(over[worker]) })
		go f.lead.Ended(worker, why) // what it told before may be on its way
		f.log.Info("a worker has ended", "worker", worker, "why", why)
	}); err != nil {
		return err
	}
	clock := []string{f.machines.clock.Addr().String()}
	if at := f.machines.clock.Addr(); at.Addr().IsUnspecified() {
		clock = addresses(at.Port())
	}
	next := 0
	for _, s := range f.machines.shares {
		h := workers.Hiring{Clock: clock, Secret: secret[:]}
		for range s.Workers {
			number, m := next, s.Machine
			release := func(kill bool) {
				ctx, end := context.WithTimeout(context.Background(), time.Second)
				defer end()
				_ = f.lead.Release(ctx, m, number, kill) // a machine that is gone ends its workers by itself
			}
			f.workers = append(f.workers, hand{letGo: func() { release(false) }, kill: func() { release(true) },
				ended: over[number]})
			h.Workers = append(h.Workers, number)
			next++
		}
		hiring, cancel := context.WithTimeout(ctx, hireIn)
		err := f.lead.Hire(hiring, s.Machine, h)
		cancel()
		if err != nil {
			return err
		}
	}
	return nil
}

// addresses are those of this machine that others may reach it by, with a port.
func addresses(port uint16) (all []string) {
	own, _ := net.InterfaceAddrs() // none: the clock is asked for over NATS
	for _, a := range own {
		if p, err := netip.ParsePrefix(a.String()); err == nil && !p.Addr().IsLinkLocalUnicast() {
			all = append(all, net.JoinHostPort(p.Addr().String(), strconv.Itoa(int(port))))
		}
	}
	return all
}

// byShare says on which machine each share is; nil: all are on this one.
func (m *machines) byShare(loops int) (all []int) {
	if m == nil {
		return nil
	}
	for i, s := range m.shares {
		for range s.Workers * loops {
			all = append(all, i)
		}
	}
	return all
}

// summary says which there are.
func (m *machines) summary(lead *workers.Lead) (all []MachineSummary) {
	if m == nil {
		return nil
	}
	first := 0
	for _, s := range m.shares {
		one := MachineSummary{Name: s.Machine.Name, Workers: s.Workers}
		for i := range s.Workers {
			one.ClockOff = max(one.ClockOff, round(logbook.Micros(lead.Off(first+i))))
		}
		all = append(all, one)
		first += s.Workers
	}
	return all
}

// of is the machine that a worker is on; "": this one.
func (m *machines) of(worker int) string {
	if m == nil {
		return ""
	}
	for _, s := range m.shares {
		if worker < s.Workers {
			return s.Machine.Name
		}
		worker -= s.Workers
	}
	return ""
}

func (m *machines) close() {
	if m != nil && m.clock != nil {
		m.clock.Close()
	}
}
