// Package trial holds a trial as plain values: one experiment with its target,
// crews, sessions, tide and limits. The language package reads it from a file;
// the engine carries it out.
package trial

import (
	"math"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"tidepull/internal/base/secret"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/trial/expr"
	"tidepull/internal/wire"
	"tidepull/internal/wire/jsonscan"
	"tidepull/internal/wire/transport"
	"tidepull/internal/wire/ws"
)

// A Trial is one experiment. It is immutable once it is read.
type Trial struct {
	Source       Source
	Name         string
	Seed         uint64
	Prompt       time.Duration // a delivery later than this is late
	Grace        time.Duration // a message may arrive this long after it was sent
	Target       Target
	Dialect      Dialect
	Crews        []Crew
	Tide         Tide // of the crews that have none of their own
	Limits       []Limit
	Fields       *jsonscan.Table // the fields of messages that conditions look at
	Checks       []Check         // by number
	Locals       []string        // the names that sessions set, by number
	Data         [][]expr.Value  // columns of data; a client has the row of its number
	Feeds        []Feed
	Knowns       []Known   // by number
	Barriers     []Barrier // by number
	Asserted     []string  // the figures that assert steps use, by number
	FinalChecks  []FinalCheck
	Alerts       []Alert
	Secrets      []string // texts that must not be kept or shown
	SecretLocals []int    // those of Locals of which that is true of what clients have in them
	hider        *secret.Hider
	Server       *Server // its process, if the trial knows it; else nil
	Faults       []Fault // what the trial breaks on purpose
	Kernel       bool    // the system's traffic control does the faults on the path that it can
	Loops        int     // how many event loops serve the clients; 0: it is not said
	ClosedLoop   bool    // some repeat goes on as fast as answers come
}

// MaxLoops bounds Loops.
const MaxLoops = 256

// MaxRoutes bounds a target's routes.
const MaxRoutes = 8

// Clients is how many clients all crews have together.
func (t *Trial) Clients() int {
	n := 0
	for _, c := range t.Crews {
		n += c.Clients
	}
	return n
}

// Sockets is how many sockets all crews together may have open: one for each
// client, one more for each that makes HTTP requests, and one for what it posts or sends in
// datagrams beside.
func (t *Trial) Sockets() int {
	n := 0
	for _, c := range t.Crews {
		n += c.Clients
		if c.Session != nil && slices.ContainsFunc(c.Session.Steps, func(s Step) bool { return s.Do == Ask }) {
			n += c.Clients
		}
		if slices.ContainsFunc(t.Target.Routes, func(r Route) bool { return r.Kind == OverHTTP || r.Urgent != nil }) {
			n += c.Clients
		}
	}
	return n
}

// CrewOf is the crew of client n of the run: crews have their clients one after another. It is -1 if there is no such
// client.
func (t *Trial) CrewOf(n int) int {
	for i := range t.Crews {
		if n -= t.Crews[i].Clients; n < 0 {
			return i
		}
	}
	return -1
}

// TideOf is the tide of a crew.
func (t *Trial) TideOf(crew int) Tide {
	if own := t.Crews[crew].Tide; len(own.Legs) > 0 {
		return own
	}
	return t.Tide
}

// Length is how long the longest tide lasts.
func (t *Trial) Length() time.Duration {
	longest := time.Duration(0)
	for i := range t.Crews {
		longest = max(longest, t.TideOf(i).Length())
	}
	return longest
}

// Bounds on how many clients stay to see the others go: one in witnessShare, and at most mostWitnesses.
const (
	witnessShare  = 20
	mostWitnesses = 20
)

// Witnesses is how many of a tide's n clients stay when it falls to nothing, so that what is said of those who leave
// is due to somebody who is still there: none if nothing is said of them.
func (t *Trial) Witnesses(tide Tide, n int) int {
	if t.Dialect.Gone.When == nil {
		return 0
	}
	from := min(tide.Falls(), tide.Length()-1) // a tide without an ebb is over at once
	return min(tide.Clients(from, n)/2, mostWitnesses, max(1, n/witnessShare))
}

// Stays is how long witnesses stay once their tide is over: as long as what is said of the last to leave may take.
func (t *Trial) Stays() time.Duration {
	if t.Dialect.Gone.When == nil {
		return 0
	}
	return t.Grace
}

// Ends is when the last witness goes home, after the start.
func (t *Trial) Ends() time.Duration { return t.Length() + t.Stays() }

// Planned is how many clients there should be at an instant after the start.
func (t *Trial) Planned(since time.Duration) int {
	n := 0
	for i, c := range t.Crews {
		n += t.TideOf(i).Clients(since, c.Clients)
	}
	return n
}

