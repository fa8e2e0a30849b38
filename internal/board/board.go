// Package board is the logic of the stand-in, the simulated messaging server
// that ships with the tool: a harbour board that pushes notices to the rooms of
// a port. It has no sockets; messages go in and come out as JSON.
//
// The board keeps the truth of what it did (truth.go), and can be told to do
// wrong (switches.go).
package board

import (
	"strconv"
	"time"

	"tidepull/internal/mark"
	"tidepull/internal/mono"
	"tidepull/internal/wire/jsonscan"
)

// Out is how a board reaches its members' connections.
type Out interface {
	// Frame appends a message as it goes over the wire.
	Frame(dst, payload []byte) []byte
	// Send sends what Frame made to a member.
	Send(to int32, frame []byte)
	Now() mono.Time
}

// Config says how a board behaves.
type Config struct {
	Switches Switches
	History  int           // how many notices a room keeps for late comers
	Presence time.Duration // how soon after a change the number of members is announced, at the latest
	Records  int           // how many messages and deliveries the truth keeps one by one
}

// MaxText is the longest text of a notice or whisper, as JSON.
const MaxText = 1 << 20

// A Board is the server's state. It has one owner.
type Board struct {
	cfg     Config
	out     Out
	members []member // by connection
	names   map[string]int32
	rooms   []*room
	byName  map[string]*room
	changed []*room // whose number of members is to be announced
	nextAnn mono.Time
	held    []heldRelay // by release
	Truth   Truth

	fields  [5]jsonscan.Value
	body    []byte
	frame   []byte
	scratch []byte
}

type member struct {
	name     string
	nameJSON []byte // as a JSON string
	rooms    []*room
	here     bool
	said     uint64 // messages it has said, for the switches
}

type room struct {
	name     string
	nameJSON []byte
	members  []int32
	seq      int64
	past     []notice // the last ones, oldest first
	dirty    bool
}

type notice struct {
	from, text []byte // JSON strings
	seq        int64
}

// The fields that the board reads of a message.
const (
	fieldKind = iota
	fieldName
	fieldRoom
	fieldText
	fieldTo
)

var fieldTable = func() *jsonscan.Table {
	t := &jsonscan.Table{}
	for _, name := range []string{"kind", "name", "room", "text", "to"} {
		t.Add(name)
	}
	return t
}()

// New makes an empty board.
func New(cfg Config, out Out) *Board {
	b := &Board{cfg: cfg, out: out, names: map[string]int32{}, byName: map[string]*room{}, nextAnn: mono.Never}
	b.Truth.most = cfg.Records
	return b
}

// Join tells of a new connection; it is greeted.
func (b *Board) Join(id int32) {
	for int(id) >= len(b.members) {
		b.members = append(b.members, member{})
	}
	b.members[id] = member{here: true}
	b.Truth.Totals.Joined++
	b.Truth.Totals.Here++
	b.reply(id, `{"kind":"welcome","board":"harbour board"}`)
}

// Part tells that a connection is gone: its member leaves all rooms.
func (b *Board) Part(id int32) {
	if int(id) >= len(b.members) || !b.members[id].here {
		return
	}
	m := &b.members[id]
	for len(m.rooms) > 0 {
		b.removeFrom(m.rooms[0], id)
	}
	if m.name != "" {
		delete(b.names, m.name)
	}
	*m = member{}
	b.Truth.Totals.Here--
}

// Message handles what a member said; at is when it arrived in the kernel.
// The payload is borrowed.
func (b *Board) Message(id int32, payload []byte, at mono.Time) {
	if err := fieldTable.Extract(payload, b.fields[:]); err != nil {
		b.refuse(id, "message", err.Error())
		return
	}
	switch kind := b.fields[fieldKind]; {
	case b.is(kind, "name"):
		b.takeName(id)
	case b.members[id].name == "":
		b.refuse(id, string(kind.Raw), "say your name first")
	case b.is(kind, "enter"):
		b.enter(id)
	case b.is(kind, "leave"):
		b.leave(id)
	case b.is(kind, "notice"):
		b.notice(id, at)
	case b.is(kind, "whisper"):
		b.whisper(id, at)
	default:
		b.refuse(id, "message", "no such kind")
	}
}

func (b *Board) is(v jsonscan.Value, want string) bool {
	return v.Kind == jsonscan.String && jsonscan.EqualString(v.Raw, want)
}

// text returns a string field, or ok false where it is missing or empty.
func (b *Board) text(field int) (s string, ok bool) {
	v := b.fields[field]
	if v.Kind != jsonscan.String || len(v.Raw) == 0 || len(v.Raw) > 200 {
		return "", false
	}
	b.scratch = jsonscan.Unquote(b.scratch[:0], v.Raw)
	return string(b.scratch), true
}

