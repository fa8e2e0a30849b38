package logbook

import (
	"time"

	"tidepull/internal/measure/ledger"
)

// EventKind says what happened to a client.
type EventKind uint8

// What happens in a client's life.
const (
	SetOut EventKind = iota
	Opened
	Entered
	Left
	Closed // closed its connection and is gone
	Broke
	Refused
	Denied
	Missed      // an expectation was not met
	Failed      // a check failed
	Hindered    // its connection could not even be tried
	Evicted     // the server closed it while it misbehaved on purpose
	SteppedDown // to the next route
	SteppedUp   // to a better route
	CameBack    // after its connection broke
	GaveUp      // to come back
	Misbehaved  // it began to misbehave on purpose
	Impaired    // a fault on its path began
	Mended      // it is over; or the client, which read slowly on purpose, no longer does: ReadsOn
	Replied     // the server sent it something that is no delivery and that it did not wait for
	numWhats
)

var whatNames = [numWhats]string{"set out", "connected", "entered", "left", "closed", "broke", "refused", "denied",
	"missed", "check failed", "not opened", "evicted", "stepped down", "stepped up", "came back", "gave up",
	"misbehaved", "impaired", "mended", "replied"}

func (w EventKind) String() string {
	if w >= numWhats {
		return "unknown"
	}
	return whatNames[w]
}

// ReadsOn is the detail of a client's event that reads as fast as it can again.
const ReadsOn = "reads as fast as it can again"

// An Event is one thing that happened to one client.
type Event struct {
	At     time.Duration // since the start of the run
	Client ledger.Client
	Room   ledger.Room // of Entered and Left; -1 of others
	What   EventKind
	Detail string // why, of what went wrong
}

// MaxEvents bounds the events that are kept of a run.
const MaxEvents = 1 << 20

// WhatNamed is the opposite of What.String.
func WhatNamed(name string) EventKind {
	for i, n := range whatNames {
		if n == name {
			return EventKind(i)
		}
	}
	return numWhats
}
