package board

import (
	"slices"
	"strconv"

	"tidepull/internal/base/mono"
	"tidepull/internal/wire/jsonscan"
)

func (b *Board) notice(id int32, at mono.Time) {
	r := b.ofMember(id, "notice")
	text := b.fields[fieldText]
	switch {
	case r == nil:
	case b.tooBig(text.Raw):
	case text.Kind != jsonscan.String || len(text.Raw) > b.cfg.MaxText:
		b.refuse(id, "notice", "a text is a string of at most "+strconv.Itoa(b.cfg.MaxText)+" bytes")
	default:
		m := &b.members[id]
		m.said++
		if b.cfg.Manners.Ack {
			b.reply(id, `{"kind":"ack","text":"`+string(text.Raw)+`"}`)
		}
		b.post(r, m.nameJSON, text.Raw, relayed{sender: id, from: m.name, said: m.said, received: at,
			leaveOut: b.cfg.LeaveOut})
	}
}

// tooBig reports whether the switch makes a text vanish silently.
func (b *Board) tooBig(text []byte) bool {
	limit := b.cfg.Switches.TooBig
	if limit == 0 || len(text) <= limit {
		return false
	}
	b.Truth.Totals.Swallowed++
	return true
}

// post puts a notice on the board: into the room's history and the store, and
// on its way to the members. text is the inside of a JSON string.
func (b *Board) post(r *room, fromJSON, text []byte, m relayed) int64 {
	r.seq++
	m.room, m.text, m.seq = r, text, r.seq
	n := notice{from: fromJSON, seq: r.seq}
	n.text = append(append(append(make([]byte, 0, len(text)+2), '"'), text...), '"')
	if ref := b.fields[fieldRef]; ref.Kind == jsonscan.String && len(ref.Raw) <= 100 {
		n.ref = slices.Clone(ref.Raw)
	}
	if b.cfg.Switches.happens(forgetIt, b.cfg.Switches.Forget, b, m, -1) {
		b.Truth.Totals.Forgotten++
	} else {
		r.kept++
		b.out.Keep(r.name, n.seq, n.from, n.text)
		if b.cfg.History > 0 {
			if len(r.past) == b.cfg.History {
				r.past = append(r.past[:0], r.past[1:]...)
			}
			r.past = append(r.past, n)
		}
	}
	b.Truth.Totals.Notices++
	if m.text = text; n.ref != nil {
		m.text = append(append(slices.Clone(n.ref), ' '), text...) // the mark may stand in either
	}
	b.relay(b.noticeJSON("notice", r, n), m)
	return n.seq
}

// noticeJSON writes a notice; its text comes last.
func (b *Board) noticeJSON(kind string, r *room, n notice) []byte {
	b.body = append(append(b.body[:0], `{"kind":"`...), kind...)
	b.body = append(append(b.body, `","room":`...), r.nameJSON...)
	b.body = append(append(b.body, `,"from":`...), n.from...)
	b.body = strconv.AppendInt(append(b.body, `,"seq":`...), n.seq, 10)
	if n.ref != nil {
		b.body = append(append(append(b.body, `,"ref":"`...), n.ref...), '"')
	}
	b.body = append(append(b.body, `,"text":`...), n.text...)
	return append(b.body, '}')
}

// Publish puts a notice on the board that came over HTTP: JSON with room, text
// and, if it has one, ref and from. It returns the notice's number in its room,
// or why it was refused.
func (b *Board) Publish(payload []byte, at mono.Time) (seq int64, refused string) {
	if err := fieldTable.Extract(payload, b.fields[:]); err != nil {
		return 0, err.Error()
	}
	name, ok := b.text(fieldRoom)
	r := b.byName[name]
	text := b.fields[fieldText]
	switch {
	case !ok || r == nil:
		return 0, "there is no such room"
	case text.Kind != jsonscan.String || len(text.Raw) > b.cfg.MaxText:
		return 0, "a text is a string of at most " + strconv.Itoa(b.cfg.MaxText) + " bytes"
	case b.tooBig(text.Raw):
		return r.seq, ""
	}
	b.quirks++
	return b.post(r, []byte(`"berth-planner"`), text.Raw,
		relayed{sender: -1, from: "berth-planner", said: b.quirks, received: at}), ""
}

func (b *Board) whisper(id int32, at mono.Time) {
	name, _ := b.text(fieldTo)
	text := b.fields[fieldText]
	switch {
	case len(b.names[name]) == 0:
		b.refuse(id, "whisper", "nobody has that name")
		return
	case b.tooBig(text.Raw):
		return
	case text.Kind != jsonscan.String || len(text.Raw) > b.cfg.MaxText:
		b.refuse(id, "whisper", "a text is a string of at most "+strconv.Itoa(b.cfg.MaxText)+" bytes")
		return
	}
	m := &b.members[id]
	m.said++
	b.body = append(append(b.body[:0], `{"kind":"whisper","from":`...), m.nameJSON...)
	b.body = append(append(append(b.body, `,"text":"`...), text.Raw...), `"}`...)
	b.Truth.Totals.Whispers++
	b.relay(b.body, relayed{sender: id, to: name, from: m.name, said: m.said, received: at, text: text.Raw})
}

// Upload relays a binary message, as it is, to the room that its sender entered
// last.
func (b *Board) Upload(id int32, payload []byte, at mono.Time) {
	m := &b.members[id]
	if len(m.rooms) == 0 {
		b.refuse(id, "upload", "you are in no room")
		return
	}
	if b.tooBig(payload) {
		return
	}
	m.said++
	b.Truth.Totals.Notices++
	b.relay(payload, relayed{room: m.rooms[len(m.rooms)-1], sender: id, from: m.name, said: m.said, received: at,
		text: payload, binary: true, leaveOut: b.cfg.LeaveOut})
}

// Counters are what the board says of itself to whoever asks.
type Counters struct {
	Notices int64           `json:"notices"` // kept, of all rooms
	Members int             `json:"members"`
	Rooms   map[string]Room `json:"rooms"`
}

// A Room is one room's part of the Counters.
type Room struct {
	Kept    int64 `json:"kept"`
	Seq     int64 `json:"seq"`
	Members int   `json:"members"`
}

// Counters gives the counters as they stand.
func (b *Board) Counters() Counters {
	c := Counters{Rooms: map[string]Room{}}
	for _, r := range b.rooms {
		c.Rooms[r.name] = Room{r.kept, r.seq, len(r.members)}
		c.Notices += r.kept
		c.Members += len(r.members)
	}
	return c
}

// Present is how many members the board announces, in all rooms: those who have gone and were
// not taken out (ghosts) are among them.
func (b *Board) Present() (n int) {
	for _, r := range b.rooms {
		n += r.count()
	}
	return n
}

// AppendHistory appends the notices that the board remembers of a room, the
// oldest first, as a JSON array.
func (b *Board) AppendHistory(dst []byte, name string) []byte {
	dst = append(dst, '[')
	if r := b.byName[name]; r != nil {
		for i, n := range r.past {
			if i > 0 {
				dst = append(dst, ',')
			}
			dst = append(dst, b.noticeJSON("past", r, n)...)
		}
	}
	return append(dst, "]\n"...)
}
