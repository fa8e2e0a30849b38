package run

import (
	"errors"
	"time"

	"tidepull/internal/trial"
)

// A LiveFault is a fault that can be made to happen by hand while a run goes on.
type LiveFault struct {
	Fault *trial.Fault
	Since time.Duration // since the start of the run, when it was made to happen; 0: it does not go on
	Ends  bool          // it goes on until it is ended by hand
}

// liveFaults lists what can be made to happen by hand: the trial's own faults, and some that
// are always of use.
func liveFaults(t *trial.Trial, server bool) (all []trial.Fault) {
	for _, f := range t.Faults {
		f.Every, f.Times = 0, 1
		all = append(all, f)
	}
	add := func(name string, do trial.FaultKind, share float64, more func(*trial.Fault)) {
		f := trial.Fault{Name: name, Do: do, Whom: trial.Whom{Share: share, Crew: -1, Node: -1}, Up: true, Down: true}
		if more != nil {
			more(&f)
		}
		all = append(all, f)
	}
	add("cut a tenth", trial.CutClients, 0.1, nil)
	add("cut everybody", trial.CutClients, 1, nil)
	add("unplug a tenth", trial.Unplug, 0.1, nil)
	add("freeze a third", trial.Freeze, 1.0/3, nil)
	add("far away", trial.Delay, 1, func(f *trial.Fault) { f.By, f.Jitter = 100*time.Millisecond, 30*time.Millisecond })
	add("nobody gets in", trial.Refuse, 1, nil)
	if server {
		add("pause the server", trial.PauseServer, 1, nil)
		if t.Server != nil && t.Server.PID == 0 {
			add("restart the server", trial.RestartServer, 1, func(f *trial.Fault) { f.Lasts = time.Second })
			add("kill the server", trial.RestartServer, 1, func(f *trial.Fault) { f.Lasts, f.Rude = time.Second, true })
		}
	}
	return all
}

// Faults lists what Throw can make happen; nothing if the run is over, or was not started with
// Options.Live.
func (r *Run) Faults() (all []LiveFault) {
	if r.Snapshot().Finished {
		return nil
	}
	now := r.breaker.since()
	r.throwing.Lock()
	defer r.throwing.Unlock()
	for i := range r.live {
		f := &r.live[i]
		l := LiveFault{Fault: f, Ends: f.Lasts == 0 && f.Do != trial.CutClients && f.Do != trial.RestartServer &&
			f.Do != trial.StopServer}
		if g := r.going[i]; g != nil && (g.ends == 0 || now < g.ends) {
			l.Since = g.since
		}
		all = append(all, l)
	}
	return all
}

// going is a fault that was made to happen by hand.
type going struct {
	fault       *trial.Fault
	since, ends time.Duration // ends 0: it goes on until it is ended by hand
}

// Throw makes one of Faults happen, by its place in the list, or ends it if it goes on until
// it is ended by hand.
func (r *Run) Throw(i int) error {
	all := r.Faults()
	if i < 0 || i >= len(all) {
		return errors.New("the run is over")
	}
	r.throwing.Lock()
	defer r.throwing.Unlock()
	l, on := all[i], true
	g := r.going[i]
	switch {
	case l.Since != 0 && !l.Ends:
		return errors.New("it goes on, and ends by itself")
	case l.Since != 0:
		on = false
		delete(r.going, i)
	default:
		f := *l.Fault
		g = &going{fault: &f, since: r.breaker.since()}
		if !l.Ends {
			g.ends = g.since + f.Lasts
		}
		r.going[i] = g
	}
	r.breaker.throw(g.fault, on)
	return r.engine.Throw(g.fault, on)
}