// LegAt is the word of the tide's leg under way; "" once all tides are over.
func (t *Trial) LegAt(since time.Duration) string {
	if leg := t.Tide.Leg(since); leg != "" {
		return leg
	}
	for i := range t.Crews {
		if leg := t.TideOf(i).Leg(since); leg != "" {
			return leg
		}
	}
	return ""
}

// A Target is the server under test.
type Target struct {
	Name    string
	Address string // of the first route
	// Nodes are the addresses of all servers if there are several, Address being the
	// first: clients are dealt out to them by their numbers in the run.
	Nodes  []string
	Routes []Route // at least one: how clients come to the server, the best first
	HTTP   string  // an http:// address, for requests; "" if there are none
	TLS    wire.TLS
	From   []netip.Addr // addresses of this machine that clients connect from, dealt out in turn
	Proxy  string       // an http:// address of a proxy that connects everything; "": none
	At     string       // where its addresses really are: ADDRESS:PORT or unix:PATH; "": where their names lead
	Order  ledger.Order
	Remote string // a host beyond this machine that may be loaded
	// Anywhere says that any host may be loaded: whoever runs the trial has said so.
	Anywhere bool
	// KeepAlive has the clients' system ask the server's for a sign of life, over TCP; 0: it
	// does not.
	KeepAlive time.Duration
	// Promise is what it says of heartbeats; nil: nothing.
	Promise *Promise
}

// Secure reports whether any of the target's addresses asks for TLS.
func (t *Target) Secure() bool {
	addresses := append([]string{t.HTTP, t.Address}, t.Nodes...)
	for _, r := range t.Routes {
		addresses = append(addresses, r.Address)
	}
	return slices.ContainsFunc(addresses, func(s string) bool {
		a, err := wire.ParseAddress(s)
		return err == nil && a.Secure()
	})
}

// Route is one of the target's routes; of a target made by hand that has none, a WebSocket.
func (t *Target) Route(i int) *Route {
	if len(t.Routes) == 0 {
		return &Route{}
	}
	return &t.Routes[i]
}

// Has reports whether any of the target's routes is of a kind.
func (t *Target) Has(k Kind) bool {
	if len(t.Routes) == 0 {
		return k == WebSocket
	}
	return slices.ContainsFunc(t.Routes, func(r Route) bool { return r.Kind == k })
}

// HasDatagrams reports whether datagrams go to any of the target's routes.
func (t *Target) HasDatagrams() bool {
	return t.Has(OverUDP) || slices.ContainsFunc(t.Routes, func(r Route) bool { return r.Urgent != nil })
}

// Kind is what a route's messages go over.
type Kind uint8

// The kinds of routes.
const (
	WebSocket Kind = iota
	OverTCP
	OverHTTP
	OverUDP
)

// A Route is one of the ways to a server: a transport, and where it begins.
type Route struct {
	Name    string // "websocket", "events" and so on, or what its block is called
	Kind    Kind
	Address string
	Written string            // as the file has it; Address may be elsewhere, by --target
	Framing wire.Framing      // OverTCP, OverUDP
	First   time.Duration     // OverUDP: how soon something must come; 0: nothing need
	Urgent  *Urgent           // datagrams beside it; nil: there are none
	Deflate *ws.Deflate       // WebSocket: the compression that is offered; nil: none
	Habits  *transport.Habits // OverHTTP
	Whole   *expr.Template    // the whole address, if its path is the client's own; else nil
	Post    *expr.Template    // OverHTTP: the path that what clients say is posted to; nil: the address's own
}

// An Urgent is a way for datagrams beside a route.
type Urgent struct {
	Address string
	Framing wire.Framing
}

// Transport is which of logbook.Transports the route goes over.
func (r *Route) Transport() int {
	switch r.Kind {
	case OverTCP:
		return 5
	case OverUDP:
		return 6
	case OverHTTP:
		return 1 + int(r.Habits.Mode)
	}
	return 0
}

// Origin is the address that stands in the file, up to where its path begins.
func (r *Route) Origin() string {
	scheme, rest, _ := strings.Cut(r.Written, "://")
	host, _, _ := strings.Cut(rest, "/")
	return scheme + "://" + host
}

// Text reports whether messages over the route are text, which must be valid UTF-8.
func (r *Route) Text() bool {
	switch r.Kind {
	case OverTCP, OverUDP:
		return r.Framing.Lines()
	case OverHTTP:
		return r.Habits.Mode == transport.EventStream || r.Habits.Framing.Lines()
	}
	return true
}

