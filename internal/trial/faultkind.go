package trial

import (
	"fmt"
	"slices"
	"time"

	"tidepull/internal/base/units"
)

// FaultKind is what a fault does.
type FaultKind uint8

// The kinds of faults. All that is particular to one is its row in faultKinds.
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
	NumFaultKinds
)

// Where a fault happens.
type place uint8

const (
	atServer  place = iota // to its process
	atClients              // to their connections
	onPath                 // to what goes over the path between them
	onOpening              // to how connections come to be open there
)

// A faultKind is all that is particular to a kind of fault.
type faultKind struct {
	name      string
	where     place
	datagrams bool // it is about datagrams alone
	upgrades  bool // it is about requests to upgrade
	// kernel is set if the system's traffic control can do it: it knows packets, not pieces of what
	// clients say. It can double them, too, but not beside whatever else it delays or loses (netem:
	// "cannot mix duplicating netems with other netems in tree").
	kernel bool

	args  []string  // attributes of a fault block that go with it, beside those that go with all
	needs [2]string // one of them that must be given, and what it is; "": none

	hampers func(*Fault) Hampers         // nil: nothing of what clients say and hear
	effect  func(*Fault, *Effects, *Way) // on the path; nil: none
	words   func(f *Fault, whom, path string) string
	short   func(f *Fault, whom string) string // for a list; nil: its name and whom
	tune    func(f *Fault, by int) bool        // does twice as much, or half, by hand; nil: it cannot
	byHand  []Fault                            // such as can be thrown by hand in any run
}

