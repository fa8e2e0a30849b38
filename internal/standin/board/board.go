// Package board is the logic of the stand-in, the simulated messaging server
// that ships with the tool: a harbour board that pushes notices to the rooms of
// a port. It has no sockets; messages go in and come out as JSON.
//
// The board keeps the truth of what it did (truth.go), and can be made to do
// wrong (switches.go).
package board

import (
	"slices"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/wire/jsonscan"
)

// Out is how a board reaches its members' connections.
type Out interface {
	// Frame appends a message as it goes over the wire: text, or binary.
	Frame(dst, payload []byte, binary bool) []byte
	// Send sends what Frame made to a member.
	Send(to int32, frame []byte)
	// Close ends a member's connection: in order, or by just hanging up.
	Close(id int32, code uint16, reason string)
	Hangup(id int32)
	Now() mono.Time
	// Keep puts a notice into the board's store. What it gets is borrowed: the
	// JSON string literals of the sender's name and the text.
	Keep(room string, seq int64, from, text []byte)
	// Recall gives the last notices that the store has of a room, the oldest first: the JSON
	// of the sender's name and of the text.
	Recall(room string, most int) []Recalled
	// Queued is how many bytes wait for a member that does not read them as fast.
	Queued(id int32) int
}

// A Recalled is a notice that the store has kept.
type Recalled struct {
	Seq        int64
	From, Text []byte
}

// Config says how a board behaves.
type Config struct {
	Switches Switches
	History  int           // how many notices a room keeps for late comers
	Presence time.Duration // how soon after a change the number of members is announced, at the latest
	Records  int           // how many messages and deliveries the truth keeps one by one
	MaxText  int           // the longest text of a notice or whisper, as JSON, in bytes
	Notices  bool          // tell a room's members who enters and who leaves
	LeaveOut bool          // the sender of a notice does not get it
	Share    bool          // several connections may have one name
	Denied   []string      // rooms that only Master may enter
	Manners  Manners
	Resume   time.Duration // how long who was named may come back by its token; 0: nobody may
	Gauge    time.Duration // how often rooms named gaugePrefix and on get a reading; 0: never
}

// Manners are those of servers that speak otherwise than the board does.
type Manners struct {
	Moor  string // naming oneself is entering this room; nothing confirms it
	Whole bool   // the confirmation of a room holds its history as a list, and the names of its members
	After bool   // a room's history comes after the confirmation
	Live  bool   // it comes as notices do that are said then
	Ack   bool   // who says a notice is told so, with its text, beside getting it
}

// Master is the login that may enter every room.
const Master = "harbour-master"

// gaugePrefix begins the names of the rooms that get readings of their tide
// gauge, unasked, with a sequence number and a time.
const gaugePrefix = "gauge-"

// A Board is the server's state. It has one owner.
type Board struct {
	cfg       Config
	out       Out
	members   []member           // by connection
	names     map[string][]int32 // who has a name, the earliest first
	rooms     []*room
	byName    map[string]*room
	changed   []*room // that are to announce their number of members
	nextAnn   mono.Time
	held      []heldRelay     // by release
	late      []heldGive      // by release
	slowJoins []slowJoin      // by time
	gauges    mono.Time       // when the next readings are due
	began     mono.Time       // when the first client came
	storeFree mono.Time       // when the store has written what it has, by the switch slow_store
	wasHere   map[string]bool // names of clients that have gone, if a switch needs them
	quirks    uint64          // dice thrown for things that belong to nobody
	Truth     Truth

	fields     [8]jsonscan.Value
	parted     map[string]*parted // by token
	nextForget mono.Time
	body       []byte
	frame      []byte
	scratch    []byte
}

type member struct {
	name     string
	nameJSON []byte // as a JSON string
	rooms    []*room
	here     bool
	login    string
	node     string // which of the board's it is connected to
	said     uint64 // messages it has said, for the switches
	named    mono.Time
	lingers  []*room // that it has left, and gets the messages of
}

