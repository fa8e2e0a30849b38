package run

import (
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/meter"
)

// Returns are how clients came back after their connection broke.
type Returns struct {
	Broke      int64           `json:"broke"`
	Back       int64           `json:"back"`
	GaveUp     int64           `json:"gave_up"`    // after the tries or the time that they have
	StillAway  int64           `json:"still_away"` // when they were to go, after tries that failed
	NoTime     int64           `json:"no_time"`    // away when they were to go, before any try had failed
	Tries      int64           `json:"tries"`
	Accepted   int64           `json:"accepted"`
	Refused    int64           `json:"refused"`
	TimedOut   int64           `json:"timed_out"`
	Failed     int64           `json:"failed"`
	Away       float64         `json:"away_seconds"` // of all clients together
	Unprovoked int64           `json:"unprovoked"`   // of broke: by the server, while no fault was about the client
	Renumbered int64           `json:"renumbered"`   // rooms whose numbers began again, as seen
	Reconnect  meter.Latencies `json:"reconnect"`    // from a connection found broken to the next one agreed on
	BackIn     meter.Latencies `json:"back_in"`      // to being in all rooms again
	CaughtUp   meter.Latencies `json:"caught_up_in"` // to the last of what was missed having come
}

func returnsOf(w *logbook.Window) Returns {
	c := &w.Counts.Returns
	return Returns{c.Broke, c.Back, c.GaveUp, c.StillAway, c.NoTime, c.Tries, c.Accepted, c.Refused, c.TimedOut,
		c.Failed, float64(c.Away), c.Unprovoked, c.Renumbered, w.Times[logbook.ToReconnect].Latencies(),
		w.Times[logbook.ToReturn].Latencies(), w.Times[logbook.ToCatchUp].Latencies()}
}

// A ServerSummary is what the server's process used, if it was watched.
type ServerSummary struct {
	Watched         bool    `json:"watched"`
	MemoryBefore    int64   `json:"memory_before_bytes"`
	MemoryMost      int64   `json:"memory_most_bytes"`
	MemoryLast      int64   `json:"memory_last_bytes"`
	FilesBefore     int     `json:"files_before"`
	FilesMost       int     `json:"files_most"`
	FilesLast       int     `json:"files_last"`
	ThreadsMost     int     `json:"threads_most"`
	CPU             float64 `json:"cpu_us"` // of all seconds in which one process ran through
	CPUPerDelivery  float64 `json:"cpu_per_delivery_us"`
	MemoryPerClient float64 `json:"memory_per_client_bytes"` // at most, less before, by the clients then
	// Says are what the server says of itself, if the trial names it, by connections, members and
	// presence.
	Says map[string]ServerSays `json:"says"`
}

// ServerSays is one of the things that a server says of itself.
type ServerSays struct {
	Before float64 `json:"before"`
	Most   float64 `json:"most"`
	Last   float64 `json:"last"`
}

// UseOf sums up what the server's process used, second by second, in a run; over says that the
// last of it is from after all clients had gone.
func UseOf(samples []Sample, entries logbook.Seconds, over bool) (u logbook.ServerUse) {
	if len(samples) == 0 {
		return u
	}
	first, last := samples[0], samples[len(samples)-1]
	u = logbook.ServerUse{Watched: !first.Alone || !last.Alone, Over: over, MemoryFirst: first.Memory,
		MemoryLast: last.Memory, FilesFirst: int64(first.Files), FilesLast: int64(last.Files),
		ThreadsFirst: int64(first.Threads), ThreadsLast: int64(last.Threads)}
	for i := range u.Gauges {
		u.Gauges[i] = gaugeOf(samples, i)
	}
	for _, s := range samples {
		u.CPU += logbook.Micros(s.CPU)
		u.FilesMost, u.ThreadsMost = max(u.FilesMost, int64(s.Files)), max(u.ThreadsMost, int64(s.Threads))
		if s.Memory <= u.MemoryMost {
			continue
		}
		u.MemoryMost, u.Clients = s.Memory, 0
		if e := entries.Of(s.At); e != nil {
			u.Clients = int64(e.Gauges.Open)
		}
	}
	return u
}

// gaugeOf sums up one of the things that the server says of itself. What is not on its page is 0,
// if it ever was: client libraries leave out what was not yet counted. Nothing is known if there
// was no page before the clients came, or none after they had gone.
func gaugeOf(samples []Sample, i int) (g logbook.ServerGauge) {
	for _, s := range samples {
		if of := s.Gauges[i]; of != nil {
			g.Known = true
			g.Most = max(g.Most, *of)
		}
	}
	first, last := samples[0], samples[len(samples)-1]
	g.Known = g.Known && first.Runs && last.Runs
	if of := first.Gauges[i]; of != nil {
		g.First = *of
	}
	if of := last.Gauges[i]; of != nil {
		g.Last = *of
	}
	return g
}

func serverOf(s *Snapshot) (sum ServerSummary) {
	u := &s.Total.Server
	says := map[string]ServerSays{}
	for i, g := range u.Gauges {
		if g.Known {
			says[logbook.ServerGauges[i]] = ServerSays{g.First, g.Most, g.Last}
		}
	}
	if !u.Watched {
		return ServerSummary{Says: says}
	}
	sum = ServerSummary{Watched: true, Says: says, MemoryBefore: u.MemoryFirst, MemoryMost: u.MemoryMost,
		MemoryLast:  u.MemoryLast,
		FilesBefore: int(u.FilesFirst), FilesMost: int(u.FilesMost), FilesLast: int(u.FilesLast),
		ThreadsMost: int(u.ThreadsMost), CPU: u.CPU, CPUPerDelivery: round(u.PerDelivery(s.Total))}
	if u.Clients > 0 {
		sum.MemoryPerClient = round(u.PerClient())
	}
	return sum
}
