package standin

import (
	"bytes"
	"encoding/json"
	"fmt"
	"time"
	"unicode/utf8"

	"tidepull/internal/base/mono"
	"tidepull/internal/wire"
)

// Who sends a datagram is a client like any other: a datagram is a message, or holds some.
// A client that is here by another way can have datagrams beside it. It asks for them there
//
//	{"kind":"datagrams"}               is answered {"kind":"datagrams","token":T}
//
// and says in a datagram who sends them:
//
//	{"kind":"attach","token":T}        is answered {"kind":"attached"} there
//
//	{"kind":"bye"}                     ends a client that has datagrams alone
//
// From then on what it says in datagrams is its own, and goes on in datagrams to those who
// have some.

// datagramsWithin is how long a client may be silent that sends datagrams alone: whether it
// is still there nobody says.
const datagramsWithin = time.Minute

// A pairing is what a client says of its datagrams.
type pairing struct {
	Kind  string `json:"kind"`
	Token string `json:"token"`
}

// maxPairing is more than what is said of datagrams is long, in bytes.
const maxPairing = 200

func pairingIn(message []byte) (p pairing) {
	if len(message) < maxPairing && (bytes.Contains(message, []byte(`"datagrams"`)) ||
		bytes.Contains(message, []byte(`"attach"`)) || bytes.Contains(message, []byte(`"bye"`))) {
		_ = json.Unmarshal(message, &p) // what is none is the board's to refuse
	}
	return p
}

// message takes what a client says that is not a visit.
func (l *loop) message(id int32, payload []byte, at mono.Time) {
	if l.drv.IsDatagrams(id) {
		l.datagram(id, payload, at)
		return
	}
	if p := pairingIn(payload); p.Kind == "datagrams" && p.Token == "" {
		l.tokens++
		token := fmt.Sprintf("berth-%d-%d", id, l.tokens)
		l.awaited[token] = id
		l.say(id, fmt.Appendf(nil, `{"kind":"datagrams","token":%q}`, token))
		return
	}
	l.board.Message(member(id), payload, at)
	if s := l.board.Switches(); s.Cut > 0 {
		if l.said++; s.Meets(s.Cut, "cut", fmt.Sprint(l.said)) {
			l.cut = append(l.cut, id)
		}
	}
}

// say tells a client something that is not the board's.
func (l *loop) say(id int32, message []byte) {
	l.Send(member(id), l.Frame(nil, message, false))
}

// datagram takes a message that came in a datagram.
func (l *loop) datagram(id int32, payload []byte, at mono.Time) {
	c := &l.conns[id]
	p := pairingIn(payload)
	main, waits := l.awaited[p.Token]
	switch {
	case p.Kind == "attach" && c.twin != 0: // again, as the answer was lost
		l.drv.Write(id, l.inDatagram([]byte(`{"kind":"attached"}`)))
	case p.Kind == "attach" && waits && l.conns[main].state == live:
		delete(l.awaited, p.Token)
		l.board.Part(member(id))
		c.twin, l.conns[main].twin = main+1, id+1
		l.drv.Write(id, l.inDatagram([]byte(`{"kind":"attached"}`)))
	case p.Kind == "bye":
		l.drop(id)
	case c.twin != 0:
		l.urgent = true
		l.board.Message(member(c.twin-1), payload, at)
		l.urgent = false
	default:
		l.board.Message(member(id), payload, at)
	}
}

// inDatagram is a message as it stands in a datagram.
func (l *loop) inDatagram(message []byte) []byte {
	if l.cfg.Framing.Lines() {
		return message
	}
	return l.cfg.Framing.Append(nil, message)
}

// datagrams takes the messages of a datagram.
func (l *loop) datagrams(id int32, b []byte, at mono.Time) {
	f := &l.cfg.Framing
	for len(b) > 0 && l.conns[id].state == live {
		message, n, err := f.Next(b, 0)
		if n == 0 {
			rest, whole := f.Rest(b)
			if err != nil || !whole {
				return // half a message is none
			}
			message, n = rest, len(b)
		}
		b = b[n:]
		if len(message) > 0 && utf8.Valid(message) {
			l.message(id, message, at)
		}
	}
}

// untwin ends the other half of a client that has datagrams beside its connection.
func (l *loop) untwin(id int32) {
	c := &l.conns[id]
	if c.twin == 0 {
		return
	}
	other := c.twin - 1
	c.twin, l.conns[other].twin = 0, 0
	if l.drv.IsDatagrams(other) {
		l.conns[other] = conn{}
		l.drv.Hangup(other)
	}
}

// maxDatagram is what a message to a client may have to go in a datagram.
const maxDatagram = wire.MaxDatagram - 8