type room struct {
	name     string
	nameJSON []byte
	members  []int32
	seq      int64
	past     []notice // the last ones, oldest first
	kept     int64    // notices put into the store
	dirty    bool
	entered  mono.Time // when somebody entered last
	burst    mono.Time // when the burst of notices began that goes on
	inBurst  int
	ghosts   [][]byte // names of members that are gone, as JSON
	extra    int      // entries among the members that are nobody's first
}

type notice struct {
	from, text []byte // JSON strings
	ref        []byte // the inside of one, or nil
	seq        int64
}

// The fields that the board reads of a message.
const (
	fieldKind = iota
	fieldName
	fieldRoom
	fieldText
	fieldTo
	fieldRef
	fieldToken
	fieldAfter
)

var fieldTable = func() *jsonscan.Table {
	t := &jsonscan.Table{}
	for _, name := range []string{"kind", "name", "room", "text", "to", "ref", "token", "after"} {
		t.Add(name)
	}
	return t
}()

// New makes an empty board.
func New(cfg Config, out Out) *Board {
	b := &Board{cfg: cfg, out: out, names: map[string][]int32{}, byName: map[string]*room{}, nextAnn: mono.Never,
		gauges: mono.Never, wasHere: map[string]bool{}, parted: map[string]*parted{}}
	if b.cfg.MaxText == 0 {
		b.cfg.MaxText = 1 << 20
	}
	b.Truth.most = cfg.Records
	return b
}

// Join tells of a new connection and who has logged in on it, "" for a guest;
// it is greeted.
func (b *Board) Join(id int32, login string) {
	for int(id) >= len(b.members) {
		b.members = append(b.members, member{})
	}
	if b.began == 0 {
		b.began = b.out.Now()
	}
	b.members[id] = member{here: true, login: login, nameJSON: []byte(`""`)}
	b.Truth.Totals.Joined++
	b.Truth.Totals.Here++
	b.reply(id, `{"kind":"welcome","board":"harbour board"}`)
}

// NameOf is what a member calls itself; "" if it has not said.
func (b *Board) NameOf(id int32) string {
	if int(id) >= len(b.members) {
		return ""
	}
	return b.members[id].name
}

// Part tells that a connection is gone: its member leaves all rooms.
func (b *Board) Part(id int32) {
	if int(id) >= len(b.members) || !b.members[id].here {
		return
	}
	m := &b.members[id]
	b.remember(m)
	ghost := m.name != "" && b.cfg.Switches.Meets(b.cfg.Switches.Ghost, "ghost", m.name)
	for len(m.rooms) > 0 {
		if ghost { // it counts as a member from now on, without a connection
			m.rooms[0].ghosts = append(m.rooms[0].ghosts, m.nameJSON)
			b.Truth.Totals.Ghosts++
		}
		b.removeFrom(m.rooms[0], id, false)
	}
	b.endsLingering(id)
	b.leaves(m.name)
	if m.name != "" {
		bearers := b.names[m.name]
		if i := slices.Index(bearers, id); i >= 0 {
			bearers = slices.Delete(bearers, i, i+1)
		}
		if b.names[m.name] = bearers; len(bearers) == 0 {
			delete(b.names, m.name)
		}
	}
	*m = member{}
	b.Truth.Totals.Here--
}

// Message handles what a member said; at is when it arrived in the kernel.
// The payload is borrowed.
func (b *Board) Message(id int32, payload []byte, at mono.Time) {
	if err := fieldTable.Extract(payload, b.fields[:]); err != nil {
		b.unknown(id, err.Error())
		return
	}
	open := b.members[id].name != "" || b.doorOpen(id)
	switch kind := b.fields[fieldKind]; {
	case b.is(kind, "name"):
		b.takeName(id)
	case b.is(kind, "resume"):
		b.resume(id)
	case !open:
		b.refuse(id, string(kind.Raw), "say your name first")
	case b.isTooEarly(id):
	case b.is(kind, "enter"):
		b.enter(id)
	case b.is(kind, "leave"):
		b.leave(id)
	case b.is(kind, "members"):
		b.tellMembers(id)
	case b.is(kind, "notice"):
		b.notice(id, at)
	case b.is(kind, "whisper"):
		b.whisper(id, at)
	case b.is(kind, "here"): // a sign of life
	case b.is(kind, "log off"):
		b.out.Close(id, 4000, "logged off")
	case b.is(kind, "hang up"):
		b.out.Hangup(id)
	default:
		b.unknown(id, "no such kind")
	}
}

