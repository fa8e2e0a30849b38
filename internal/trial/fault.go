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
	Share float64       // Cut: of the clients, from 0 to 1
}

// FaultKind is what a fault does.
type FaultKind uint8

// The kinds of faults.
const (
	RestartServer FaultKind = iota // it ends, is down for a while, and begins again
	StopServer                     // it ends, and does not come back
	PauseServer                    // it stands still for a while, and goes on
	CutClients                     // the connections of a share of the clients break
)

// FaultKinds are their names.
var FaultKinds = []string{"restart", "stop", "pause", "cut"}

func (k FaultKind) String() string { return FaultKinds[k] }

// AtServer reports whether the fault is something that happens to the server's process.
func (k FaultKind) AtServer() bool { return k != CutClients }

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
	Ready   string        // what stands in a line of its output once it is ready; "": once it accepts connections
	Within  time.Duration // how soon it must be ready, and how long it may take to end
}
