package run

import (
	"errors"
	"slices"
	"time"

	"tidepull/internal/trial"
)

// A LiveFault is a fault that can be made to happen by hand while a run goes on.
type LiveFault struct {
	// Key picks it: a letter that is the same in all runs, and a digit for those of the trial; "" if there are too
	// many.
	Key   string
	Fault *trial.Fault
	Since time.Duration // since the start of the run, when it was made to happen; 0: it does not go on
	Ends  bool          // it goes on until it is ended by hand
}

// liveFaults lists what can be made to happen by hand: the trial's own faults, and some that
// are always of use.
func liveFaults(t *trial.Trial, server bool) (all []trial.Fault, keys []string) {
	for i, f := range t.Faults {
		f.Every, f.Times = 0, 1
		all, keys = append(all, f), append(keys, keyOf(i, "123456789"))
	}
	for i, f := range trial.FaultsByHand() {
		switch {
		case f.Do.Datagrams() && !t.Target.Has(trial.OverUDP), f.Do.AtServer() && !server,
			f.Do == trial.RestartServer && (t.Server == nil || t.Server.PID != 0):
		default:
			all, keys = append(all, f), append(keys, keyOf(i, "abcdeghilmnoprstuvwxyzABCDEGHILMN"))
		}
	}
	return all, keys
}

// keyOf is the i-th of some keys; "" if there are not so many.
func keyOf(i int, keys string) string {
	if i >= len(keys) {
		return ""
	}
	return keys[i : i+1]
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
		own := *f // which Tune may change
		l := LiveFault{Fault: &own, Key: r.liveKeys[i], Ends: f.Lasts == 0 && !f.Do.AtOnce()}
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

// shares are those of the clients that a fault by hand can be about.
var shares = []float64{0.01, 0.02, 0.05, 0.1, 0.2, 0.33, 0.5, 0.75, 1}

// Tune changes one of Faults, by its place in the list, before it is made to happen: it is about
// more clients or fewer, by whom, and does more or less of what it does, by how much; both are -1,
// 0 or 1.
func (r *Run) Tune(i, whom, more int) error {
	all := r.Faults()
	if i < 0 || i >= len(all) {
		return errors.New("the run is over")
	}
	if all[i].Since != 0 {
		return errors.New("it goes on")
	}
	r.throwing.Lock()
	defer r.throwing.Unlock()
	f := r.live[i]
	changed := tuneWhom(&f, whom)
	if changed = f.Tune(more) || changed; !changed {
		return errors.New("nothing more can be changed that way")
	}
	if i < len(r.trial.Faults) {
		f.Name = r.trial.Faults[i].Name + ", changed"
	} else {
		f.Name = f.Short()
	}
	r.live[i] = f
	return nil
}

// tuneWhom makes a fault about more clients, or fewer; false if it cannot.
func tuneWhom(f *trial.Fault, by int) bool {
	if by == 0 || f.Do.AtServer() {
		return false
	}
	at, exact := slices.BinarySearch(shares, f.Whom.Share)
	if by > 0 && !exact {
		by = 0 // it stands before the next one
	}
	if at += by; at < 0 || at >= len(shares) {
		return false
	}
	f.Whom.Share = shares[at]
	return true
}
