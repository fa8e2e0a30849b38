package trial

import "time"

// What an Alert may be of.
const (
	OnBroken = "broken" // a limit is, whatever comes; once for each
	OnOver   = "over"   // the run is
)

// An Alert is a command that is run when something has happened to the run itself.
type Alert struct {
	On      string
	Command []string
	Within  time.Duration // how long it may take
}
