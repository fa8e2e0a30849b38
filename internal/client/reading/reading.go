// Package reading says what a message means by a trial's dialect, whoever gets it: whether it holds
// marks, is history, tells a number of members, who enters or leaves, is a heartbeat or a feed's. It
// knows no client. What a rule says that names the client's own variables is left open, and is read
// once the message has met one (Meet); all else is the same for every copy of a broadcast.
//
// A Reader has one owner. A Message is valid until the Reader reads the next.
package reading

import (
	"bytes"
	"hash/crc64"

	"tidepull/internal/measure/mark"
	"tidepull/internal/trial"
	"tidepull/internal/trial/expr"
	"tidepull/internal/wire/jsonscan"
)

// Kinds are what a message is by the dialect; it may be several things at once.
type Kinds uint16

// The kinds.
const (
	History  Kinds = 1 << iota // it comes as history, or holds some
	Echo                       // what a sender is given of its own message beside the delivery
	Live                       // a room's own, as it is said; told apart only if its number matters
	Presence                   // it says how many members a room has
	Joined                     // somebody enters a room
	Gone                       // or leaves it
	Beat                       // it is a heartbeat, or asks for one
	decoded                    // its marks are in what it decodes to
	payload                    // its sender's payload is compared
	allKinds = 1<<iota - 1
)

// A Message is what one message means.
type Message struct {
	Part
	Binary bool

	// Read is set if the message's fields were read: else no rule can be about it, and all that
	// follows is nothing. The fields then are in the Reader's scope.
	Read   bool
	Marked bool
	Mark   mark.Mark // the first, until NextMark
	marks  mark.Scanner

	meaning
}

type meaning struct {
	Is         Kinds
	Number     Number   // of Live: its own, in its room
	Room       []byte   // of Live; nil: the dialect names none
	PastNumber Number   // of History: its own
	Past       []Number // of History: those of the messages that it holds
	Sum        uint64   // a digest of Compared; 0 if it is not compared
	Compared   []byte   // what its sender wanted to say; valid until the next message
	Members    Members
	Notices    [2]Notice // of Joined and of Gone
	Feeds      []Feed    // what it is a reading of
}

// A Number is that of a message in its room; Whole is false for what is none.
type Number struct {
	N     int64
	Whole bool
}

// Members is how many members a room is said to have.
type Members struct {
	Room []byte     // nil: the dialect names none, or the message does not
	Said expr.Value // not a Number if the message says none
	// Names is the list of their names, as JSON, valid until the next message; not JSON if it says none.
	Names expr.Value
	All   bool // of all clients, and not of a room's
}

// A Notice is that somebody enters a room or leaves it.
type Notice struct {
	Room []byte
	Who  []byte // by name; nil: the message says none
	All  bool   // it is about the server as a whole, and not about a room
}

// A Feed is one reading of a feed.
type Feed struct {
	At     int        // which feed of the trial's
	Time   expr.Value // milliseconds since 1970, if it is a Number
	Number Number
	Key    uint64 // a digest of what is numbered on its own
	Value  expr.Value
	Text   []byte // what it tells, or all of it; nil if nobody asks. Valid until the next message
}

// A Reader reads messages by the dialect of one trial.
type Reader struct {
	t       *trial.Trial
	scope   *expr.Scope // the fields and the text of the message at hand are put into it
	rules   Kinds       // that the dialect has, and that matter
	open    Kinds       // of them: those that name variables of the client's
	feeds   []bool      // by feed: it names some
	payload bool        // payloads are compared
	history bool        // the messages of histories are looked at
	fields  []jsonscan.Value
	items   []jsonscan.Value // of a message in a history
	json    []byte           // of the message at hand
	part    []byte
	said    []byte // of the message at hand, what its sender wanted to say
	decoded []byte
	names   []byte
	m       Message
	newest  newest
}

