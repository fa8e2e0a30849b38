package logbook

import "strings"

// ServerUse is what the server's process used over a run, if it was watched.
type ServerUse struct {
	Watched                             bool
	Over                                bool  // the last of it is from after all clients had gone
	MemoryFirst, MemoryMost, MemoryLast int64 // bytes: before the clients came, at most, after they had gone
	FilesFirst, FilesMost, FilesLast    int64
	ThreadsFirst, ThreadsMost           int64
	ThreadsLast                         int64
	Gauges                              [NumServerGauges]ServerGauge
	CPU                                 float64 // microseconds
	Clients                             int64   // that were connected when it used the most memory
}

// What a server says of itself on its page of metrics, if the trial says under which name.
const (
	OpenConnections = iota
	Members
	Presence
	NumServerGauges
)

// ServerGauges are their names.
var ServerGauges = [NumServerGauges]string{"connections", "members", "presence"}

// A ServerGauge is one of them before the clients came, at most, and after they had gone.
type ServerGauge struct {
	Known             bool
	First, Most, Last float64
}

// Left is what is there after all clients have gone that was not before they came.
func (g *ServerGauge) Left() float64 { return max(0, g.Last-g.First) }

// PerDelivery is the processor time for each message that came, in microseconds.
func (u *ServerUse) PerDelivery(w *Window) float64 { return u.CPU / float64(max(1, w.Counts.Arrivals)) }

// PerClient is the memory that each client cost at most, in bytes.
func (u *ServerUse) PerClient() float64 {
	return float64(u.MemoryMost-u.MemoryFirst) / float64(max(1, u.Clients))
}

// serverFigures are the figures of the server's process.
func serverFigures(add func(name string, unit Unit, doc string, of func(*Window) float64) *Figure) {
	watched := func(w *Window) bool { return w.Server.Watched }
	for _, f := range []struct {
		name, doc string
		unit      Unit
		of        func(*Window) float64
	}{
		{"memory_most", "bytes of memory that the server's process used at most", Count,
			func(w *Window) float64 { return float64(w.Server.MemoryMost) }},
		{"memory_left", "bytes of memory that it uses after all clients have gone beyond what it did before they came",
			Count, func(w *Window) float64 { return float64(max(0, w.Server.MemoryLast-w.Server.MemoryFirst)) }},
		{"memory_per_client", "bytes of memory at most, less those before the clients came, for each client", Ratio,
			func(w *Window) float64 { return w.Server.PerClient() }},
		{"cpu_per_delivery", "its processor time for each message that came", Duration,
			func(w *Window) float64 { return w.Server.PerDelivery(w) }},
		{"files_most", "files that it had open at most", Count,
			func(w *Window) float64 { return float64(w.Server.FilesMost) }},
		{"files_left", "files that it has open after all clients have gone beyond those before they came", Count,
			func(w *Window) float64 { return float64(max(0, w.Server.FilesLast-w.Server.FilesFirst)) }},
		{"threads_most", "threads that it had at most", Count,
			func(w *Window) float64 { return float64(w.Server.ThreadsMost) }},
		{"threads_left", "threads that it has after all clients have gone beyond those before they came", Count,
			func(w *Window) float64 { return float64(max(0, w.Server.ThreadsLast-w.Server.ThreadsFirst)) }},
	} {
		of := add("server."+f.name, f.unit, f.doc, f.of)
		of.some = watched
		if strings.HasSuffix(f.name, "_left") {
			of.some = func(w *Window) bool { return watched(w) && w.Server.Over }
		}
	}
	for i, name := range ServerGauges {
		known := func(w *Window) bool { return w.Server.Gauges[i].Known }
		what := map[int]string{OpenConnections: "connections", Members: "members of rooms",
			Presence: "members that are announced"}[i]
		add("server."+name+"_most", Count, what+" that the server counted at most, by its own page",
			func(w *Window) float64 { return w.Server.Gauges[i].Most }).some = known
		add("server."+name+"_left", Count, what+" that it counts after all clients have gone beyond those before they "+
			"came", func(w *Window) float64 { return w.Server.Gauges[i].Left() }).some = func(w *Window) bool {
			return known(w) && w.Server.Over
		}
	}
}
