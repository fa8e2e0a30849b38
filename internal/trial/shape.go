package trial

import (
	"math"
	"time"
)

// A Shape makes another load of a trial: so many times its clients, in a tide that rises once and stays.
type Shape struct {
	Scale  float64       // how many times as many clients each crew has; 0: as many as it says
	Flood  time.Duration // how long they take to come
	Steady time.Duration // how long they stay; 0: the tide stays what it is
}

// Reshape gives a trial a shape. A crew that has clients keeps one at least, and whole groups.
func (t *Trial) Reshape(s Shape) {
	for i := range t.Crews {
		c := &t.Crews[i]
		if s.Scale > 0 && c.Clients > 0 {
			group := float64(max(1, c.Groups))
			c.Clients = int(max(1, math.Round(float64(c.Clients)*s.Scale/group)) * group)
		}
		if s.Steady > 0 {
			c.Tide = Tide{}
		}
	}
	t.Source.Shape = s
	if s.Steady > 0 {
		t.Tide = Tide{Legs: []Leg{{Word: "flood", To: 1, Over: s.Flood}, {Word: "slack", To: 1, Over: s.Steady}}}
	}
}