// New makes a reader. Expressions about its messages are evaluated in the scope, which it fills.
func New(t *trial.Trial, scope *expr.Scope) *Reader {
	r := &Reader{t: t, scope: scope, fields: make([]jsonscan.Value, t.Fields.Len()),
		items: make([]jsonscan.Value, t.Fields.Len()), names: make([]byte, 0, 256)}
	scope.Fields, scope.Columns = r.fields, t.Data
	numbers := false
	for i := range t.Crews {
		c := &t.Crews[i]
		numbers = numbers || c.Return != nil
		for k := range c.Session.Steps {
			s := &c.Session.Steps[k]
			r.payload = r.payload || s.Payload != nil
			r.history = r.history || s.History >= 0
		}
	}
	d := &t.Dialect
	r.rule(Presence, d.Presence.When, d.Presence.Room, d.Presence.Members, d.Presence.Names)
	r.rule(Joined, d.Joined.When, d.Joined.Room, d.Joined.Who)
	r.rule(Gone, d.Gone.When, d.Gone.Room, d.Gone.Who)
	r.rule(Beat, d.Beat.When)
	r.rule(Echo, d.Echo)
	r.rule(History, d.Past, d.PastEach, d.PastSeq)
	r.rule(decoded, d.Heard.Decoded)
	switch {
	case (numbers || r.history) && d.Heard.Seq != nil:
		r.rule(Live, d.Heard.Seq, d.Heard.When, d.Heard.Room)
	case r.history:
		r.rule(Live, d.Heard.When, d.Heard.Room)
	}
	if r.payload {
		r.rules |= payload
		if p := d.Heard.Payload; p != nil && !p.OfMessage() {
			r.open |= payload
		}
	}
	if r.open&decoded != 0 { // what is about the mark can be said only once there is one
		r.open |= r.rules & (Echo | History | payload)
	}
	for i := range t.Feeds {
		f := &t.Feeds[i]
		r.feeds = append(r.feeds, !ofMessage(f.When, f.Key, f.Seq, f.Time, f.Value))
	}
	r.keepsNewest()
	return r
}

// rule notes that the dialect has a rule, if it has; the first program is what makes it one.
func (r *Reader) rule(k Kinds, when *expr.Program, more ...*expr.Program) {
	if when == nil {
		return
	}
	r.rules |= k
	if !when.OfMessage() || !ofMessage(more...) {
		r.open |= k
	}
}

func ofMessage(all ...*expr.Program) bool {
	for _, p := range all {
		if p != nil && !p.OfMessage() {
			return false
		}
	}
	return true
}

// Load puts a message into the scope. One that is no JSON has no fields.
func (r *Reader) Load(p Part) {
	r.scope.Fields = r.fields
	r.load(p.Text, p.JSON)
}

func (r *Reader) load(text, json []byte) {
	if s := r.scope; r.t.Fields.Extract(json, s.Fields) != nil {
		clear(s.Fields)
	}
	r.scope.Vars[expr.VarText] = expr.Value{Kind: expr.String, Str: text}
	r.scope.Vars[expr.VarStatus] = expr.Value{}
	r.scope.Head = nil
}

// Read reads a message. With must its fields are read in any case; without, only if a rule may be
// about it. It is borrowed, as is what it means.
func (r *Reader) Read(p Part, binary, must bool) *Message {
	m := &r.m
	m.Part, m.Binary = p, binary
	m.scan(p.Text)
	if m.Marked {
		m.Read = must || r.payload || r.meansMore(p.JSON)
	} else {
		m.Read = must || r.mayMean(p.JSON)
	}
	if m.Read {
		m.meaning = meaning{Past: m.Past[:0], Feeds: m.Feeds[:0]}
		r.names = r.names[:0]
		r.Load(p)
		r.ask(m, false)
	} else {
		m.Is, m.Sum, m.Compared, m.Feeds = 0, 0, nil, m.Feeds[:0]
	}
	r.keepSame(m)
	return m
}

// Meet reads what was left open, with the variables of the client that gets the message: they are
// in the scope, as is the message.
func (r *Reader) Meet(m *Message) {
	if m.Read {
		r.ask(m, true)
	}
}

func (m *Message) scan(in []byte) {
	m.marks = mark.In(in)
	m.NextMark()
}

// NextMark goes to the next of the message's marks; Marked is false if there is none.
func (m *Message) NextMark() {
	var end int
	m.Mark, end = m.marks.Next()
	m.Marked = end > 0
}

// mayMean reports whether a message without a mark may be something that is judged, from a look at
// its bytes.
func (r *Reader) mayMean(json []byte) bool {
	if r.rules&decoded != 0 {
		return true
	}
	d := &r.t.Dialect
	for _, p := range [...]*expr.Program{d.Presence.When, d.Joined.When, d.Gone.When, d.Beat.When} {
		if p != nil && p.MayHold(json) {
			return true
		}
	}
	for i := range r.t.Feeds {
		if r.t.Feeds[i].When.MayHold(json) {
			return true
		}
	}
	for i := range r.t.Knowns {
		if r.t.Knowns[i].When.MayHold(json) {
			return true
		}
	}
	return false
}

// meansMore reports whether a message with a mark may mean something besides.
func (r *Reader) meansMore(json []byte) bool {
	d := &r.t.Dialect
	if d.Past != nil && d.Past.MayHold(json) || d.Echo != nil && d.Echo.MayHold(json) {
		return true
	}
	for _, p := range [...]*expr.Program{d.Presence.When, d.Joined.When, d.Gone.When} {
		if p != nil && p.Speaks(json) {
			return true
		}
	}
	return false
}

