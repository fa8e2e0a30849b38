package trial

import (
	"math"
	"time"
)

// A Shape makes another load of a trial: so many times its clients, in a tide that rises once and stays, and what they
// do again and again at another pace.
type Shape struct {
	Scale  float64       // how many times as many clients each crew has; 0: as many as it says
	Flood  time.Duration // how long they take to come
	Steady time.Duration // how long they stay; 0: the tide stays what it is
	Hurry  float64       // how many times as often they do what they repeat, for as long; 0: as often as it says
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
	if s.Hurry > 0 {
		for _, session := range t.Sessions() {
			session.hurry(s.Hurry)
		}
	}
	t.Source.Shape = s
	if s.Steady > 0 {
		t.Tide = Tide{Legs: []Leg{{Word: "flood", To: 1, Over: s.Flood}, {Word: "slack", To: 1, Over: s.Steady}}}
	}
}

// hurry has a session do what it repeats so many times as often: the intervals, and the pauses within.
func (s *Session) hurry(by float64) {
	depth := 0
	for i := range s.Steps {
		switch st := &s.Steps[i]; st.Do {
		case Repeat:
			faster := *st.Repeat
			faster.Every = time.Duration(float64(faster.Every) / by)
			if depth == 0 {
				faster.Times = int(math.Ceil(float64(faster.Times) * by)) // for as long as before
			}
			st.Repeat = &faster
			depth++
		case Again:
			depth--
		case Pause:
			if depth > 0 {
				st.For, st.Most = time.Duration(float64(st.For)/by), time.Duration(float64(st.Most)/by)
			}
		}
	}
}
