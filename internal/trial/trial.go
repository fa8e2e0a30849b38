// Package trial holds a trial as plain values: one experiment with its target,
// crews, sessions, tide and limits. The language package reads it from a file;
// the engine carries it out.
package trial

import (
	"time"

	"tidepull/internal/expr"
	"tidepull/internal/ledger"
	"tidepull/internal/wire/jsonscan"
)

// A Trial is one experiment. It is immutable once it is read.
type Trial struct {
	Name    string
	Seed    uint64
	Prompt  time.Duration // a delivery later than this is late
	Grace   time.Duration // a message may arrive this long after it was sent
	Target  Target
	Dialect Dialect
	Crews   []Crew
	Tide    Tide
	Limits  []Limit
	Fields  *jsonscan.Table // the fields of messages that conditions look at
}

// Clients is how many clients all crews have together.
func (t *Trial) Clients() int {
	n := 0
	for _, c := range t.Crews {
		n += c.Clients
	}
	return n
}

// A Target is the server under test.
type Target struct {
	Name      string
	WebSocket string // a ws:// address
}

// A Dialect tells how a family of servers says things. A part without Send is
// not spoken.
type Dialect struct {
	Name  string
	Title Exchange      // naming oneself
	Enter Exchange      // entering a room
	Leave Exchange      // leaving a room
	Past  *expr.Program // recognises a message that comes as history; nil: none does
}

// An Exchange is something a client sends and how the answer is recognised.
type Exchange struct {
	Send      *expr.Template
	Confirmed *expr.Program // nil: there is no answer; it counts as confirmed when sent
	Refused   *expr.Program // nil: there is no refusal
}

// A Crew is a group of clients that follow the same session.
type Crew struct {
	Name    string
	Clients int
	Title   *expr.Template // a client's name
	Session *Session
}

// A Session is the script that one client follows.
type Session struct {
	Name  string
	Steps []Step
}

// Do tells what a step does.
type Do uint8

// The steps of a session. A repeat stands as Repeat, its steps, and Again.
const (
	Connect Do = iota
	Expect
	Enter
	Say
	Tell // a whisper
	Leave
	Pause
	Repeat
	Again
)

// MaxNesting is how deep repeats may be nested.
const MaxNesting = 3

// A Step is one step of a session. Which fields count depends on Do.
type Step struct {
	Do       Do
	Label    string          // Expect: its name, for reports
	When     *expr.Program   // Expect: the condition
	Within   time.Duration   // Connect, Expect, Enter, Leave: how long to wait
	Room     *expr.Template  // Enter, Leave, Say: nil means the room entered last
	Body     *expr.Template  // Say, Tell: the message
	Reaches  ledger.Audience // Say: whom it should reach
	Everyone bool            // Say: it should reach all, not a room
	To       *expr.Template  // Tell: the recipient's name
	For      time.Duration   // Pause
	Every    time.Duration   // Repeat
	Jitter   float64         // Repeat: each turn comes up to this share of Every early or late
	Times    int             // Repeat: 0 means until the tide takes the client
	Jump     int             // Repeat: the index of its Again; Again: of its Repeat
}

// A Limit is a pass/fail rule on a figure.
type Limit struct {
	Name   string
	Figure string // such as "fanout.p99"
	Rule   Rule
	Value  float64 // microseconds where the figure is a duration
}

// A Rule compares a figure with a limit's value.
type Rule uint8

// The rules.
const (
	Below Rule = iota
	Above
	AtMost
	AtLeast
	Equals
)

// RuleNames are the rules' names in the trial language.
var RuleNames = [...]string{"below", "above", "at_most", "at_least", "equals"}

func (r Rule) String() string { return RuleNames[r] }

// Holds tells whether a figure keeps the limit.
func (l *Limit) Holds(figure float64) bool {
	switch l.Rule {
	case Below:
		return figure < l.Value
	case Above:
		return figure > l.Value
	case AtMost:
		return figure <= l.Value
	case AtLeast:
		return figure >= l.Value
	}
	return figure == l.Value
}
