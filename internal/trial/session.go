package trial

import (
	"slices"
	"time"

	"tidepull/internal/measure/ledger"
	"tidepull/internal/trial/expr"
	"tidepull/internal/wire/ws"
)

// A Session is the script that one client follows.
type Session struct {
	Name  string
	Steps []Step
}

// Remembers reports whether some step asks for messages that came before it.
func (s *Session) Remembers() bool {
	return slices.ContainsFunc(s.Steps, func(st Step) bool { return st.Already })
}

// NumberSteps gives every step of the trial's sessions its number.
func (t *Trial) NumberSteps() {
	n := 0
	for _, s := range t.Sessions() {
		for i := range s.Steps {
			s.Steps[i].Number = n
			n++
		}
	}
}

// Sessions are those of the trial's crews, each once.
func (t *Trial) Sessions() (all []*Session) {
	for i := range t.Crews {
		// Of a run that was kept they are not known.
		if s := t.Crews[i].Session; s != nil && !slices.Contains(all, s) {
			all = append(all, s)
		}
	}
	return all
}

// StepKind says what a step does.
type StepKind uint8

// The steps of a session. A repeat stands as Repeat, its steps, and Again; a
// choice as Choose, with a Jump behind each of its options; a condition as
// Branch, its steps, and a Jump over the otherwise.
const (
	Connect StepKind = iota
	Expect
	Enter
	Say
	Tell // a whisper
	Leave
	Pause
	Repeat
	Again
	Send // something that nobody is owed
	Ask  // the HTTP request
	Set
	Assert // something about what was captured
	Closed // the server must close the connection
	Branch
	Jump
	Choose
	Wait // at a barrier
	Close
	Vanish
	Silence // from now on it misbehaves about signs of life
	Slow
	Malform
	Back // of a client that comes back: it goes on where its session was
)

// MaxNesting is how deep repeats may be nested.
const MaxNesting = 3

// NoCheck is the Check of a step that makes none.
const NoCheck = -1

// A Step is one step of a session. Which fields count depends on Do.
type Step struct {
	Do      StepKind
	Number  int             // of all steps of the trial
	Check   int             // the number of the check that the step makes, or NoCheck
	Label   string          // its name, for reports
	When    *expr.Program   // Expect: the condition; Branch: likewise, over variables
	Never   bool            // Expect: it must not come
	Already bool            // Expect: one that came before the step counts too
	Within  time.Duration   // Connect, Expect, Enter, Leave, Ask, Wait, Silence, Malform: how long to wait
	Capture []Capture       // Expect, Enter, Ask, Set: what is remembered
	Room    *expr.Template  // Enter, Leave, Say, Ask: nil means the room entered last
	Body    *expr.Template  // Say, Tell, Send: the message
	Known   int             // Say, Tell, Ask: its deliveries have no mark: of Trial.Knowns, and 1; 0: they have
	Payload *expr.Template  // Say, Tell: what recipients must find in it, byte for byte
	Binary  bool            // Say, Tell, Send: as a binary message
	Reaches ledger.Audience // Say, Ask: whom it should reach
	All     bool            // Say, Ask: it should reach all, not a room
	To      *expr.Template  // Tell: the recipient's name
	For     time.Duration   // Pause
	Most    time.Duration   // Pause: up to this long, at random; 0: always For
	Denied  bool            // Enter: it must be refused
	History int             // Enter: how many messages of the past are promised; -1: nothing is
	Repeat  *Rate           // Repeat
	Goto    int             // Repeat: the index of its Again; Again: of its Repeat; Branch, Jump: where it leads
	Options []Option        // Choose
	Barrier int             // Wait
	Request *Request        // Ask
	Dial    *Dial           // Connect; nil: nothing special
	Code    uint16          // Close; Closed: 0 is any
	Reason  string          // Close; Closed: what must stand in the server's
	Abrupt  bool            // Closed: without a close frame
	Urgent  bool            // Say, Tell, Send: in a datagram, if the client's route has any beside it
	Bad     bool            // Send: the server may end the connection for it
	Named   bool            // Send: not before the client is named
	PerSec  int             // Slow: bytes that are read in a second; 0: as fast as they come
	Wrong   string          // Malform: one of Wrongs
	// Misbehave is what it does wrong, of Silence.
	Misbehave *Misbehaviour
}

