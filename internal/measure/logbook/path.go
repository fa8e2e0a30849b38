package logbook

// PathCounts are what faults of the trial did on the path between clients and server within
// one second.
type PathCounts struct {
	Clients   int64 // that a fault began for
	Delayed   int64 // pieces that were held back
	Corrupted int64 // pieces of which a byte was changed
	Lost      int64 // datagrams
	Doubled   int64 // datagrams
	Reordered int64 // datagrams
	Refused   int64 // connections
	Stalled   int64 // connections
	Stripped  int64 // requests to upgrade
	Answered  int64 // requests to upgrade
	CutIdle   int64 // connections
}

// Add adds what happened in another part of a run.
func (c *PathCounts) Add(d *PathCounts) { addUp(c, d) }

// Each calls f with each count, its name and what it is of.
func (c *PathCounts) Each(f func(name, doc string, n int64)) {
	f("clients", "clients that a fault on their path began for, each time", c.Clients)
	f("delayed", "pieces that faults held back", c.Delayed)
	f("corrupted", "pieces of which faults changed a byte", c.Corrupted)
	f("lost", "datagrams that faults lost", c.Lost)
	f("doubled", "datagrams that faults had come twice", c.Doubled)
	f("reordered", "datagrams that faults had come after later ones", c.Reordered)
	f("refused", "connections that faults refused", c.Refused)
	f("stalled", "connections that faults did not let come to be open", c.Stalled)
	f("stripped", "requests to upgrade that faults stripped", c.Stripped)
	f("answered", "requests to upgrade that faults answered", c.Answered)
	f("cut_idle", "connections that faults cut as nothing went over them", c.CutIdle)
}

// pathFigures are the figures of faults on the path.
func pathFigures(add func(name string, unit Unit, doc string, of func(*Window) float64) *Figure) {
	(&PathCounts{}).Each(func(name, doc string, _ int64) {
		add("path."+name, Count, doc, func(w *Window) (v float64) {
			w.Counts.Path.Each(func(other, _ string, n int64) {
				if other == name {
					v = float64(n)
				}
			})
			return v
		}).some = func(w *Window) bool { return w.Counts.Path.Clients > 0 }
	})
}
