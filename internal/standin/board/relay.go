package board

import (
	"bytes"
	"slices"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/mark"
)

// relayed is a message on its way to its audience.
type relayed struct {
	room     *room  // nil: it is a whisper
	sender   int32  // its connection, or -1
	to       string // the recipient of a whisper
	from     string
	said     uint64 // how many the sender had said, this one included
	seq      int64  // of a notice: its number in its room
	received mono.Time
	text     []byte // borrowed
	mark     mark.Mark
	marked   bool
	binary   bool
	leaveOut bool // the sender is not of the audience
	unbooked bool // the board's own: not in the truth's account of messages
}

// A heldRelay is a message that is held back from everybody.
type heldRelay struct {
	relayed
	payload []byte
	release mono.Time
	behind  bool // until its sender's next one
	stalled bool // until its room has no slow reader any more
}

// A heldGive is one delivery that is held back until after the next one.
type heldGive struct {
	m       relayed
	frame   []byte
	to      int32
	release mono.Time
}

// overtaken is how long something waits to be overtaken before it goes anyway.
const overtaken = 300 * time.Millisecond

// relay sends a message to its audience, at once or after the hold.
func (b *Board) relay(payload []byte, m relayed) {
	var end int
	m.mark, end = mark.Find(m.text)
	m.marked, m.text = end > 0, nil
	s := &b.cfg.Switches
	switch {
	case s.Hold > 0:
		b.hold(heldRelay{relayed: m, payload: slices.Clone(payload), release: m.received.Add(s.Hold)})
	case b.isSlow(payload, m):
	case m.sender >= 0 && s.happens(reorderIt, s.Reorder, b, m, m.sender) && !b.behind(m.sender):
		b.hold(heldRelay{relayed: m, payload: slices.Clone(payload), release: b.out.Now().Add(overtaken), behind: true})
	default:
		b.deliver(payload, m)
		if i := slices.IndexFunc(b.held, func(h heldRelay) bool {
			return h.behind && h.sender == m.sender &&
				h.room == m.room
		}); i >= 0 {
			b.Truth.Totals.Reordered++
			b.release(i)
		}
	}
}

func (b *Board) behind(sender int32) bool {
	return slices.ContainsFunc(b.held, func(h heldRelay) bool { return h.behind && h.sender == sender })
}

func (b *Board) hold(h heldRelay) {
	i := len(b.held)
	for i > 0 && b.held[i-1].release > h.release {
		i--
	}
	b.held = slices.Insert(b.held, i, h)
}

// isSlow holds a message back that something slow is in the way of; false if nothing is.
func (b *Board) isSlow(payload []byte, m relayed) bool {
	until, stalled := b.delay(m, len(payload))
	if until != 0 {
		b.hold(heldRelay{relayed: m, payload: slices.Clone(payload), release: until, stalled: stalled})
	}
	return until != 0
}

func (b *Board) release(i int) {
	h := b.held[i]
	b.held = slices.Delete(b.held, i, i+1)
	if before := b.heldBefore(h.relayed); h.stalled && before != nil {
		h.release = before.release
		b.hold(h)
		return
	}
	if h.stalled && b.stalled(h.room) { // those behind it are held, too: they keep their order
		h.release = b.out.Now().Add(lookAgain)
		b.hold(h)
		return
	}
	b.deliver(h.payload, h.relayed)
}

func (b *Board) deliver(payload []byte, m relayed) {
	b.frame = b.out.Frame(b.frame[:0], payload, m.binary)
	s := &b.cfg.Switches
	audience := b.audience(m)
	if !m.unbooked {
		b.Truth.open(m, len(audience))
	}
	burst := m.room != nil && !m.unbooked && b.bursts(m.room)
	for _, to := range audience {
		if burst {
			b.Truth.book(b, m, to, DidLose)
			continue
		}
		b.give(payload, m, to)
	}
	switch {
	case m.unbooked:
	case m.room == nil && s.happens(overhearIt, s.Overhear, b, m, -1), m.room != nil &&
		s.happens(leakIt, s.Leak, b, m, -1):
		if other := b.outsider(m, m.sender); other >= 0 {
			b.out.Send(other, b.frame)
			b.Truth.book(b, m, other, DidMisdirect)
		}
	}
}

// audience lists who should get a message. Its result is good until the next
// call.
func (b *Board) audience(m relayed) []int32 {
	s := &b.cfg.Switches
	if m.room == nil {
		return b.names[m.to]
	}
	wrong := m.sender >= 0 && !m.unbooked && s.happens(echoWrongly, s.WrongEcho, b, m, m.sender)
	if wrong {
		b.Truth.Totals.WrongEcho++
	}
	if m.leaveOut == wrong {
		return m.room.members
	}
	return slices.DeleteFunc(slices.Clone(m.room.members), func(id int32) bool { return id == m.sender })
}

