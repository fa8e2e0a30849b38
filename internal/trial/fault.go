package trial

import (
	"cmp"
	"fmt"
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
	Spread   int           // Delay: how, see impair.Spreads
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

// FaultKind is what a fault does.
type FaultKind uint8

// The kinds of faults.
const (
	RestartServer FaultKind = iota // it ends, is down for a while, and begins again
	StopServer                     // it ends, and does not come back
	PauseServer                    // it stands still for a while, and goes on
	CutClients                     // the connections of a share of the clients break
	// On the path between clients and server:
	Unplug    // nothing arrives at a client, not even at its system
	Freeze    // nothing goes through, and comes once it is over
	Delay     // everything is on its way for longer
	Bandwidth // no more goes through than so many bytes a second
	Split     // bytes go on in pieces
	Join      // bytes go on together with those after them
	Corrupt   // bytes are changed
	Lose      // datagrams are lost
	Double    // datagrams come twice
	Reorder   // datagrams come after later ones
	Refuse    // new connections are refused
	Stall     // new connections do not come to be open
	Answer    // upgrades are answered with a status
	Strip     // upgrades lose what says that they are
	CutIdle   // connections over which nothing goes are cut
)

// FaultKinds are their names.
var FaultKinds = []string{"restart", "stop", "pause", "cut", "unplug", "freeze", "delay", "bandwidth", "split", "join",
	"corrupt", "lose", "double", "reorder", "refuse", "stall", "answer", "strip", "cut_idle"}

func (k FaultKind) String() string { return FaultKinds[k] }

// AtServer reports whether the fault is something that happens to the server's process.
func (k FaultKind) AtServer() bool { return k < CutClients }

// OnPath reports whether the fault is something that a path does to what goes over it.
func (k FaultKind) OnPath() bool { return k >= Freeze }

// ByKernel reports whether it is something that the system's traffic control can do: it knows
// packets, not pieces of what clients say. It can double them, too, but not beside whatever else it
// delays or loses (netem: "cannot mix duplicating netems with other netems in tree").
func (k FaultKind) ByKernel() bool {
	return k == Freeze || k == Delay || k == Bandwidth || k == Corrupt || k == Lose || k == Reorder
}

// Datagrams reports whether the fault is about datagrams alone.
func (k FaultKind) Datagrams() bool { return k == Lose || k == Double || k == Reorder }

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

// Words says in words what the fault does.
func (f *Fault) Words() string {
	whom := "all clients"
	if f.Whom.Share < 1 {
		whom = fmt.Sprintf("%.3g %% of the clients", 100*f.Whom.Share)
	}
	if f.Whom.Crew >= 0 {
		whom += " of one crew"
	}
	if f.Whom.Room != "" {
		whom += " in " + f.Whom.Room
	}
	path := "on the path of " + whom
	if f.Up != f.Down && f.Do < Refuse {
		path += map[bool]string{true: ", up", false: ", down"}[f.Up]
	}
	rudely := map[bool]string{true: "is killed", false: "is asked to end"}[f.Rude]
	switch f.Do {
	case RestartServer:
		return fmt.Sprintf("the server %s, and begins again after %v", rudely, f.Lasts)
	case StopServer:
		return "the server " + rudely
	case PauseServer:
		return "the server's process stands still"
	case CutClients:
		return "the connections of " + whom + " break"
	case Unplug:
		return "nothing arrives at " + whom + ", not even at their system"
	case Freeze:
		return "nothing goes through " + path + ", and comes once it is over"
	case Delay:
		return fmt.Sprintf("everything takes %v longer, give or take %v, %s", f.By, f.Jitter, path)
	case Bandwidth:
		return fmt.Sprintf("%d bytes a second go through %s", f.Rate, path)
	case Split:
		return fmt.Sprintf("bytes go on in pieces of %d %s", f.Piece, path)
	case Join:
		return fmt.Sprintf("what comes within %v goes on together %s", f.By, path)
	case Corrupt:
		return fmt.Sprintf("a byte is changed in %.3g %% of the pieces %s", 100*f.Chance, path)
	case Lose, Double, Reorder:
		return fmt.Sprintf("%.3g %% of the datagrams %s %s", 100*f.Chance, map[FaultKind]string{Lose: "are lost",
			Double: "come twice", Reorder: "come after later ones"}[f.Do], path)
	case Refuse:
		return "new connections of " + whom + " are refused"
	case Stall:
		return "new connections of " + whom + " do not come to be open"
	case Answer:
		return fmt.Sprintf("upgrades of %s are answered %d", whom, f.Status)
	case Strip:
		return "upgrades of " + whom + " are stripped, as by a proxy"
	}
	return fmt.Sprintf("connections of %s are cut over which nothing went for %v", whom, f.By)
}
