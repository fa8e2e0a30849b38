package survey

import (
	"fmt"
	"time"

	"tidepull/internal/base/units"
	"tidepull/internal/run"
	"tidepull/internal/trial"
	"tidepull/internal/trial/language"
)

// wellness is a short look at whether the server does what it did: a few clients in a room of their own, who speak.
var wellness = recipe{name: "well", clients: 4, lasts: wellLasts,
	shows: "whether a few clients are let in, and hear each other", session: `
  CONNECT
  enter { room = "ROOM" }
  repeat {
    every = "250ms"
    times = 6
    SAY
  }
  pause { lasts = "10m" }`}

const wellLasts = 2 * time.Second

// Well is the trial that says whether the server is well.
func Well(t *trial.Trial, p *language.Parts, o Options) []byte {
	return wellness.source(t, p, &o, wellness.clients)
}

// IsWell says what is wrong after a run of the trial Well; "" if all is. What the server does wrong anyway is no sign:
// it is well if it lets clients in, and most of what they say arrives.
func IsWell(last *run.Snapshot) string {
	c, t := &last.Total.Counts, &last.Total.Total
	owed := t.Owed - t.Excused
	switch {
	case last.Err != nil:
		return last.Err.Error()
	case c.Entries == 0:
		return "nobody was let in any more"
	case owed > 0 && 2*(t.Delivered+t.Late) < owed:
		return fmt.Sprintf("of %s deliveries to a few clients in a room of their own %s came", units.Count(owed),
			units.Count(t.Delivered+t.Late))
	}
	return ""
}
