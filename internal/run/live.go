package run

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"tidepull/internal/base/units"
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
	add := func(do trial.FaultKind, share float64, more func(*trial.Fault)) {
		f := trial.Fault{Do: do, Whom: trial.Whom{Share: share, Crew: -1, Node: -1}, Up: true, Down: true}
		if more != nil {
			more(&f)
		}
		f.Name = liveName(&f)
		all = append(all, f)
	}
	add(trial.CutClients, 0.1, nil)
	add(trial.CutClients, 1, nil)
	add(trial.Unplug, 0.1, nil)
	add(trial.Freeze, 0.33, nil)
	add(trial.Delay, 1, func(f *trial.Fault) { f.By, f.Jitter = 100*time.Millisecond, 30*time.Millisecond })
	add(trial.Bandwidth, 1, func(f *trial.Fault) { f.Rate = 16 << 10 })
	add(trial.Split, 1, func(f *trial.Fault) { f.Piece = 16 })
	add(trial.Corrupt, 0.1, func(f *trial.Fault) { f.Chance = 0.01 })
	if t.Target.Has(trial.OverUDP) {
		add(trial.Lose, 1, func(f *trial.Fault) { f.Chance = 0.05 })
	}
	add(trial.Refuse, 1, nil)
	if server {
		add(trial.PauseServer, 1, nil)
		if t.Server != nil && t.Server.PID == 0 {
			add(trial.RestartServer, 1, func(f *trial.Fault) { f.Lasts = time.Second })
			add(trial.RestartServer, 1, func(f *trial.Fault) { f.Lasts, f.Rude = time.Second, true })
		}
	}
	return all
}

// liveName names a fault that is made to happen by hand, with what can be changed of it.
func liveName(f *trial.Fault) string {
	whom := "everybody"
	if f.Whom.Share < 1 {
		whom = fmt.Sprintf("%.3g %%", 100*f.Whom.Share)
	}
	switch f.Do {
	case trial.PauseServer:
		return "pause the server"
	case trial.RestartServer:
		return map[bool]string{true: "kill", false: "restart"}[f.Rude] + " the server, " + f.Lasts.String()
	case trial.Delay:
		return fmt.Sprintf("delay %s %v", whom, f.By)
	case trial.Bandwidth:
		return fmt.Sprintf("%s B/s for %s", units.Count(int64(f.Rate)), whom)
	case trial.Split:
		return fmt.Sprintf("split %s at %d B", whom, f.Piece)
	case trial.Corrupt, trial.Lose:
		return fmt.Sprintf("%s %.3g %% of %s", f.Do, 100*f.Chance, whom)
	}
	return f.Do.String() + " " + whom
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
		l := LiveFault{Fault: &own, Ends: f.Lasts == 0 && f.Do != trial.CutClients && f.Do != trial.RestartServer &&
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
	if changed = tuneHow(&f, more) || changed; !changed {
		return errors.New("nothing more can be changed that way")
	}
	if i < len(r.trial.Faults) {
		f.Name = r.trial.Faults[i].Name + ", changed"
	} else {
		f.Name = liveName(&f)
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

// tuneHow doubles or halves what a fault does; false if it cannot.
func tuneHow(f *trial.Fault, by int) bool {
	if by == 0 {
		return false
	}
	duration := func(d *time.Duration, least, most time.Duration) bool {
		if by > 0 { // from nothing, too
			*d = max(*d, least/2)
		}
		return tune(d, by, least, most)
	}
	switch f.Do {
	case trial.Delay:
		was := f.By
		if !duration(&f.By, 5*time.Millisecond, 20*time.Second) {
			return false
		}
		f.Jitter = time.Duration(float64(f.Jitter) * float64(f.By) / float64(was))
		return true
	case trial.Join, trial.CutIdle:
		return duration(&f.By, 5*time.Millisecond, 5*time.Minute)
	case trial.RestartServer:
		return duration(&f.Lasts, 250*time.Millisecond, time.Minute)
	case trial.Bandwidth:
		return tune(&f.Rate, by, 64, 1<<30)
	case trial.Split:
		return tune(&f.Piece, by, 1, 1<<16)
	case trial.Corrupt, trial.Lose, trial.Double, trial.Reorder:
		return tune(&f.Chance, by, 0.0005, 1)
	}
	return false
}

// tune doubles a value or halves it; false if it would be too little or too much.
func tune[T int | float64 | time.Duration](v *T, by int, least, most T) bool {
	to := *v / 2
	if by > 0 {
		to = 2 * *v
	}
	if to < least || to > most {
		return false
	}
	*v = to
	return true
}
