package trial

import (
	"cmp"
	"slices"
	"time"
)

// A Fault is something that a trial breaks on purpose.
type Fault struct {
	Name  string
	Do    FaultKind
	At    time.Duration // since the start of the run
	Lasts time.Duration // how long the server is down, or stands still, or cut clients stay away at least
	Every time.Duration // from one time to the next; 0: once
	Times int           // how often; at least 1
	Rude  bool          // Restart and Stop: the server is not asked to end, but killed
	Reset bool          // CutClients: the server gets a reset, and not an end in order
	Whom  Whom          // of what happens to clients
	// What happens on the path of clients; which of them count depends on Do.
	Up, Down bool          // the directions
	By       time.Duration // Delay: by how much; Join: what comes within it goes on together; CutIdle: after how long
	Jitter   time.Duration // Delay: it varies by so much
	Spread   int           // Delay: how, see Spreads
	Rate     int           // Bandwidth: bytes in a second
	Piece    int           // Split: bytes that go on at once
	Chance   float64       // Corrupt, Lose, Double, Reorder: for each piece or datagram, from 0 to 1
	Status   int           // Answer
}

// Whom says which clients a fault is about.
type Whom struct {
	Share float64 // of those that the rest is about, from 0 to 1
	Crew  int     // -1: of all
	Node  int     // -1: of all
	Room  string  // those that are in it when it happens; "": wherever they are
}

// NeedsNetem reports whether, with Kernel, some fault needs the queue that delays and drops packets.
func (t *Trial) NeedsNetem() bool {
	return slices.ContainsFunc(t.Faults, func(f Fault) bool {
		return f.Do.ByKernel() && f.Do != Freeze && f.Do != Bandwidth
	})
}

// HasPath reports whether any of the trial's faults is on the path of clients.
func (t *Trial) HasPath() bool {
	for i := range t.Faults {
		if t.Faults[i].Do.OnPath() || t.Faults[i].Do == Unplug {
			return true
		}
	}
	return false
}

// A Moment is one time at which a fault happens.
type Moment struct {
	Fault *Fault
	At    time.Duration
}

// Moments lists when faults happen, in the order of time.
func (t *Trial) Moments(which func(*Fault) bool) (all []Moment) {
	for i := range t.Faults {
		f := &t.Faults[i]
		for n := range max(1, f.Times) {
			if which(f) {
				all = append(all, Moment{f, f.At + time.Duration(n)*f.Every})
			}
		}
	}
	slices.SortStableFunc(all, func(a, b Moment) int { return cmp.Compare(a.At, b.At) })
	return all
}

// A Server is the process of the server under test.
type Server struct {
	Command []string      // that starts it; nil: it runs already
	Dir     string        // where; "": here
	PID     int           // of one that runs already; 0: it is started
	Metrics string        // the address of its Prometheus page; "": the system is asked what it uses
	Gauges  [3]string     // what logbook.ServerGauges are called there; "": it does not say
	Ready   string        // what stands in a line of its output once it is ready; "": once it accepts connections
	Within  time.Duration // how soon it must be ready, and how long it may take to end
}
