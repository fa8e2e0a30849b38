package trial

import (
	"math"
	"time"
)

// A Tide is how many clients there are over time: a line through points, each
// reached Over after the one before. It starts from 0.
type Tide struct{ Legs []Leg }

// A Leg is one stretch of a tide.
type Leg struct {
	Word string  // flood, slack or ebb
	To   float64 // the share of all clients at its end, 0 to 1
	Over time.Duration
}

// Length is how long the tide lasts.
func (t Tide) Length() time.Duration {
	var d time.Duration
	for _, leg := range t.Legs {
		d += leg.Over
	}
	return d
}

// At returns the share of clients that there should be at an instant after the
// start: the line between the legs' ends, 0 once the tide is over.
func (t Tide) At(since time.Duration) float64 {
	from := 0.0
	for _, leg := range t.Legs {
		if since < leg.Over {
			return from + (leg.To-from)*float64(since)/float64(leg.Over)
		}
		since -= leg.Over
		from = leg.To
	}
	return 0
}

// Leg returns the word of the leg under way, or "" once the tide is over.
func (t Tide) Leg(since time.Duration) string {
	for _, leg := range t.Legs {
		if since < leg.Over {
			return leg.Word
		}
		since -= leg.Over
	}
	return ""
}

// Falls is when the tide begins to go down to nothing.
func (t Tide) Falls() time.Duration {
	from := t.Length()
	for i := len(t.Legs) - 1; i >= 0 && t.Legs[i].Word == "ebb" && (i < len(t.Legs)-1 || t.Legs[i].To == 0); i-- {
		from -= t.Legs[i].Over
	}
	return from
}

// Clients is At as a number of clients, of n in all.
func (t Tide) Clients(since time.Duration, n int) int {
	return int(math.Round(t.At(since) * float64(n)))
}

// Most is the highest number of clients, of n in all.
func (t Tide) Most(n int) int {
	most := 0.0
	for _, leg := range t.Legs {
		most = max(most, leg.To)
	}
	return int(math.Round(most * float64(n)))
}
