package transport

import (
	"errors"
	"strings"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/wire"
	"tidepull/internal/wire/http1"
	"tidepull/internal/wire/ws"
)

// phase is how far a transport has come.
type phase uint8

const (
	idle phase = iota
	connecting
	upgrading // connected, until the server has agreed on the protocol
	open
	resuming // an event stream that the server ended: it is asked for again
	closing  // the close frame is sent
	ending   // and answered; the server ends the connection (RFC 6455 7.1.1)
)

// lost is what it means that the line of a transport in this phase is gone.
func (p phase) lost(err error) Event {
	switch p {
	case connecting, upgrading:
		return Event{Kind: Refused, Err: err}
	case closing, ending:
		return Event{Kind: Ended}
	}
	return Event{Kind: Broken, Err: err}
}

// closeWithin is how long the server may take to answer a close frame, and
// endWithin to end the connection then.
const (
	closeWithin = 5 * time.Second
	endWithin   = time.Second
)

// A WebSocket is a client's WebSocket connection (RFC 6455). Its zero value is
// idle.
type WebSocket struct {
	Deflate  *ws.Deflate // what is offered; of all clients, nil: no compression
	packs    *packing    // what is agreed on; nil: nothing is packed
	partial  partial
	reader   ws.Reader
	deadline mono.Time // only while it waits for something
	phase    phase
	opening  *handshake // until it is open
}

// A packing is what a WebSocket needs that packs its messages.
type packing struct {
	agreed    ws.Deflate
	unpacking ws.Unpacking
	said      *ws.Past // nil if each message stands for itself
}

// A handshake is what is needed until the server has agreed.
type handshake struct {
	Opening
	key      string
	offer    ws.Offer
	exchange http1.Exchange
}

// Open implements Machine.
func (m *WebSocket) Open(io *IO, o *Opening, deadline mono.Time) {
	m.Drop(io)
	var nonce [16]byte
	for i := range 2 {
		r := io.Random.Uint64()
		for k := range 8 {
			nonce[8*i+k] = byte(r >> (8 * k))
		}
	}
	h := &handshake{Opening: *o, key: ws.KeyFor(nonce), exchange: http1.Exchange{Method: "GET", Upgrade: true}}
	for _, f := range o.Fields {
		if strings.EqualFold(f.Name, "Sec-WebSocket-Protocol") {
			for _, p := range strings.Split(f.Value, ",") {
				h.offer.Protocols = append(h.offer.Protocols, strings.TrimSpace(p))
			}
		}
	}
	h.offer.Deflate = m.Deflate
	m.opening, m.phase, m.deadline = h, connecting, deadline
	io.Lines[Main].Dial = &h.Endpoint
}

// Connected implements Machine.
func (m *WebSocket) Connected(io *IO, _ int) {
	if m.phase != connecting {
		return
	}
	m.phase = upgrading
	io.Asked++
	h, out := m.opening, &io.Lines[Main].Out
	if h.Jar != nil {
		if cookies := h.Jar.Field(h.Host, h.Path, h.Endpoint.TLS != "", io.Wall()); cookies != "" {
			h.Fields = append(h.Fields, http1.Field{Name: "Cookie", Value: cookies})
		}
	}
	if m.Deflate != nil {
		h.Fields = append(h.Fields[:len(h.Fields):len(h.Fields)], http1.Field{Name: "Sec-WebSocket-Extensions",
			Value: m.Deflate.Offer()})
	}
	if h.Mangle != nil {
		*out = append(*out, h.Mangle(ws.AppendRequest(nil, h.Host, h.Path, h.key, h.Fields...))...)
	} else {
		*out = ws.AppendRequest(*out, h.Host, h.Path, h.key, h.Fields...)
	}
	if h.Early != nil {
		m.frame(io, ws.OpText, h.Early)
	}
}

// Take implements Machine.
func (m *WebSocket) Take(io *IO, _ int, b []byte) {
	if m.phase >= upgrading {
		m.partial.take(io, Main, b)
	}
}

// Next implements Machine.
func (m *WebSocket) Next(io *IO) Event {
	if io.waits(Main) {
		return io.waiting(Main)
	}
	if m.phase == upgrading {
		if ev := m.upgrade(io); ev.Kind != Nothing {
			return ev
		}
	}
	for m.phase >= open && len(io.taking[Main]) > 0 {
		before := m.reader.Held()
		frame, n, err := m.reader.Next(io.taking[Main])
		io.Held += m.reader.Held() - before
		if err != nil {
			return m.violated(io, err)
		}
		io.consumed(Main, n)
		if n == 0 {
			break
		}
		if ev := m.event(io, frame); ev.Kind != Nothing {
			return ev
		}
	}
	if !m.partial.keep(io, Main) && (len(m.partial.bytes) > 0 || m.reader.Held() > 0) {
		return m.tooMuch(io)
	}
	return Event{}
}

