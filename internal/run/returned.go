package run

import (
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/meter"
)

// Returns are how clients came back whose connection broke.
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
	Renumbered int64           `json:"renumbered"`   // rooms whose numbers began again, as seen
	Reconnect  meter.Latencies `json:"reconnect"`    // from a connection found broken to the next one agreed on
	BackIn     meter.Latencies `json:"back_in"`      // to being in all rooms again
	CaughtUp   meter.Latencies `json:"caught_up_in"` // to the last of what was missed having come
}

func returnsOf(w *logbook.Window) Returns {
	c := &w.Counts.Returns
	return Returns{c.Broke, c.Back, c.GaveUp, c.StillAway, c.NoTime, c.Tries, c.Accepted, c.Refused, c.TimedOut,
		c.Failed,
		float64(c.Away), c.Renumbered, w.Reconnect.Latencies(), w.Back.Latencies(), w.CaughtUp.Latencies()}
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
}

// UseOf sums up what the server's process used, second by second, in a run.
func UseOf(samples []Sample, entries []*logbook.Entry) (u logbook.ServerUse) {
	if len(samples) == 0 {
		return u
	}
	first, last := samples[0], samples[len(samples)-1]
	u = logbook.ServerUse{Watched: true, MemoryFirst: first.Memory, MemoryLast: last.Memory,
		FilesFirst: int64(first.Files), FilesLast: int64(last.Files), ThreadsFirst: int64(first.Threads),
		ThreadsLast: int64(last.Threads)}
	for _, s := range samples {
		u.CPU += logbook.Micros(s.CPU)
		u.FilesMost, u.ThreadsMost = max(u.FilesMost, int64(s.Files)), max(u.ThreadsMost, int64(s.Threads))
		if s.Memory <= u.MemoryMost {
			continue
		}
		u.MemoryMost, u.Clients = s.Memory, 0
		if s.At >= 0 && s.At < len(entries) {
			u.Clients = int64(entries[s.At].Gauges.Open)
		}
	}
	return u
}

func serverOf(s *Snapshot) (sum ServerSummary) {
	u := &s.Total.Server
	if !u.Watched {
		return sum
	}
	sum = ServerSummary{Watched: true, MemoryBefore: u.MemoryFirst, MemoryMost: u.MemoryMost, MemoryLast: u.MemoryLast,
		FilesBefore: int(u.FilesFirst), FilesMost: int(u.FilesMost), FilesLast: int(u.FilesLast),
		ThreadsMost: int(u.ThreadsMost), CPU: u.CPU, CPUPerDelivery: round(u.PerDelivery(s.Total))}
	if u.Clients > 0 {
		sum.MemoryPerClient = round(u.PerClient())
	}
	return sum
}