// Wrongs are the ways in which a client can break the protocol: short names of some, and
// those of ws.Abuses. AnyWrong stands for another one for each client.
var Wrongs = append([]string{"unmasked", "reserved bits", "reserved opcode", "bad text", "stray fragment",
	"long control", "wrong length", AnyWrong}, abuses()...)

// AnyWrong has clients break the protocol each in another way, in turn.
const AnyWrong = "any"

// abuses are the names of what breaks the protocol without compression, beyond doubt.
func abuses() (names []string) {
	for _, b := range ws.Abuses {
		if !b.Packed && b.May == "" {
			names = append(names, b.Name)
		}
	}
	return names
}

// WrongOf is how client n of a crew breaks the protocol at a step.
func (s *Step) WrongOf(n int) string { return another(s.Wrong, Wrongs, n) }

// A Known is how the deliveries of a message are recognised that has no mark: the server says something
// of its own. A delivery is taken to be of the oldest message that is known by it and that its recipient
// is owed and has not got; which of several it is stays open, and so its latency has two ends.
type Known struct {
	When *expr.Program // what comes is one; it may name the recipient's variables
	From *expr.Program // the name of who said it; nil: it does not say
}

// MarksTwice reports whether the message that the step says holds its mark in more than one place.
func (s *Step) MarksTwice() bool {
	t, beside := s.Body, 0
	if s.Do == Ask && s.Request != nil {
		t, beside = s.Request.Content, s.Request.Path.Times(expr.VarMark)
	}
	return beside+t.Times(expr.VarMark)+t.Times(expr.VarPayload)*s.Payload.Times(expr.VarMark) > 1
}

// another gives what a client does of the wrongs that stand after AnyWrong, if it is to do any.
func another(wrong string, all []string, n int) string {
	if wrong != AnyWrong {
		return wrong
	}
	all = all[slices.Index(all, AnyWrong)+1:]
	return all[n%len(all)]
}

// Dial is what is special about a connection.
type Dial struct {
	Path     *expr.Template // instead of the target's
	Fields   []Field        // more header fields
	Early    *expr.Template // sent before the server has agreed; it must reach nobody
	Nameless bool           // the client does not say its name
	Refused  bool           // it must be refused
	Status   int            // with this status; 0: with any
	Words    string         // and these words in the reason
	Wrong    string         // the handshake breaks the protocol: one of WrongKnocks; "": it does not
}

// WrongKnocks are the ways in which a handshake can break the protocol, beyond doubt: those of
// ws.Knocks, and AnyWrong.
var WrongKnocks = wrongKnocks()

func wrongKnocks() []string {
	names := []string{AnyWrong}
	for _, k := range ws.Knocks {
		if !k.Agree && k.May == "" {
			names = append(names, k.Name)
		}
	}
	return names
}

// WrongOf is how the handshake of client n of a crew breaks the protocol; "" if it does not.
func (d *Dial) WrongOf(n int) string { return another(d.Wrong, WrongKnocks, n) }

// A Field is one header field.
type Field struct {
	Name  string
	Value *expr.Template
}

// A Capture puts a value into a variable of the client.
type Capture struct {
	Local int
	Value *expr.Program
}

// An Option is one branch of a choice.
type Option struct {
	Below float64 // the sum of the weights up to and with it, of 1
	Goto  int
}

// A Rate is when the iterations of a repeat come.
type Rate struct {
	Every  time.Duration // 0: as fast as answers come back
	Jitter float64       // each comes up to this share of Every early or late
	Times  int           // 0 means until the tide takes the client
	Random bool          // the intervals are exponentially distributed
	Burst  int           // iterations that come at once; at least 1
	Shared Sharing       // among whom Every is the interval
}

// Sharing says who shares a rate.
type Sharing uint8

// The sharings.
const (
	PerClient Sharing = iota
	PerCrew
	PerRoom
)

// A Request is an HTTP request.
type Request struct {
	Method    string
	Path      *expr.Template // of the target's HTTP address
	Fields    []Field
	Content   *expr.Template // nil: none
	Type      string         // of the content
	Status    int            // that the answer must have; 0: any below 400
	When      *expr.Program  // that must hold on the answer; nil: none
	Redirects int            // that are followed
	Publishes bool           // it is a message, accounted for in the ledger
}