// tooMuch ends a connection that holds a part of what all together hold too much
// of.
func (m *WebSocket) tooMuch(io *IO) Event {
	if m.phase == upgrading {
		return m.refused(io, tooMuchHeld)
	}
	return m.violated(io, tooMuchHeld)
}

// upgrade reads the answer to the handshake.
func (m *WebSocket) upgrade(io *IO) Event {
	h := m.opening
	n, err := h.exchange.Take(io.taking[Main])
	io.consumed(Main, n)
	if err == nil && !h.exchange.Headed() {
		return Event{}
	}
	if err == nil && h.Body && h.exchange.Head.Status != 101 && !h.exchange.Done() &&
		len(h.exchange.Content) < maxBody {
		return Event{}
	}
	return m.answered(io, err)
}

// maxBody is how much of what comes with a refusal is kept, in bytes.
const maxBody = 4 << 10

// answered handles the answer to the handshake.
func (m *WebSocket) answered(io *IO, err error) Event {
	h := m.opening
	if err == nil {
		err = ws.CheckResponse(&h.exchange.Head, h.key, h.offer)
	}
	if h.Jar != nil && err == nil {
		h.Jar.Keep(&h.exchange.Head, h.Host, h.Path, io.Wall())
	}
	if refusal := (*ws.Refusal)(nil); errors.As(err, &refusal) {
		refusal.After, _ = retryAfter(&h.exchange.Head, io.Wall())
		refusal.Body = string(h.exchange.Content[:min(len(h.exchange.Content), maxBody)])
	}
	if err != nil {
		return m.refused(io, err)
	}
	if agreed, _ := m.Deflate.Agreed(h.exchange.Head.Get("Sec-WebSocket-Extensions")); agreed != nil {
		m.packs = &packing{agreed: *agreed, said: ws.PastFor(agreed.ClientFresh), unpacking: ws.Unpacking{
			Flater: &io.Flater, Bits: agreed.ServerBits, Past: ws.PastFor(agreed.ServerFresh)}}
		m.reader.Unpacks = &m.packs.unpacking
	}
	m.phase, m.deadline, m.opening = open, mono.Never, nil
	return Event{Kind: Opened}
}

func (m *WebSocket) refused(io *IO, err error) Event {
	m.Drop(io)
	io.Lines[Main].Hangup = true
	return Event{Kind: Refused, Err: err}
}

// violated answers what breaks the protocol with the close code that stands for
// it, and hangs up (RFC 6455 7.1.7).
func (m *WebSocket) violated(io *IO, err error) Event {
	var rule *wire.ProtocolError
	if errors.As(err, &rule) && rule.Code != 0 {
		m.frame(io, ws.OpClose, ws.AppendClosePayload(nil, rule.Code, ""))
	}
	m.Drop(io)
	io.Lines[Main].Hangup = true
	return Event{Kind: Violated, Err: err}
}

func (m *WebSocket) event(io *IO, f ws.Event) Event {
	switch f.Op {
	case ws.OpText, ws.OpBinary:
		return Event{Kind: Message, Payload: f.Payload, Binary: f.Op == ws.OpBinary, Shared: len(io.taking[Main]) > 0}
	case ws.OpPing:
		return Event{Kind: Beat, Payload: f.Payload}
	case ws.OpPong:
		return Event{Kind: Pong, Payload: f.Payload}
	case ws.OpClose:
		return m.closed(io, f)
	}
	return Event{}
}

// closed handles a close frame: the answer to ours, or the server's own.
func (m *WebSocket) closed(io *IO, f ws.Event) Event {
	switch m.phase {
	case closing:
		m.phase, m.deadline = ending, io.Now.Add(endWithin)
		return Event{Kind: Answered}
	case ending: // further close frames change nothing
		return Event{}
	}
	code := f.Code
	if code == ws.CloseNoStatus {
		code = ws.CloseNormal
	}
	m.frame(io, ws.OpClose, ws.AppendClosePayload(nil, code, ""))
	err := &ServerClosed{f.Code, string(f.Payload)}
	m.Drop(io)
	io.Lines[Main].Hangup = true
	return Event{Kind: Broken, Err: err}
}

// Lost implements Machine.
func (m *WebSocket) Lost(io *IO, _ int, err error) {
	if m.phase == upgrading && m.opening.exchange.Headed() { // it was refused, and the rest is the body
		io.event[Main] = m.answered(io, nil)
		return
	}
	if m.phase != idle {
		ev := m.phase.lost(err)
		m.Drop(io)
		io.event[Main] = ev
	}
}