// doorOpen reports whether the switch lets a client do what it must not do yet.
func (b *Board) doorOpen(id int32) bool {
	return b.cfg.Switches.happens(openDoor, b.cfg.Switches.OpenDoor, b, relayed{from: b.members[id].name}, id)
}

func (b *Board) is(v jsonscan.Value, want string) bool {
	return v.Kind == jsonscan.String && jsonscan.EqualString(v.Raw, want)
}

// text returns a string field, or ok false if it is missing or empty.
func (b *Board) text(field int) (s string, ok bool) {
	v := b.fields[field]
	if v.Kind != jsonscan.String || len(v.Raw) == 0 || len(v.Raw) > 200 {
		return "", false
	}
	b.scratch = jsonscan.Unquote(b.scratch[:0], v.Raw)
	return string(b.scratch), true
}

func quoted(s string) []byte { return jsonscan.AppendQuoted(nil, []byte(s)) }

func (b *Board) takeName(id int32) {
	m := &b.members[id]
	name, ok := b.text(fieldName)
	taken := len(b.names[name]) > 0 && !b.cfg.Share
	switch {
	case !ok:
		b.refuse(id, "name", "a name is a string of 1 to 200 bytes")
	case m.name != "":
		b.refuse(id, "name", "you have one already")
	case taken:
		b.refuse(id, "name", "taken")
	default:
		m.name, m.nameJSON, m.named = name, quoted(name), b.out.Now()
		b.names[name] = append(b.names[name], id)
		token := ""
		if b.cfg.Resume > 0 {
			token = `,"token":"` + b.tokenOf(name) + `"`
		}
		b.reply(id, `{"kind":"named","name":`+string(m.nameJSON)+token+`}`)
		if moor := b.cfg.Manners.Moor; moor != "" {
			r := b.room(moor)
			m.rooms, r.members = append(m.rooms, r), append(r.members, id)
			b.change(r, id, "joined", true)
			b.tellPast(id, r)()
		}
	}
}

func (b *Board) refuse(id int32, what, why string) {
	b.Truth.Totals.Refused++
	msg := append([]byte(`{"kind":"refused","what":`), jsonscan.AppendQuoted(nil, []byte(what))...)
	msg = append(append(msg, `,"why":`...), jsonscan.AppendQuoted(nil, []byte(why))...)
	b.reply(id, string(append(msg, '}')))
}

func (b *Board) reply(id int32, payload string) {
	b.frame = b.out.Frame(b.frame[:0], []byte(payload), false)
	b.out.Send(id, b.frame)
}

// Next is when Tick is to be called.
func (b *Board) Next() mono.Time {
	next := min(b.nextAnn, b.gauges, b.nextJoin())
	if len(b.held) > 0 {
		next = min(next, b.held[0].release)
	}
	if len(b.late) > 0 {
		next = min(next, b.late[0].release)
	}
	return next
}

// Tick does what is due: what was held back is sent, presence is announced,
// gauges are read.
func (b *Board) Tick(now mono.Time) {
	b.forgetParted(now)
	b.join(now)
	for len(b.held) > 0 && b.held[0].release <= now {
		b.release(0)
	}
	for len(b.late) > 0 && b.late[0].release <= now {
		b.giveLate(0)
	}
	if now >= b.nextAnn {
		b.announce()
	}
	if now >= b.gauges {
		b.readGauges(now)
	}
}
