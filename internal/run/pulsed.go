package run

import (
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/meter"
)

// Pulse is what was measured of heartbeats, if the trial says what the server promised.
type Pulse struct {
	Heard       int64           `json:"heard"` // heartbeats of the server
	Early       int64           `json:"early"`
	Late        int64           `json:"late"`
	Missing     int64           `json:"missing"`
	Interval    meter.Latencies `json:"interval"`
	Drift       float64         `json:"drift_percent"`   // by which intervals are longer than promised, on average
	Bunched     float64         `json:"bunched_percent"` // in the fullest twentieth of each interval; 0: too few to say
	Asked       int64           `json:"asked"`           // heartbeats of clients that are to be answered
	Answered    int64           `json:"answered"`
	Unanswered  int64           `json:"unanswered"` // when the next was due
	RoundTrip   meter.Latencies `json:"round_trip"`
	Misbehaved  int64           `json:"misbehaved"` // clients that began to, on purpose
	Evicted     int64           `json:"evicted"`    // of them
	EvictedLate int64           `json:"evicted_late"`
	NotEvicted  int64           `json:"not_evicted"`
	Eviction    meter.Latencies `json:"eviction"` // from the first sign of life owed and not given
	Told        meter.Latencies `json:"told"`     // from an eviction to each of the others being told
	Hasty       int64           `json:"hasty"`    // clients closed that gave all the signs of life they owed
}

func pulseOf(w *logbook.Window) Pulse {
	c, h := &w.Counts.Pulse, &w.Times
	drift, _ := w.Drift()
	bunched, _ := w.Bunched()
	return Pulse{c.Heard, c.Early, c.Late, c.Missing, h[logbook.BeatInterval].Latencies(), round(drift),
		round(100 * bunched), c.Asked, c.Answered, c.Unheard, h[logbook.RoundTrip].Latencies(), c.Misbehave, c.Evicted,
		c.TooLate, c.Kept, h[logbook.ToEvict].Latencies(), h[logbook.ToTell].Latencies(), c.Hasty}
}