// Expire implements Machine.
func (m *WebSocket) Expire(io *IO) {
	ev := Event{Kind: Ended}
	switch m.phase {
	case connecting, upgrading:
		if m.opening.exchange.Headed() {
			io.event[Main] = m.answered(io, nil)
			return
		}
		ev = Event{Kind: Refused, Err: &NotInTime{"agreement"}}
	case closing:
		ev.Err = errors.New("no answer to the close frame")
	case ending:
	default:
		return
	}
	m.Drop(io)
	io.Lines[Main].Hangup = true
	io.event[Main] = ev
}

// frame sends one frame, masked with random bytes (RFC 6455 5.3).
func (m *WebSocket) frame(io *IO, op byte, payload []byte) {
	r := io.Random.Uint64()
	out := &io.Lines[Main].Out
	*out = ws.AppendMasked(*out, op, payload, [4]byte{byte(r), byte(r >> 8), byte(r >> 16), byte(r >> 24)})
}

// Say implements Machine.
func (m *WebSocket) Say(io *IO, payload []byte, binary bool) {
	if m.phase != open {
		return
	}
	op := byte(ws.OpText)
	if binary {
		op = ws.OpBinary
	}
	if m.packs == nil {
		m.frame(io, op, payload)
		return
	}
	io.packed = io.Flater.Pack(io.packed[:0], payload, m.packs.said, m.packs.agreed.ClientBits)
	at := len(io.Lines[Main].Out)
	m.frame(io, op, io.packed)
	io.Lines[Main].Out[at] |= ws.CompressedBit
}

// Reply implements Machine: with a pong (RFC 6455 5.5.3).
func (m *WebSocket) Reply(io *IO, payload []byte) {
	if m.phase == open || m.phase == closing {
		m.frame(io, ws.OpPong, payload)
	}
}

// Ping implements Pinger (RFC 6455 5.5.2).
func (m *WebSocket) Ping(io *IO, payload []byte) {
	if m.phase == open {
		m.frame(io, ws.OpPing, payload)
	}
}

// Close implements Machine: it starts the closing handshake (RFC 6455 7.1.2).
func (m *WebSocket) Close(io *IO, code uint16, reason string) {
	if m.phase == open {
		m.frame(io, ws.OpClose, ws.AppendClosePayload(nil, code, reason))
		m.phase, m.deadline = closing, io.Now.Add(closeWithin)
	}
}

// Malform implements Machine; the server must close the connection (RFC 6455 5.1,
// 5.2, 5.4, 5.5, 7.1.7, 8.1).
func (m *WebSocket) Malform(io *IO, wrong string) {
	if m.phase != open {
		return
	}
	var key [4]byte
	out := io.Lines[Main].Out
	switch wrong {
	case "unmasked":
		out = ws.AppendFrame(out, ws.OpText, []byte("unmasked"))
	case "reserved bits":
		at := len(out)
		out = ws.AppendMasked(out, ws.OpText, []byte("reserved"), key)
		out[at] |= 0x70
	case "reserved opcode":
		out = ws.AppendMasked(out, 0xb, []byte("opcode"), key)
	case "bad text":
		out = ws.AppendMasked(out, ws.OpText, []byte("caf\xe9 \xff\xfe"), key)
	case "stray fragment":
		out = ws.AppendMasked(out, ws.OpContinuation, []byte("of nothing"), key)
	case "long control":
		out = ws.AppendMasked(out, ws.OpPing, make([]byte, 126), key)
	case "wrong length": // 5 in the form for 64 bits, whose top bit is set too
		out = append(out, 0x80|ws.OpText, 0x80|127, 0x80, 0, 0, 0, 0, 0, 0, 5, 0, 0, 0, 0, 'h', 'e', 'l', 'l', 'o')
	default:
		if b := ws.AbuseNamed(wrong); b != nil {
			out = append(out, b.Bytes()...)
		}
	}
	io.Lines[Main].Out = out
}

// Drop implements Machine.
func (m *WebSocket) Drop(io *IO) {
	io.Held -= m.reader.Held()
	m.partial.drop(io, Main)
	m.reader, m.opening, m.phase, m.deadline, m.packs = ws.Reader{}, nil, idle, mono.Never, nil
}

// Deadline implements Machine.
func (m *WebSocket) Deadline() mono.Time {
	if m.phase == idle {
		return mono.Never
	}
	return m.deadline
}

// IsOpen implements Machine.
func (m *WebSocket) IsOpen() bool { return m.phase == open }