// ask asks the rules: those that name variables of the client's, or the others.
func (r *Reader) ask(m *Message, open bool) {
	d, s := &r.t.Dialect, r.scope
	which := r.rules &^ r.open
	if open {
		which = r.rules & r.open
	}
	if which&decoded != 0 && !m.Marked {
		if v := d.Heard.Decoded.Eval(s); v.Kind == expr.String {
			r.decoded = append(r.decoded[:0], v.Str...)
			m.scan(r.decoded)
		}
	}
	if which&History != 0 && d.Past.True(s) {
		m.Is |= History
		r.readHistory(m)
	}
	if which&Echo != 0 && m.Marked && d.Echo.True(s) {
		m.Is |= Echo
	}
	if which&Live != 0 && (d.Heard.When == nil || d.Heard.When.True(s)) {
		m.Is |= Live
		m.Room = r.name(d.Heard.Room)
		if d.Heard.Seq != nil {
			m.Number = r.number(d.Heard.Seq)
		}
	}
	if which&payload != 0 && m.Marked {
		m.Compared = r.compared(m)
		m.Sum = Digest(m.Compared)
	}
	if which&Presence != 0 && d.Presence.When.True(s) {
		m.Is |= Presence
		m.Members = Members{Room: r.name(d.Presence.Room), All: d.Presence.Room == nil}
		if d.Presence.Members != nil {
			m.Members.Said = d.Presence.Members.Eval(s)
		}
		if d.Presence.Names != nil {
			m.Members.Names = d.Presence.Names.Eval(s)
		}
	}
	for i, n := range [...]*trial.Notice{&d.Joined, &d.Gone} {
		if k := Joined << i; which&k != 0 && n.When.True(s) {
			m.Is |= k
			m.Notices[i] = Notice{Room: r.name(n.Room), All: n.Room == nil, Who: r.name(n.Who)}
		}
	}
	if which&Beat != 0 && d.Beat.When.True(s) {
		m.Is |= Beat
	}
	for i := range r.feeds {
		if r.feeds[i] == open {
			r.readFeed(m, i)
		}
	}
}

// name gives a text; nil if there is no program, or it gives none.
func (r *Reader) name(p *expr.Program) []byte {
	if p == nil {
		return nil
	}
	v := p.Eval(r.scope)
	if v.Kind != expr.String {
		return nil
	}
	from := len(r.names)
	r.names = append(r.names, v.Str...)
	return r.names[from:len(r.names):len(r.names)]
}

func (r *Reader) number(p *expr.Program) Number {
	n, whole := p.Eval(r.scope).Int()
	return Number{n, whole}
}

// readHistory reads the numbers of the messages in a history.
func (r *Reader) readHistory(m *Message) {
	d := &r.t.Dialect
	if d.PastSeq != nil {
		m.PastNumber = r.number(d.PastSeq)
	}
	switch {
	case !r.history:
	case d.PastEach == nil && m.Marked:
		m.Past = append(m.Past, m.PastNumber)
	case d.PastEach != nil:
		list := d.PastEach.Eval(r.scope)
		if list.Kind != expr.JSON {
			return
		}
		r.scope.Fields = r.items
		jsonscan.Elements(bytes.Clone(list.Str), func(item []byte) {
			r.load(item, item)
			n := Number{}
			if d.PastSeq != nil {
				n = r.number(d.PastSeq)
			}
			m.Past = append(m.Past, n)
		})
		r.scope.Fields = r.fields
		r.scope.Vars[expr.VarText] = expr.Value{Kind: expr.String, Str: m.Text}
	}
}

// compared is what a message's sender wanted to say: what the dialect says, or else all of it.
func (r *Reader) compared(m *Message) []byte {
	d := &r.t.Dialect
	if p := d.Heard.Payload; p != nil && (!m.Binary || d.Binary) {
		if v := p.Eval(r.scope); v.Kind != expr.Missing {
			r.said = v.Append(r.said[:0])
			return r.said
		}
	}
	return m.Text
}

func (r *Reader) readFeed(m *Message, i int) {
	f := &r.t.Feeds[i]
	if !f.When.True(r.scope) {
		return
	}
	feed := Feed{At: i}
	if f.Time != nil {
		feed.Time = f.Time.Eval(r.scope)
	}
	if f.Key != nil {
		v := f.Key.Eval(r.scope)
		r.part = v.Append(r.part[:0])
		feed.Key = crc64.Update(1, table, r.part)
	}
	if f.Seq != nil {
		feed.Number = r.number(f.Seq)
	}
	if f.Value != nil {
		feed.Value = f.Value.Eval(r.scope)
	}
	if from := len(r.names); f.Same && f.Value != nil {
		r.names = feed.Value.Append(r.names)
		feed.Text = r.names[from:len(r.names):len(r.names)]
	} else if f.Same {
		feed.Text = m.Text
	}
	m.Feeds = append(m.Feeds, feed)
}

var table = crc64.MakeTable(crc64.ECMA)

// Digest tells payloads apart; it is never 0.
func Digest(b []byte) uint64 { return max(1, crc64.Update(uint64(len(b)), table, b)) }
