package fact

import (
	"tidepull/internal/base/mono"
	"tidepull/internal/measure/ledger"
)

// A Note is what a share, or the conductor, tells others while the run goes on.
// Unlike a Fact it changes what they do.
type Note struct {
	At     mono.Time // since the start of the run
	Kind   NoteKind
	By     int32         // how much more or less there is of it
	Which  int32         // the barrier, or the crew
	Client ledger.Client // whom it is about
	Room   string        // of Members
	Value  float64       // of Measures
}

// NoteKind says what a Note is about.
type NoteKind uint8

// The kinds of note.
const (
	// To the conductor.
	WaitsAt   NoteKind = iota // Client waits at barrier Which
	WaitsNot                  // Client has given up waiting
	Ended                     // Client has ended (By 1), or has set out again (-1)
	ConnOpen                  // a connection was agreed on
	ConnsFail                 // By connections were refused
	// To all shares.
	Turning // By more clients of crew Which are in a repeat
	Members // By more clients of the share are in Room
	// From the account, to all shares.
	Measures // figure Which of those that assert steps use has Value
	// From the conductor.
	MayGo    // Client may go on at barrier Which
	CannotBe // the run ends: nothing can be reached
	numNotes
)