var faultKinds = [NumFaultKinds]faultKind{
	RestartServer: {name: "restart", args: []string{"rude"},
		words: func(f *Fault, _, _ string) string {
			return fmt.Sprintf("the server %s, and begins again after %v", f.ends(), f.Lasts)
		},
		short: func(f *Fault, _ string) string {
			return map[bool]string{true: "kill", false: "restart"}[f.Rude] + " the server, " + f.Lasts.String()
		},
		tune:   func(f *Fault, by int) bool { return scale(&f.Lasts, by, 250*time.Millisecond, time.Minute) },
		byHand: []Fault{{Lasts: time.Second}, {Lasts: time.Second, Rude: true}}},
	StopServer: {name: "stop", args: []string{"rude"},
		words: func(f *Fault, _, _ string) string { return "the server " + f.ends() }},
	PauseServer: {name: "pause",
		words: func(*Fault, string, string) string { return "the server's process stands still" },
		short: func(*Fault, string) string { return "pause the server" }, byHand: []Fault{{}}},
	CutClients: {name: "cut", where: atClients, args: []string{"reset"},
		words:  func(_ *Fault, whom, _ string) string { return "the connections of " + whom + " break" },
		byHand: []Fault{{Whom: Whom{Share: 0.1}}, {}}},
	Unplug: {name: "unplug", where: atClients,
		hampers: func(*Fault) Hampers { return Hampers{Says: true, Hears: true, Resends: true} },
		effect:  func(_ *Fault, e *Effects, _ *Way) { e.Stall = true },
		words: func(_ *Fault, whom, _ string) string {
			return "nothing arrives at " + whom + ", not even at their system"
		},
		byHand: []Fault{{Whom: Whom{Share: 0.1}}}},
	Freeze: {name: "freeze", where: onPath, kernel: true, args: []string{"direction"},
		hampers: keepsBack,
		effect:  func(_ *Fault, _ *Effects, w *Way) { w.Frozen = true },
		words: func(_ *Fault, _, path string) string {
			return "nothing goes through " + path + ", and comes once it is over"
		},
		byHand: []Fault{{Whom: Whom{Share: 0.33}}}},
	Delay: {name: "delay", where: onPath, kernel: true, args: []string{"direction", "by", "jitter", "spread"},
		needs:  [2]string{"by", "a duration"},
		effect: func(f *Fault, _ *Effects, w *Way) { w.Delay, w.Jitter, w.Spread = f.By, f.Jitter, Spread(f.Spread) },
		words: func(f *Fault, _, path string) string {
			return fmt.Sprintf("everything takes %v longer, give or take %v, %s", f.By, f.Jitter, path)
		},
		short: func(f *Fault, whom string) string { return fmt.Sprintf("delay %s %v", whom, f.By) },
		tune: func(f *Fault, by int) bool {
			was := f.By
			if !scale(&f.By, by, 5*time.Millisecond, 20*time.Second) {
				return false
			}
			f.Jitter = time.Duration(float64(f.Jitter) * float64(f.By) / float64(was))
			return true
		},
		byHand: []Fault{{By: 100 * time.Millisecond, Jitter: 30 * time.Millisecond}}},
	Bandwidth: {name: "bandwidth", where: onPath, kernel: true, args: []string{"direction", "bytes_per_second"},
		needs:   [2]string{"bytes_per_second", "how many bytes go through"},
		hampers: keepsBack,
		effect:  func(f *Fault, _ *Effects, w *Way) { w.Rate = f.Rate },
		words: func(f *Fault, _, path string) string {
			return fmt.Sprintf("%d bytes a second go through %s", f.Rate, path)
		},
		short: func(f *Fault, whom string) string {
			return fmt.Sprintf("%s B/s for %s", units.Count(int64(f.Rate)), whom)
		},
		tune:   func(f *Fault, by int) bool { return scale(&f.Rate, by, 64, 1<<30) },
		byHand: []Fault{{Rate: 16 << 10}}},
	Split: {name: "split", where: onPath, args: []string{"direction", "bytes"},
		needs:  [2]string{"bytes", "how many bytes go on at once"},
		effect: func(f *Fault, _ *Effects, w *Way) { w.Piece = f.Piece },
		words: func(f *Fault, _, path string) string {
			return fmt.Sprintf("bytes go on in pieces of %d %s", f.Piece, path)
		},
		short:  func(f *Fault, whom string) string { return fmt.Sprintf("split %s at %d B", whom, f.Piece) },
		tune:   func(f *Fault, by int) bool { return scale(&f.Piece, by, 1, 1<<16) },
		byHand: []Fault{{Piece: 16}}},
	Join: {name: "join", where: onPath, args: []string{"direction", "by"}, needs: [2]string{"by", "a duration"},
		effect: func(f *Fault, _ *Effects, w *Way) { w.Join = f.By },
		words: func(f *Fault, _, path string) string {
			return fmt.Sprintf("what comes within %v goes on together %s", f.By, path)
		},
		tune: func(f *Fault, by int) bool { return scale(&f.By, by, 5*time.Millisecond, 5*time.Minute) }},
	Corrupt: {name: "corrupt", where: onPath, kernel: true, args: []string{"direction", "chance"}, needs: chanceNeeded,
		effect: func(f *Fault, _ *Effects, w *Way) { w.Corrupt = f.Chance },
		words: func(f *Fault, _, path string) string {
			return fmt.Sprintf("a byte is changed in %.3g %% of the pieces %s", 100*f.Chance, path)
		},
		short: shortChance, tune: tuneChance, byHand: []Fault{{Chance: 0.01, Whom: Whom{Share: 0.1}}}},
	Lose: {name: "lose", where: onPath, datagrams: true, kernel: true, args: []string{"direction", "chance"},
		needs: chanceNeeded, effect: func(f *Fault, _ *Effects, w *Way) { w.Lose = f.Chance },
		words: ofDatagrams("are lost"), short: shortChance, tune: tuneChance, byHand: []Fault{{Chance: 0.05}}},
	Double: {name: "double", where: onPath, datagrams: true, args: []string{"direction", "chance"}, needs: chanceNeeded,
		effect: func(f *Fault, _ *Effects, w *Way) { w.Double = f.Chance },
		words:  ofDatagrams("come twice"), tune: tuneChance},
	Reorder: {name: "reorder", where: onPath, datagrams: true, kernel: true, args: []string{"direction", "chance"},
		needs: chanceNeeded, effect: func(f *Fault, _ *Effects, w *Way) { w.Reorder = f.Chance },
		words: ofDatagrams("come after later ones"), tune: tuneChance},
	Refuse: {name: "refuse", where: onOpening, effect: func(_ *Fault, e *Effects, _ *Way) { e.Refuse = true },
		words:  func(_ *Fault, whom, _ string) string { return "new connections of " + whom + " are refused" },
		byHand: []Fault{{}}},
	Stall: {name: "stall", where: onOpening,
		effect: func(_ *Fault, e *Effects, _ *Way) { e.Stall = true },
		words: func(_ *Fault, whom,
			_ string) string {
			return "new connections of " + whom + " do not come to be open"
		}},
	Answer: {name: "answer", where: onOpening, upgrades: true, args: []string{"status"},
		effect: func(f *Fault, e *Effects, _ *Way) { e.Status = f.Status },
		words: func(f *Fault, whom, _ string) string {
			return fmt.Sprintf("upgrades of %s are answered %d", whom, f.Status)
		}},
	Strip: {name: "strip", where: onOpening, upgrades: true,
		effect: func(_ *Fault, e *Effects, _ *Way) { e.Strip = true },
		words: func(_ *Fault, whom,
			_ string) string {
			return "upgrades of " + whom + " are stripped, as by a proxy"
		}},
	CutIdle: {name: "cut_idle", where: onOpening, args: []string{"by"}, needs: [2]string{"by", "a duration"},
		effect: func(f *Fault, e *Effects, _ *Way) { e.Idle = f.By },
		words: func(f *Fault, whom, _ string) string {
			return fmt.Sprintf("connections of %s are cut over which nothing went for %v", whom, f.By)
		},
		tune: func(f *Fault, by int) bool { return scale(&f.By, by, 5*time.Millisecond, 5*time.Minute) }},
}

var chanceNeeded = [2]string{"chance", "a share of the pieces, or datagrams"}

