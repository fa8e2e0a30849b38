package main

import (
	"context"
	"errors"
	"fmt"
	"math"
	"os"
	"runtime"
	"strings"
	"time"

	"tidepull/internal/base/units"
	"tidepull/internal/engine/machine"
	"tidepull/internal/engine/poll"
	"tidepull/internal/run"
	"tidepull/internal/trial"
	"tidepull/internal/trial/language"
)

type selfcheckCommand struct {
	File   string            `arg:"" optional:"" help:"A trial: what could be driven of it here."`
	Set    map[string]string `mapsep:"none" placeholder:"NAME=VALUE" help:"${set}"`
	Window time.Duration     `default:"5s" help:"How long each pace is kept up."`
	Most   float64           `default:"256" placeholder:"N" help:"Try at most so many times the trial's own pace."`
	spreading
}

// Run says what the machine allows, and what of a trial could be driven on it.
func (c *selfcheckCommand) Run(a *app) error {
	if err := c.spreading.check(); err != nil {
		return err
	}
	if c.Most < 1 || c.Window < leastWindow {
		return fmt.Errorf("--most is %g and --window %v: they may be 1 and %v, or more", c.Most, c.Window, leastWindow)
	}
	var t *trial.Trial
	need := machine.Need{Workers: c.Workers}
	if c.File != "" {
		var err error
		if t, err = language.Load(c.File, language.Options{Set: c.Set}); err != nil {
			return err
		}
		need.Sockets, need.Nodes, need.From = t.Sockets(), len(t.Target.Nodes), len(t.Target.From)
	}
	hinders := c.machine(need)
	var measured error
	if t != nil {
		measured = c.measure(a, t)
	}
	if measured == nil && hinders > 0 {
		return &exitError{exitNotProven, units.Plural(hinders, "thing") + " of this machine: see \"short\" above"}
	}
	return measured
}

// machine prints what the machine allows, and says how much of it is not enough.
func (c *selfcheckCommand) machine(need machine.Need) (hinders int) {
	checks := machine.Checks(os.DirFS("/"), machine.RaiseFileLimit(), need)
	stamps := machine.Check{Of: "arrival times", State: machine.Serves, Is: "the kernel stamps what arrives"}
	if !poll.Stamped() {
		stamps.State, stamps.Is = machine.Narrow, "the kernel does not stamp what arrives: latencies have the "+
			"tool's own in them"
	}
	look := machine.ClockCost()
	clock := machine.Check{Of: "clock, read", State: machine.Serves, Is: fmt.Sprintf("a look takes %v", look)}
	if look > 500*time.Nanosecond {
		clock.State = machine.Narrow
	}
	checks = append(checks, stamps, clock, busy())
	widest := 0
	for _, k := range checks {
		widest = max(widest, len(k.Of))
	}
	for _, k := range checks {
		fmt.Printf("%-*s  %-7s  %s\n", widest, k.Of, k.State, k.Is)
		if k.Mend != "" {
			fmt.Printf("%-*s           %s\n", widest, "", k.Mend)
		}
		if k.State == machine.Hinders {
			hinders++
		}
	}
	return hinders
}

// busy looks at the cores for a second: what others take of them, this process cannot have.
func busy() machine.Check {
	const look = time.Second
	used, stolen := machine.Cores()
	own := machine.Now()
	time.Sleep(look)
	now, taken := machine.Cores()
	others := max(0, now-used-(machine.Now().Process-own.Process)).Seconds() / look.Seconds()
	away := (taken - stolen).Seconds() / look.Seconds()
	c := machine.Check{Of: "cores", State: machine.Serves, Is: fmt.Sprintf("%d, of which others use %.1f now",
		runtime.NumCPU(), others)}
	if away > 0.02 {
		c.Is += fmt.Sprintf(", and what the machine runs on takes %.1f", away)
	}
	if others+away > 0.2*float64(runtime.NumCPU()) {
		c.State = machine.Narrow
	}
	return c
}

// A drive is what came of a search for the fastest pace.
type drive struct {
	best    run.Pace
	planned float64 // deliveries a second; 0: that is not known
	more    string  // why it may prove more: no faster pace could be tried; "": it proves no more
	stopped bool
}

// measure runs the trial's own clients against the stand-in, ever faster, as long as this machine proves it.
func (c *selfcheckCommand) measure(a *app, t *trial.Trial) error {
	board, err := startStandin(nil)
	if err != nil {
		return err
	}
	defer board.stop()
	source, leftOut, err := c.words(a, t, board)
	if err != nil {
		return err
	}
	if leftOut != nil {
		fmt.Printf("\nthe stand-in does not speak the dialect %q: this is the same load in its own words",
			t.Dialect.Name)
		if len(leftOut) > 0 {
			fmt.Printf(", without %s", strings.Join(leftOut, ", "))
		}
		fmt.Println()
	}
	fmt.Printf("\nits %s, in its rooms, against the stand-in on this machine, each pace for %v:\n",
		units.Plural(t.Clients(), "client"), c.Window)
	d, err := c.faster(a, source)
	if err != nil || d.stopped {
		return err
	}
	plan := "what it plans is not known"
	switch {
	case t.ClosedLoop:
		plan, d.planned = "some of what it says comes as fast as answers do", 0
	case d.planned > 0:
		plan = fmt.Sprintf("it plans %s", units.Count(int64(d.planned)))
	}
	if d.best.Proven < 1 {
		fmt.Printf("this machine proves nothing of this trial; %s\n", plan)
		return &exitError{exitNotProven, ""}
	}
	upTo, more := "up to ", ""
	if d.more != "" {
		upTo, more = "", ", and more: "+d.more
	}
	fmt.Printf("this machine proves %s%s deliveries a second of this trial%s; %s\n", upTo,
		units.Count(int64(d.best.Proven)), more, plan)
	if d.planned > d.best.Proven*1.03 {
		return &exitError{exitNotProven, ""}
	}
	return nil
}

