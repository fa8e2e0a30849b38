package survey

import (
	"fmt"
	"time"

	"tidepull/internal/finding"
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
func Well(t *trial.Trial, p *language.Parts, tag string) []byte {
	return wellness.source(t, p, tag, wellness.clients)
}

// IsWell says what is wrong after a run of the trial Well; "" if all is.
func IsWell(last *run.Snapshot) string {
	c := &last.Total.Counts
	switch {
	case last.Err != nil:
		return last.Err.Error()
	case c.Opened == 0 || c.Entries == 0:
		return "nobody was let in any more"
	case last.Total.Total.Delivered == 0 && c.Sent > 0:
		return "nobody heard anybody any more"
	}
	for i := range last.Findings {
		if f := &last.Findings[i]; f.Severity == finding.Loss {
			return fmt.Sprintf("%s: %s", f.Title, f.Says)
		}
	}
	return ""
}
