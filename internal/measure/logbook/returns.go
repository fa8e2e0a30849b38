package logbook

// ReturnCounts are what became within one second of clients that lost their connection and
// come back.
type ReturnCounts struct {
	Broke int64 // connections that broke
	// of them: the server, or something between, ended them while no fault of the trial's was about the client
	Unprovoked int64
	Tries      int64 // to come back
	Accepted   int64 // of them: the connection was agreed on
	Refused    int64 // of them: the server said no
	TimedOut   int64 // of them: nothing answered in time
	Failed     int64 // of them: the connection could not be made, or broke again
	Back       int64 // clients that are back: in all the rooms that they were in
	GaveUp     int64 // clients that tried for long enough
	StillAway  int64 // clients that were away when they were to go, after tries that failed
	NoTime     int64 // clients that were away when they were to go, before any try had failed
	// rooms whose numbers began again after a return, as seen by the clients that are followed
	Renumbered int64
	Away       int64 // how many were away at the end of the second; summed up, in client seconds
}

// returnFigures are the figures of clients that come back.
func returnFigures(add func(name string, unit Unit, doc string, of func(*Window) float64) *Figure) {
	for _, f := range []struct {
		name, doc string
		of        func(*ReturnCounts) int64
	}{
		{"broke", "connections that broke, of clients that come back", func(c *ReturnCounts) int64 { return c.Broke }},
		{"unprovoked", "of them: those that the server, or something between, ended while no fault of the trial's " +
			"was about the client", func(c *ReturnCounts) int64 { return c.Unprovoked }},
		{"tries", "tries to come back", func(c *ReturnCounts) int64 { return c.Tries }},
		{"accepted", "tries to come back whose connection was agreed on",
			func(c *ReturnCounts) int64 { return c.Accepted }},
		{"refused", "tries to come back that the server refused", func(c *ReturnCounts) int64 { return c.Refused }},
		{"timed_out", "tries to come back that nothing answered in time",
			func(c *ReturnCounts) int64 { return c.TimedOut }},
		{"failed", "tries to come back whose connection could not be made, or broke again",
			func(c *ReturnCounts) int64 { return c.Failed }},
		{"back", "clients that came back, into all the rooms that they were in",
			func(c *ReturnCounts) int64 { return c.Back }},
		{"gave_up", "clients that did not come back: they gave up, or were away when they were to go, after " +
			"tries that failed",
			func(c *ReturnCounts) int64 { return c.GaveUp + c.StillAway }},
		{"renumbered", "times that the numbers of a room began again after a return, as seen by up to 256 " +
			"clients of each crew", func(c *ReturnCounts) int64 { return c.Renumbered }},
	} {
		add("returns."+f.name, Count, f.doc, func(w *Window) float64 { return float64(f.of(&w.Counts.Returns)) }).
			some = func(w *Window) bool {
			return w.Counts.Returns.Broke > 0 || w.Counts.Started > 0 &&
				f.name == "gave_up"
		}
	}
}