// give sends a message to one of its audience, as the switches have it.
func (b *Board) give(payload []byte, m relayed, to int32) {
	s := &b.cfg.Switches
	switch {
	case s.happens(loseIt, s.Lose, b, m, to), b.isBeyond(m, to):
		b.Truth.book(b, m, to, DidLose)
	case s.happens(misdirectIt, s.Misdirect, b, m, to):
		if other := b.outsider(m, to); other >= 0 {
			b.Truth.book(b, m, to, DidLose)
			b.out.Send(other, b.frame)
			b.Truth.book(b, m, other, DidMisdirect)
			return
		}
		b.write(payload, m, to)
	case b.clashes(m, to):
		b.Truth.book(b, m, to, DidLose)
		first := b.names[b.members[to].name][0]
		b.out.Send(first, b.frame)
		b.Truth.book(b, m, first, DidMisdirect)
	case s.happens(disorderIt, s.Disorder, b, m, to) && m.room != nil:
		b.late = append(b.late, heldGive{m, slices.Clone(b.frame), to, b.out.Now().Add(overtaken)})
	default:
		b.write(payload, m, to)
		if s.happens(doubleIt, s.Double, b, m, to) {
			b.out.Send(to, b.frame)
			b.Truth.book(b, m, to, DidDouble)
		}
		if i := slices.IndexFunc(b.late, func(h heldGive) bool { return h.to == to && h.m.room == m.room }); i >= 0 {
			b.Truth.Totals.Disordered++
			b.giveLate(i)
		}
	}
}

// clashes reports whether a delivery goes astray because another connection had
// the recipient's name first.
func (b *Board) clashes(m relayed, to int32) bool {
	s := &b.cfg.Switches
	bearers := b.names[b.members[to].name]
	return len(bearers) > 1 && bearers[0] != to && s.happens(clashIt, s.Clash, b, m, to)
}

func (b *Board) giveLate(i int) {
	h := b.late[i]
	b.late = slices.Delete(b.late, i, i+1)
	if int(h.to) < len(b.members) && b.members[h.to].here {
		b.out.Send(h.to, h.frame)
		b.Truth.book(b, h.m, h.to, DidWrite)
	}
}

// write sends a message to one of its audience, whole or altered.
func (b *Board) write(payload []byte, m relayed, to int32) {
	s := &b.cfg.Switches
	if !m.unbooked && s.happens(alterIt, s.Alter, b, m, to) {
		if altered, ok := alter(payload, m.binary); ok {
			b.Truth.Totals.Altered++
			b.out.Send(to, b.out.Frame(nil, altered, m.binary))
			b.Truth.book(b, m, to, DidWrite)
			return
		}
	}
	b.out.Send(to, b.frame)
	b.Truth.book(b, m, to, DidWrite)
}

// alter does to a message what careless servers do: a binary one loses a bit,
// markup gets escaped, a long text is cut, a short one gets a space.
func alter(payload []byte, binary bool) ([]byte, bool) {
	out := slices.Clone(payload)
	if binary {
		out[len(out)-1] ^= 1
		return out, len(out) > mark.Len
	}
	body, isText := bytes.CutSuffix(out, []byte(`"}`))
	at := bytes.LastIndex(body, []byte(`"text":"`))
	if !isText || at < 0 {
		return nil, false
	}
	text := body[at+8:]
	tail := text[max(0, len(text)-64):]
	switch _, marked := mark.Find(tail); {
	case bytes.IndexByte(text, '<') >= 0:
		out = append(body[:at+8:at+8], bytes.ReplaceAll(text, []byte("<"), []byte("&lt;"))...)
	case len(text) > 2000 && marked == 0 && bytes.IndexFunc(tail,
		func(r rune) bool { return r == '\\' || r > 126 }) < 0:
		out = body[:len(body)-16]
	default:
		out = append(body, ' ')
	}
	return append(out, `"}`...), true
}

// outsider picks a member of another room, or -1 if there is none: the
// first of the room after the message's own that has one who is not in it.
func (b *Board) outsider(m relayed, instead int32) int32 {
	start := 0
	for i, r := range b.rooms {
		if r == m.room {
			start = i + 1
		}
	}
	for i := range b.rooms {
		r := b.rooms[(start+i)%len(b.rooms)]
		for k := range r.members {
			other := r.members[(int(max(0, instead))/2+k)%len(r.members)] // ids come by twos, see standin.member
			if other != instead && other != m.sender && !slices.Contains(b.names[m.to], other) &&
				(m.room == nil || !b.members[other].in(m.room)) {
				return other
			}
		}
	}
	return -1
}
