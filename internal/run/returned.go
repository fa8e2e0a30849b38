package run

import (
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/meter"
)

// Returns are how clients came back whose connection broke.
type Returns struct {
	Broke     int64           `json:"broke"`
	Back      int64           `json:"back"`
	GaveUp    int64           `json:"gave_up"`    // after the tries or the time that they have
	StillAway int64           `json:"still_away"` // when they were to go, after tries that failed
	NoTime    int64           `json:"no_time"`    // away when they were to go, before any try had failed
	Tries     int64           `json:"tries"`
	Accepted  int64           `json:"accepted"`
	Refused   int64           `json:"refused"`
	TimedOut  int64           `json:"timed_out"`
	Failed    int64           `json:"failed"`
	Away      float64         `json:"away_seconds"` // of all clients together
	Reconnect meter.Latencies `json:"reconnect"`    // from a connection found broken to the next one agreed on
	BackIn    meter.Latencies `json:"back_in"`      // to being in all rooms again
}

func returnsOf(w *logbook.Window) Returns {
	c := &w.Counts.Returns
	return Returns{c.Broke, c.Back, c.GaveUp, c.StillAway, c.NoTime, c.Tries, c.Accepted, c.Refused, c.TimedOut,
		c.Failed,
		float64(c.Away), w.Reconnect.Latencies(), w.Back.Latencies()}
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

func serverOf(s *Snapshot) (sum ServerSummary) {
	if len(s.Server) == 0 {
		return sum
	}
	first, last := s.Server[0], s.Server[len(s.Server)-1]
	sum = ServerSummary{Watched: true, MemoryBefore: first.Memory, MemoryLast: last.Memory, FilesBefore: first.Files,
		FilesLast: last.Files}
	clients := 0
	for _, u := range s.Server {
		sum.CPU += logbook.Micros(u.CPU)
		sum.FilesMost, sum.ThreadsMost = max(sum.FilesMost, u.Files), max(sum.ThreadsMost, u.Threads)
		if u.Memory <= sum.MemoryMost {
			continue
		}
		sum.MemoryMost, clients = u.Memory, 0
		if u.At >= 0 && u.At < len(s.Entries) {
			clients = s.Entries[u.At].Gauges.Open
		}
	}
	sum.CPUPerDelivery = round(ratio(sum.CPU, float64(s.Total.Counts.Arrivals)))
	if clients > 0 {
		sum.MemoryPerClient = round(float64(sum.MemoryMost-sum.MemoryBefore) / float64(clients))
	}
	return sum
}