func (b *Board) takeName(id int32) {
	m := &b.members[id]
	name, ok := b.text(fieldName)
	_, taken := b.names[name]
	switch {
	case !ok:
		b.refuse(id, "name", "a name is a string of 1 to 200 bytes")
	case m.name != "":
		b.refuse(id, "name", "you have one already")
	case taken:
		b.refuse(id, "name", "taken")
	default:
		m.name, m.nameJSON = name, jsonscan.AppendQuoted(nil, []byte(name))
		b.names[name] = id
		b.reply(id, `{"kind":"named","name":`+string(m.nameJSON)+`}`)
	}
}

func (b *Board) enter(id int32) {
	name, ok := b.text(fieldRoom)
	if !ok {
		b.refuse(id, "enter", "a room is a string of 1 to 200 bytes")
		return
	}
	r := b.byName[name]
	if r == nil {
		r = &room{name: name, nameJSON: jsonscan.AppendQuoted(nil, []byte(name))}
		b.byName[name] = r
		b.rooms = append(b.rooms, r)
	}
	m := &b.members[id]
	if !m.in(r) {
		m.rooms = append(m.rooms, r)
		r.members = append(r.members, id)
		b.change(r)
		for _, n := range r.past {
			b.reply(id, string(b.noticeJSON("past", r, n)))
			b.Truth.Totals.Past++
		}
	}
	b.reply(id, `{"kind":"entered","room":`+string(r.nameJSON)+`,"members":`+strconv.Itoa(len(r.members))+`,"seq":`+strconv.FormatInt(r.seq, 10)+`}`)
}

func (m *member) in(r *room) bool {
	for _, have := range m.rooms {
		if have == r {
			return true
		}
	}
	return false
}

// ofMember returns the room that the message names, where its sender is in it.
func (b *Board) ofMember(id int32, what string) *room {
	name, _ := b.text(fieldRoom)
	r := b.byName[name]
	if r == nil || !b.members[id].in(r) {
		b.refuse(id, what, "you are not in that room")
		return nil
	}
	return r
}

func (b *Board) leave(id int32) {
	if r := b.ofMember(id, "leave"); r != nil {
		b.removeFrom(r, id)
		b.reply(id, `{"kind":"left","room":`+string(r.nameJSON)+`}`)
	}
}

func (b *Board) removeFrom(r *room, id int32) {
	for i, have := range r.members {
		if have == id {
			last := len(r.members) - 1
			r.members[i] = r.members[last]
			r.members = r.members[:last]
			break
		}
	}
	m := &b.members[id]
	for i, have := range m.rooms {
		if have == r {
			m.rooms = append(m.rooms[:i], m.rooms[i+1:]...)
			break
		}
	}
	b.change(r)
}

// change has the number of members announced, soon: once for a crowd.
func (b *Board) change(r *room) {
	if !r.dirty {
		r.dirty = true
		b.changed = append(b.changed, r)
	}
	if b.nextAnn == mono.Never {
		b.nextAnn = b.out.Now().Add(b.cfg.Presence)
	}
}

func (b *Board) notice(id int32, at mono.Time) {
	r := b.ofMember(id, "notice")
	text := b.fields[fieldText]
	if r == nil {
		return
	}
	if text.Kind != jsonscan.String || len(text.Raw) > MaxText {
		b.refuse(id, "notice", "a text is a string of at most 1 MiB")
		return
	}
	r.seq++
	m := &b.members[id]
	m.said++
	n := notice{from: m.nameJSON, seq: r.seq}
	quoted := make([]byte, 0, len(text.Raw)+2)
	n.text = append(append(append(quoted, '"'), text.Raw...), '"')
	if b.cfg.History > 0 {
		if len(r.past) == b.cfg.History {
			copy(r.past, r.past[1:])
			r.past = r.past[:len(r.past)-1]
		}
		r.past = append(r.past, n)
	}
	b.Truth.Totals.Notices++
	b.relay(b.noticeJSON("notice", r, n), relayed{room: r, from: m.name, said: m.said, received: at, text: text.Raw})
}

func (b *Board) noticeJSON(kind string, r *room, n notice) []byte {
	b.body = append(append(b.body[:0], `{"kind":"`...), kind...)
	b.body = append(append(b.body, `","room":`...), r.nameJSON...)
	b.body = append(append(b.body, `,"from":`...), n.from...)
	b.body = strconv.AppendInt(append(b.body, `,"seq":`...), n.seq, 10)
	b.body = append(append(b.body, `,"text":`...), n.text...)
	return append(b.body, '}')
}