// A Dialect says how a family of servers says things. A part without Send is
// not spoken; a part without When is not recognised.
type Dialect struct {
	Name   string
	Naming Exchange      // naming oneself
	Enter  Exchange      // entering a room
	Leave  Exchange      // leaving a room
	Past   *expr.Program // recognises a message that comes as history; nil: none does
	// PastIsLive says that history comes as live messages do, and is known by when it was said.
	PastIsLive bool
	PastEach   *expr.Program // if such a message holds several: the list of them
	PastSeq    *expr.Program // its number in its room
	Split      []byte        // what stands between messages that share a frame; nil: they do not
	Across     bool          // what stands behind the last Split goes on in the next frame
	// Length is how long the message at the start of text is, in bytes, missing as long as
	// that cannot be known; messages share frames and go on in the next. nil: a frame is
	// one, or Split says where they end.
	Length   *expr.Program
	Binary   bool          // what clients send is binary messages
	JSON     *expr.Program // the part of a message that is JSON; nil: all of it
	Each     *expr.Program // the list in a message that holds messages; nil: there is none
	Beat     Beat
	Switch   Switch
	Goodbye  *expr.Template // said over UDP before a client closes in order; nil: nothing is
	Other    *expr.Program  // recognises what means nothing to clients; nil if there is no such thing
	Echo     *expr.Program  // recognises what a sender is given of its own message beside the delivery
	Heard    Heard
	Presence Presence
	Joined   Notice
	Gone     Notice
}

// Announces reports whether the dialect recognises who enters and who leaves a room.
func (d *Dialect) Announces() bool { return d.Joined.When != nil || d.Gone.When != nil }

// Notice is how the server announces who enters (Joined) or leaves (Gone).
func (d *Dialect) Notice(k ledger.Kind) *Notice {
	if k == ledger.Gone {
		return &d.Gone
	}
	return &d.Joined
}

// A Switch is how a client and a server agree that the client changes over to a better
// route, over the new connection; without Confirmed that it is open is enough.
type Switch struct {
	Send      *expr.Template
	Confirmed *expr.Program
	Then      *expr.Template // what the client says once nothing more comes over the old connection
}

// A Beat is a sign of life in messages of the server's own, apart from what sessions say.
type Beat struct {
	When   *expr.Program  // recognises one of the server's; nil: it sends none
	Answer *expr.Template // what it is answered; nil: nothing
	Every  time.Duration  // how often a client sends one unasked; 0: it does not
	Send   *expr.Template
}

// Heard is how a live message looks.
type Heard struct {
	When    *expr.Program
	Room    *expr.Program
	Seq     *expr.Program // its number in its room
	Payload *expr.Program // what its sender wanted to say; nil: the whole message
	Decoded *expr.Program // the text in which the mark is, if it is not plain to see
	Binary  bool          // they may come as binary messages though they are said as text
}

// Presence is how the server tells the number of a room's members.
type Presence struct {
	When       *expr.Program
	Room       *expr.Program
	Members    *expr.Program
	Names      *expr.Program // the list of the members' names; nil: it says none
	Within     time.Duration // how soon after a change the number must be right
	NamesCheck int           // of Names
	Updates    bool          // all members are told after each change; else that is judged if it is so
	Check      int
}

// A Notice is how the server tells who enters or leaves.
type Notice struct {
	When *expr.Program
	Room *expr.Program // nil: it is about the server as a whole
	Who  *expr.Program // the client's name
	// NotItself says that who enters, or leaves, must not be told of it.
	NotItself bool
}

// An Exchange is something a client sends and how the answer is recognised. Without
// Send nothing is sent: it happens by itself, such as entering a room by connecting.
type Exchange struct {
	After     *expr.Program  // of naming: a greeting that must come before
	First     *expr.Template // of naming: what is sent before the name
	Then      *expr.Program  // of naming: the answer to that, which must come before the name
	Given     bool           // there is such an exchange
	Send      *expr.Template
	Confirmed *expr.Program // nil: there is no answer; it counts as confirmed at once
	Refused   *expr.Program // nil: there is no refusal
	Why       *expr.Program // why it is refused; nil: the words are looked for where servers usually put them
}

// A Feed is what the server pushes by itself. It is judged by its own key,
// number and time.
type Feed struct {
	Name  string
	When  *expr.Program
	Key   *expr.Program // what is numbered on its own; nil: all of it together
	Seq   *expr.Program // rises by one; nil: it is not numbered
	Time  *expr.Program // milliseconds since 1970; nil: it has none
	Fresh time.Duration // how old it may be when it comes; 0: any age
	Every time.Duration // how often it comes, of each key; 0: nothing is promised
	Value *expr.Program // what it tells: shown against time if it is a number; nil: the whole message
	Same  bool          // all clients must be given the same value as a reading: of a number, or at a time
	Check int
}

// JudgedAlone reports whether a reading is judged by what one client was given.
func (f *Feed) JudgedAlone() bool { return f.Seq != nil || f.Time != nil || f.Every > 0 }

// A Check is something that is looked at again and again, and holds or fails.
type Check struct {
	Name string
	Kind string // what sort of step or watch it belongs to
}

