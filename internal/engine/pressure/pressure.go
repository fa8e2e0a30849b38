// Package pressure watches how long the programs that matter to a run were kept from a
// core: the tool's loops, and the server under test if it runs on this machine. What the
// tool waits for itself says little of that: a loop that sleeps most of the time is given
// a core at once, while a busy server beside it is starved.
//
// Two things are told apart, because they do different harm. A single wait, however many
// there are of them, delays a message by its length. A thread that wants a core all the
// time and does not get it falls behind, further with every second.
//
// If the processes of a server on this machine cannot be seen, the pressure on the whole
// machine says whether it may have starved.
//
//	/proc/PID/task/*/schedstat ──each 20 ms──> Watcher ──Between──> engine (marks, doubts)
//	/proc/stat, /proc/pressure/cpu ──100 ms──┘
package pressure

import (
	"os/signal"
	"sync"
	"time"

	"tidepull/internal/base/mono"
)

// A Pressure is what is known of some time.
type Pressure struct {
	// Known reports whether the system says anything at all.
	Known bool
	// Longest is the longest that a thread that was ready to run was kept from a core at
	// a time. Several short waits that ended between two looks count as one.
	Longest time.Duration
	// Starved is for how long some thread wanted a core all the time and had to wait for
	// more than a fifth of it, because of others.
	Starved time.Duration
	// Crowded is for how long the tool's loops, or the server's threads, waited for a core
	// longer than they ran. On a calm machine they wait for about half as long.
	Crowded time.Duration
	// Stopped is set if the process was stopped, and told to go on.
	Stopped bool
	// Stood is the longest that not even the watcher ran at a time: the process was stopped, or
	// its whole machine was.
	Stood time.Duration
}

const (
	// lookEvery is from one look to the next; what a look costs may stretch it, to keep
	// below a fiftieth of a core.
	lookEvery   = 20 * time.Millisecond
	costShare   = 50
	longestLook = 250 * time.Millisecond
	// judgeEvery is how often it is judged over the time judgedOver whether a thread starves.
	judgeEvery = 100 * time.Millisecond
	judgedOver = time.Second
	// wantsAll and waitsFor are the shares of the time that a starving thread runs or
	// waits, and waits.
	wantsAll, waitsFor = 0.9, 0.2
	// neighbours is how much of a core others must have used for a server's threads to
	// be starved by them: one that fills the machine alone does it to itself.
	neighbours = 0.25
	// littleWaiting is how much waiting in judgedOver is not worth a word.
	littleWaiting = 20 * time.Millisecond
	// crowded is the share of the time in which something on the machine waited for a core
	// (Linux, Documentation/accounting/psi.rst) from which on a server on it whose
	// processes are not known counts as starved.
	crowded = 0.5
	// stoodAfter is how much later than due a look must come to say that nothing ran.
	stoodAfter = 200 * time.Millisecond
	// kept is how far back Between can look.
	kept = 2 * time.Minute
	// maxThreads bounds the server's threads that are looked at.
	maxThreads = 512
)

// A sample is what one look found, of the time since the one before.
type sample struct {
	from, to mono.Time
	Pressure
}

// A Watcher looks until it is stopped. Its methods may be called from any goroutine.
type Watcher struct {
	find func() (pids []int, here bool)
	stop chan struct{}
	done chan struct{}

	mu      sync.Mutex
	loops   []int    // threads of the tool
	samples []sample // the oldest first
}

// Watch begins to watch. find gives the processes of the server, and whether it runs on
// this machine; it is called from the watcher's goroutine, at most once a second, while no
// such process is known.
func Watch(find func() (pids []int, here bool)) *Watcher {
	w := &Watcher{find: find, stop: make(chan struct{}), done: make(chan struct{})}
	go w.run()
	return w
}

// Stop ends the watching.
func (w *Watcher) Stop() {
	close(w.stop)
	<-w.done
}

// Loop says that a thread of this process is one of the tool's loops.
func (w *Watcher) Loop(thread int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.loops = append(w.loops, thread)
}

// Between says what is known of the time from one instant to another.
func (w *Watcher) Between(from, to mono.Time) (p Pressure) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for i := len(w.samples) - 1; i >= 0; i-- {
		s := &w.samples[i]
		// A wait is seen once it is over: it may have begun long before the look.
		if began := min(s.from, s.to.Add(-max(s.Longest, s.Stood))); began > to {
			continue
		}
		if s.to < from {
			break
		}
		p.Known = p.Known || s.Known
		p.Longest = max(p.Longest, s.Longest)
		p.Starved += s.Starved
		p.Crowded += s.Crowded
		p.Stopped = p.Stopped || s.Stopped
		p.Stood = max(p.Stood, s.Stood)
	}
	return p
}

// add keeps a sample, and forgets what is too old.
func (w *Watcher) add(s sample) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.samples = append(w.samples, s)
	if old := len(w.samples) / 2; old > 0 && w.samples[old].to < s.to.Add(-kept) {
		w.samples = append(w.samples[:0], w.samples[old:]...)
	}
}

func (w *Watcher) threads() []int {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.loops
}

// run looks until Stop.
func (w *Watcher) run() {
	defer close(w.done)
	timer := time.NewTimer(0)
	defer timer.Stop()
	l := newLook()
	defer l.close()
	wait := time.Duration(0)
	last := mono.Now()
	on := goesOn()
	defer signal.Stop(on)
	for {
		select {
		case <-w.stop:
			return
		case <-on:
			w.add(sample{from: last, to: mono.Now(), Pressure: Pressure{Stopped: true}})
			continue
		case <-timer.C:
		}
		began := mono.Now()
		s := sample{from: last, to: began}
		if late := began.Sub(last) - wait; late > stoodAfter {
			s.Stood = late
		}
		s.Known = l.look(w, &s, began)
		w.add(s)
		last = began
		wait = min(max(lookEvery, costShare*mono.Now().Sub(began)), longestLook)
		timer.Reset(wait)
	}
}