func (b *Board) whisper(id int32, at mono.Time) {
	name, _ := b.text(fieldTo)
	_, known := b.names[name]
	text := b.fields[fieldText]
	switch {
	case !known:
		b.refuse(id, "whisper", "nobody has that name")
		return
	case text.Kind != jsonscan.String || len(text.Raw) > MaxText:
		b.refuse(id, "whisper", "a text is a string of at most 1 MiB")
		return
	}
	m := &b.members[id]
	m.said++
	b.body = append(append(b.body[:0], `{"kind":"whisper","from":`...), m.nameJSON...)
	b.body = append(append(append(b.body, `,"text":"`...), text.Raw...), `"}`...)
	b.Truth.Totals.Whispers++
	b.relay(b.body, relayed{to: name, from: m.name, said: m.said, received: at, text: text.Raw})
}

func (b *Board) refuse(id int32, what, why string) {
	b.Truth.Totals.Refused++
	msg := append([]byte(`{"kind":"refused","what":`), jsonscan.AppendQuoted(nil, []byte(what))...)
	msg = append(append(msg, `,"why":`...), jsonscan.AppendQuoted(nil, []byte(why))...)
	b.reply(id, string(append(msg, '}')))
}

func (b *Board) reply(id int32, payload string) {
	b.frame = b.out.Frame(b.frame[:0], []byte(payload))
	b.out.Send(id, b.frame)
}

// Next is when Tick is to be called.
func (b *Board) Next() mono.Time {
	next := b.nextAnn
	if len(b.held) > 0 {
		next = min(next, b.held[0].release)
	}
	return next
}

// Tick does what is due: held messages are relayed, presence is announced.
func (b *Board) Tick(now mono.Time) {
	for len(b.held) > 0 && b.held[0].release <= now {
		h := b.held[0]
		b.held = b.held[1:]
		b.deliver(h.payload, h.relayed)
	}
	if now < b.nextAnn {
		return
	}
	b.nextAnn = mono.Never
	for _, r := range b.changed {
		r.dirty = false
		b.body = append(append(b.body[:0], `{"kind":"presence","room":`...), r.nameJSON...)
		b.body = append(strconv.AppendInt(append(b.body, `,"members":`...), int64(len(r.members)), 10), '}')
		b.frame = b.out.Frame(b.frame[:0], b.body)
		for _, id := range r.members {
			b.out.Send(id, b.frame)
			b.Truth.Totals.Presence++
		}
	}
	b.changed = b.changed[:0]
}

// relayed is a message on its way to its audience.
type relayed struct {
	room     *room  // nil: it is a whisper
	to       string // the recipient of a whisper
	from     string
	said     uint64 // how many the sender had said, this one included
	received mono.Time
	text     []byte // borrowed
	mark     mark.Mark
	marked   bool
}

type heldRelay struct {
	relayed
	payload []byte
	release mono.Time
}

// relay sends a message to its audience, at once or after the hold.
func (b *Board) relay(payload []byte, m relayed) {
	var end int
	m.mark, end = mark.Find(m.text)
	m.marked, m.text = end > 0, nil
	if hold := b.cfg.Switches.Hold; hold > 0 {
		b.held = append(b.held, heldRelay{m, append([]byte(nil), payload...), m.received.Add(hold)})
		return
	}
	b.deliver(payload, m)
}

func (b *Board) deliver(payload []byte, m relayed) {
	b.frame = b.out.Frame(b.frame[:0], payload)
	b.Truth.open(b, m)
	if m.room == nil {
		if to, here := b.names[m.to]; here {
			b.give(m, to)
		}
		return
	}
	for _, id := range m.room.members {
		b.give(m, id)
	}
}

// give sends a message to one of its audience, as the switches have it.
func (b *Board) give(m relayed, to int32) {
	s := &b.cfg.Switches
	switch {
	case s.happens(loseIt, s.Lose, b, m, to):
		b.Truth.book(b, m, to, DidLose)
	case s.happens(misdirectIt, s.Misdirect, b, m, to):
		if other := b.outsider(m, to); other >= 0 {
			b.Truth.book(b, m, to, DidLose)
			b.out.Send(other, b.frame)
			b.Truth.book(b, m, other, DidMisdirect)
			return
		}
		fallthrough
	default:
		b.out.Send(to, b.frame)
		b.Truth.book(b, m, to, DidWrite)
		if s.happens(doubleIt, s.Double, b, m, to) {
			b.out.Send(to, b.frame)
			b.Truth.book(b, m, to, DidDouble)
		}
	}
}