// A Barrier is a place in sessions where clients wait for each other.
type Barrier struct {
	Name  string
	Scope BarrierScope
	Crews []int // that have it in their sessions
	Check int
}

// BarrierScope says who waits for whom.
type BarrierScope uint8

// The scopes.
const (
	AmongAll BarrierScope = iota
	AmongCrew
	AmongGroup
)

// A FinalCheck is a question to the server once all clients have ended, the answer
// to which is held against the run's own account.
type FinalCheck struct {
	Name    string
	Request Request
	Command []string      // instead of a request: its standard output is the answer
	Holds   *expr.Program // over msg, text, status and figures
	Figures []string      // the figures that it uses, by number
	Within  time.Duration
}

// A Crew is a group of clients that follow the same session.
type Crew struct {
	Name       string
	Clients    int
	ClientName *expr.Template // a client's name
	Session    *Session
	Groups     int           // clients in a group; 1 if there are none
	Tide       Tide          // its own; no legs: the trial's
	Routes     []uint8       // the target's that it takes, by number, the best first; nil: the first alone
	Promote    bool          // it begins with the last of them, and works its way up
	Settle     time.Duration // how long after it opened a connection that breaks leads to the next route
	Retry      time.Duration // how often a better route is tried; 0: it is not
	Without    []Without
	Misbehave  []Misbehaviour // of shares of its clients
	Return     *Return        // how its clients come back when their connection breaks; nil: they do not
}

// A Without keeps a part of a crew from a route.
type Without struct {
	Route uint8
	Share float64 // from 0 to 1
}

// Forbids reports whether client n of the crew may not take a route. The share is spread
// evenly over the clients, and is exact for the first n of them, whatever n is.
func (c *Crew) Forbids(route uint8, n int) bool {
	for _, w := range c.Without {
		if w.Route == route && InShare(w.Share, n) {
			return true
		}
	}
	return false
}

// InShare reports whether the n-th of many belongs to a share of them, from 0 to 1, that is
// spread evenly, and is exact for the first n, whatever n is.
func InShare(share float64, n int) bool {
	return math.Floor(float64(n+1)*share+1e-9) > math.Floor(float64(n)*share+1e-9)
}

// A Limit is a pass/fail rule on a figure.
type Limit struct {
	Name   string
	Figure string // such as "fanout.p99"
	Rule   Rule
	Value  float64 // microseconds if the figure is a duration
	// Implied is set if the limit is not the trial's own: every run is held
	// against it.
	Implied bool
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

// Words is the rule as it stands in a sentence.
func (r Rule) Words() string { return strings.ReplaceAll(RuleNames[r], "_", " ") }

// Exceeded reports whether a figure breaks the limit by being too high: more of
// what is counted cannot make that good, while one that is too low may only have
// had too little time.
func (l *Limit) Exceeded(figure float64) bool {
	switch l.Rule {
	case Below, AtMost:
		return !l.Holds(figure)
	case Equals:
		return figure > l.Value
	}
	return false
}

// Holds reports whether a figure keeps the limit.
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

// SetSecrets sets the texts that must not be kept or shown.
func (t *Trial) SetSecrets(secrets []string) {
	t.Secrets, t.hider = secrets, secret.New(secrets)
}

// Hide puts dots in the place of every secret in a text, whatever form it has.
func (t *Trial) Hide(s string) string { return t.hider.Text(s) }

// HideBytes is Hide for what is about to be kept.
func (t *Trial) HideBytes(b []byte) []byte { return t.hider.Bytes(b) }

// Shown is the trial as it may be kept and shown: without secrets and
// credentials in its addresses.
func (t *Trial) Shown() *Trial {
	shown := *t
	shown.Target.Nodes, shown.Target.Routes = slices.Clone(t.Target.Nodes), slices.Clone(t.Target.Routes)
	addresses := []*string{&shown.Target.Address, &shown.Target.HTTP, &shown.Target.Proxy}
	for i := range shown.Target.Nodes {
		addresses = append(addresses, &shown.Target.Nodes[i])
	}
	for i := range shown.Target.Routes {
		r := &shown.Target.Routes[i]
		addresses = append(addresses, &r.Address)
		if r.Urgent != nil {
			u := *r.Urgent
			r.Urgent = &u
			addresses = append(addresses, &u.Address)
		}
	}
	for _, address := range addresses {
		if u, err := url.Parse(*address); err == nil && u.User != nil {
			*address = u.Redacted()
		}
		*address = t.Hide(*address)
	}
	if len(t.Target.Routes) > 0 && t.Target.Routes[0].Whole != nil { // what follows is each client's own
		shown.Target.Address += "…"
	}
	shown.Target.TLS.Key = nil
	if t.Target.TLS.Insecure && t.Target.Secure() { // it is to be seen wherever the target is
		shown.Target.Address += " (certificates not checked)"
	}
	return &shown
}