// words are the trial as it can be run against a stand-in: its own if the stand-in understands them; else in the
// stand-in's, and leftOut, which is not nil then, says what those have no words for.
func (c *selfcheckCommand) words(a *app, t *trial.Trial, board *standinProcess) (source func() (*trial.Trial, error),
	leftOut []string, err error) {
	own := func() (*trial.Trial, error) {
		return language.Load(c.File, language.Options{Set: c.Set, Target: board.url})
	}
	if t.Target.Route(0).Kind == trial.WebSocket && len(t.Target.Nodes) < 2 && !t.Target.Secure() {
		few := math.Min(1, 20/float64(max(1, t.Clients())))
		last, err := c.once(a, own, trial.Shape{Scale: few, Flood: 500 * time.Millisecond, Steady: 2 * time.Second})
		if err != nil {
			return nil, nil, err
		}
		counts := last.Total.Counts
		if counts.Denied+counts.Refused+counts.Broken+counts.Unknown == 0 &&
			(last.Total.Total.Delivered > 0 || counts.Entries > 0 && counts.Sent == 0) {
			return own, nil, nil
		}
	}
	like, err := trial.Like(t, board.host())
	if err != nil {
		return nil, nil, fmt.Errorf("%s cannot be driven without its server: %w", c.File, err)
	}
	return func() (*trial.Trial, error) { return language.Again(&like.Source) }, like.LeftOut, nil
}

// once runs the trial in a shape, without what it would break, and without its limits.
func (c *selfcheckCommand) once(a *app, source func() (*trial.Trial, error), s trial.Shape) (*run.Snapshot, error) {
	t, err := source()
	if err != nil {
		return nil, err
	}
	t.Reshape(s)
	t.Limits, t.Faults, t.FinalChecks, t.Server, t.Alerts = nil, nil, nil, nil, nil
	r, err := run.Start(context.Background(), run.Options{Trial: t, Loops: c.Loops, Workers: c.Workers, Log: a.log})
	if err != nil {
		return nil, err
	}
	stop := onSignals(r, false)
	last := r.Wait()
	stop()
	if last.Err != nil && !errors.Is(last.Err, context.Canceled) {
		return nil, last.Err
	}
	return last, nil
}

// Bounds on the search for the fastest pace.
const (
	leastWindow = 3 * time.Second // a pace is the mean over as many (run.Pace)
	leastHurry  = 1.0 / 256
	tries       = 2 // of a pace that is not proven: something else may have taken the machine's time
	finer       = 2 // steps between the last pace that is proven and the first that is not
	// A stand-in that delivers less than so much of what it should is at its end before this machine is.
	leastGain = 0.9
)

// faster tries one pace after another.
func (c *selfcheckCommand) faster(a *app, source func() (*trial.Trial, error)) (d drive, err error) {
	t, err := source()
	if err != nil {
		return d, err
	}
	flood := max(time.Second, time.Duration(float64(t.Clients())/2000*float64(time.Second)))
	from := int((flood+time.Second-1)/time.Second) +
		1 // a second more at each end: who comes in and goes is not the pace
	// try reports what is proven at a pace; if that is nothing, it was stopped, or this machine cannot do it.
	try := func(hurry float64) (p run.Pace, err error) {
		for range tries {
			last, err := c.once(a, source, trial.Shape{Flood: flood, Steady: c.Window + 2*time.Second, Hurry: hurry})
			if err != nil {
				return p, err
			}
			if d.stopped = last.Stopped; d.stopped {
				return run.Pace{}, nil
			}
			p = last.Pace(from, from+int(c.Window/time.Second))
			if p.Planned < 1 && hurry < 1 { // so slow that nothing is left of it, and it is not proven yet
				return run.Pace{}, nil
			}
			if p.Planned < 1 {
				return p, fmt.Errorf("nothing is said that anybody is owed in %v: take a longer --window", c.Window)
			}
			word := "not proven"
			if p.Seconds > 0 {
				word = "proven"
			}
			fmt.Printf("  %6.3g times its pace  %9s deliveries a second  %s\n", hurry,
				units.Count(int64(max(p.Proven, p.Planned))), word)
			if p.Seconds > 0 {
				if d.planned == 0 {
					d.planned = p.Proven / hurry
				}
				if p.Proven > d.best.Proven {
					d.best = p
				}
				return p, nil
			}
			if last.Total.Overloaded > 0 {
				fmt.Printf("         %s\n", last.Total.Why.Words())
			}
		}
		return p, nil
	}
	low, high := 0.0, 0.0 // the fastest pace that is proven, and the slowest that is not; 0: there is none
	for hurry := 1.0; (low == 0 || high == 0) && hurry <= c.Most && hurry >= leastHurry; {
		p, err := try(hurry)
		switch {
		case err != nil || d.stopped:
			return d, err
		case p.Seconds == 0:
			high = hurry
			hurry /= 2
		case p.Proven < leastGain*d.planned*hurry:
			d.more = "the stand-in gives no more"
			return d, nil
		default:
			low = hurry
			hurry *= 2
		}
	}
	if high == 0 {
		d.more = "no faster pace was tried"
		return d, nil
	}
	for range finer {
		if low == 0 {
			break
		}
		middle := math.Sqrt(low * high)
		p, err := try(middle)
		switch {
		case err != nil || d.stopped:
			return d, err
		case p.Seconds > 0:
			low = middle
		default:
			high = middle
		}
	}
	return d, nil
}
