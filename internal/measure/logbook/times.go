package logbook

import (
	"tidepull/internal/measure/meter"
)

// A Dist names one of the distributions of times that are kept for each second, but for those
// that are of single messages (Part). A new one needs no more than its place here and in dists.
type Dist uint8

// The distributions. Each is a figure, by the name and with the words that stand in dists.
const (
	ToConnect Dist = iota
	ToEnter
	FeedAge
	FeedInterval
	ToAnswer
	PushedBack
	ToUsable
	ToReconnect
	ToReturn
	ToCatchUp
	BeatInterval
	RoundTrip
	ToEvict
	ToTell
	ReadingLag
	ScheduleLag
	NumDists
)

var dists = [NumDists]struct{ name, doc string }{
	ToConnect: {"connect", "from dialling to the agreed connection"},
	ToEnter:   {"enter", "from asking for a room to its confirmation"},
	FeedAge:   {"feed.age", "how old what the server pushes by itself is when it comes"},
	FeedInterval: {"feed.interval",
		"from one reading of a feed to the next of its key, if it says how often they come"},
	ToAnswer: {"request", "from an HTTP request to the end of its answer"},
	PushedBack: {"schedule.pushed_back", "how far the waits of scripts pushed the turns of repeats beyond their " +
		"time"},
	ToUsable:    {"routes.usable", "from the first try of any route to the agreed connection"},
	ToReconnect: {"returns.reconnect", "from a connection found broken to the next one agreed on"},
	ToReturn:    {"returns.back_in", "from a connection found broken to the client being in all its rooms again"},
	ToCatchUp: {"returns.caught_up_in",
		"from a connection found broken to the last of what was missed having come, of " +
			"clients that catch up"},
	BeatInterval: {"pulse.interval", "from one heartbeat of the server to the next"},
	RoundTrip:    {"pulse.round_trip", "from a client's heartbeat to the server's answer"},
	ToEvict: {"pulse.eviction", "from the first sign of life that a client owed and did not give to the end of its " +
		"connection"},
	ToTell:      {"pulse.told", "from an eviction to each of the others in its rooms being told"},
	ReadingLag:  {"self.reading_lag", "from arrival in the kernel to the tool's reading"},
	ScheduleLag: {"self.schedule_lag", "from a message's due time to its sending"},
}

// String is the name of the distribution as a figure.
func (d Dist) String() string { return dists[d].name }

// DistNamed gives the distribution of a name.
func DistNamed(name string) (Dist, bool) {
	for d := range dists {
		if dists[d].name == name {
			return Dist(d), true
		}
	}
	return 0, false
}

// Hists are the distributions of a page or a window.
type Hists [NumDists]meter.Hist

// Times are those of an entry, packed.
type Times [NumDists]meter.Packed

func (h *Hists) pack() (t Times) {
	for d := range h {
		t[d] = h[d].Pack()
	}
	return t
}
