package fact

import (
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/logbook"
)

// A Batch is what a share hands to the account at once.
type Batch struct {
	Log
	// UpTo is a promise: all facts before it are in this batch or were in earlier
	// ones. The account works through the facts of all shares in the order of time,
	// up to the least of their promises.
	UpTo  mono.Time
	Ended bool          // there will be no more of them
	Lost  bool          // its process has ended before it had told all: the rest was made up. It is not encoded
	Off   time.Duration // by how much the clock of the share's machine may be off the lead's
	Part  *Part         // what the share measured itself; nil but for four times a second
}

// A Part is what a share measured itself: counts, gauges and distributions that need
// no account.
type Part struct {
	Tick    int              // how many parts there should have been before it; LastTick for the last one
	Closed  []*logbook.Entry // seconds that are over, each reported once
	Open    []*logbook.Entry // the others, as they stand
	Reasons map[string]int   // why connections were refused or broke, and what was missed
	Said    []bool           // by number of a step: some client has said what it says
	// Grown is by how many bytes the memory of the share's process has grown since before its clients were made; 0 but
	// for the first of its shares.
	Grown int64 `json:",omitempty"`
}

// LastTick is that of a share's last part.
const LastTick = 1<<31 - 1