// keepsBack is what those do that let nothing through, or little at a time.
func keepsBack(f *Fault) Hampers { return Hampers{Says: f.Up, Hears: f.Down} }

func ofDatagrams(what string) func(*Fault, string, string) string {
	return func(f *Fault, _, path string) string {
		return fmt.Sprintf("%.3g %% of the datagrams %s %s", 100*f.Chance, what, path)
	}
}

func shortChance(f *Fault, whom string) string {
	return fmt.Sprintf("%s %.3g %% of %s", f.Do, 100*f.Chance, whom)
}

func tuneChance(f *Fault, by int) bool { return scale(&f.Chance, by, 0.0005, 1) }

// ends is how a server is ended.
func (f *Fault) ends() string {
	return map[bool]string{true: "is killed", false: "is asked to end"}[f.Rude]
}

// scale doubles a value, or halves it if by is -1; false if it would be too little or too much.
// Nothing is doubled to the least.
func scale[T int | float64 | time.Duration](v *T, by int, least, most T) bool {
	to := *v / 2
	if by > 0 {
		to = max(2**v, least)
	}
	if to < least || to > most {
		return false
	}
	*v = to
	return true
}

// FaultKinds are their names.
var FaultKinds = func() (names []string) {
	for i := range faultKinds {
		names = append(names, faultKinds[i].name)
	}
	return names
}()

func (k FaultKind) String() string { return faultKinds[k].name }

// AtServer reports whether the fault is something that happens to the server's process.
func (k FaultKind) AtServer() bool { return faultKinds[k].where == atServer }

// OnPath reports whether the fault is something that a path does to what goes over it, or keeps from it.
func (k FaultKind) OnPath() bool { return faultKinds[k].where >= onPath }

// ByKernel reports whether it is something that the system's traffic control can do.
func (k FaultKind) ByKernel() bool { return faultKinds[k].kernel }

// Datagrams reports whether the fault is about datagrams alone.
func (k FaultKind) Datagrams() bool { return faultKinds[k].datagrams }

// Upgrades reports whether the fault is about requests to upgrade to a WebSocket.
func (k FaultKind) Upgrades() bool { return faultKinds[k].upgrades }

// AtOnce reports whether the fault is over as soon as it has happened; how long it lasts then is
// how long the server is down, or clients stay away.
func (k FaultKind) AtOnce() bool { return k == RestartServer || k == StopServer || k == CutClients }

// Takes reports whether an attribute of fault blocks goes with the kind: some do not go with all.
func (k FaultKind) Takes(attribute string) bool {
	some := false
	for i := range faultKinds {
		some = some || slices.Contains(faultKinds[i].args, attribute)
	}
	return !some || slices.Contains(faultKinds[k].args, attribute)
}

// Needs is an attribute that a fault of the kind must have, and what it is in words; "" if none.
func (k FaultKind) Needs() (attribute, what string) {
	return faultKinds[k].needs[0], faultKinds[k].needs[1]
}

// Hampers is what the fault means for what its clients say and hear.
func (f *Fault) Hampers() Hampers {
	if h := faultKinds[f.Do].hampers; h != nil {
		return h(f)
	}
	return Hampers{}
}

// Effects is what the fault is as something that a path does.
func (f *Fault) Effects() (e Effects) {
	var w Way
	if effect := faultKinds[f.Do].effect; effect != nil {
		effect(f, &e, &w)
	}
	if f.Up {
		e.Up = w
	}
	if f.Down {
		e.Down = w
	}
	return e
}

// Tune has the fault do twice as much, or half if by is -1; false if it cannot.
func (f *Fault) Tune(by int) bool {
	tune := faultKinds[f.Do].tune
	return by != 0 && tune != nil && tune(f, by)
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
	if f.Up != f.Down {
		path += map[bool]string{true: ", up", false: ", down"}[f.Up]
	}
	return faultKinds[f.Do].words(f, whom, path)
}

// Short names the fault for a list, with what of it can be changed by hand.
func (f *Fault) Short() string {
	whom := "everybody"
	if f.Whom.Share < 1 {
		whom = fmt.Sprintf("%.3g %%", 100*f.Whom.Share)
	}
	if short := faultKinds[f.Do].short; short != nil {
		return short(f, whom)
	}
	return f.Do.String() + " " + whom
}

// FaultsByHand are faults of each kind that can be thrown by hand in any run, those of the server
// last.
func FaultsByHand() (all []Fault) {
	add := func(kind FaultKind) {
		for _, f := range faultKinds[kind].byHand {
			f.Do, f.Up, f.Down, f.Whom.Crew, f.Whom.Node = kind, true, true, -1, -1
			if f.Whom.Share == 0 {
				f.Whom.Share = 1
			}
			f.Name = f.Short()
			all = append(all, f)
		}
	}
	for kind := CutClients; kind < NumFaultKinds; kind++ {
		add(kind)
	}
	add(PauseServer)
	add(RestartServer)
	return all
}
