package logbook

// ServerUse is what the server's process used over a run, if it was watched.
type ServerUse struct {
	Watched                             bool
	MemoryFirst, MemoryMost, MemoryLast int64 // bytes: before the clients came, at most, after they had gone
	FilesFirst, FilesMost, FilesLast    int64
	ThreadsFirst, ThreadsMost           int64
	ThreadsLast                         int64
	CPU                                 float64 // microseconds
	Clients                             int64   // that were connected when it used the most memory
}

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
		add("server."+f.name, f.unit, f.doc, f.of).some = watched
	}
}
