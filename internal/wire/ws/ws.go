// Package ws is the WebSocket protocol (RFC 6455) as functions over bytes: no
// sockets, no clock, no goroutines.
//
// A Reader turns received bytes into events; Append functions turn messages
// into bytes to send. The opening handshake is in handshake.go.
package ws

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"unicode/utf8"

	"tidepull/internal/wire"
)

// The opcodes of RFC 6455 5.2.
const (
	OpContinuation = 0x0
	OpText         = 0x1
	OpBinary       = 0x2
	OpClose        = 0x8
	OpPing         = 0x9
	OpPong         = 0xA
)

// Close codes of RFC 6455 7.4.1 that this package uses.
const (
	CloseNormal         = 1000
	CloseGoingAway      = 1001
	CloseServiceRestart = 1012 // of the registry of codes (RFC 6455 11.7), as the next
	CloseTryAgainLater  = 1013
	CloseProtocolError  = 1002
	CloseNoStatus       = 1005 // never on the wire: a close frame without a code
	CloseBadPayload     = 1007
	ClosePolicy         = 1008
	CloseTooBig         = 1009
)

// maxControl is the longest payload of a control frame in bytes (RFC 6455 5.5).
const maxControl = 125

// Reserved reports whether an opcode means nothing yet (RFC 6455 5.2).
func Reserved(op byte) bool { return op > OpBinary && op < OpClose || op > OpPong }

// An Event is one whole message or one control frame. Op 0 stands for "more
// bytes are needed".
type Event struct {
	Op      byte   // OpText, OpBinary, OpClose, OpPing or OpPong
	Payload []byte // valid until the next call of Next; borrowed from its input if the message came in one frame
	Code    uint16 // of a close frame; CloseNoStatus if it has none
}

// A Reader reads the frames of one direction of a connection. The zero value
// reads a server's frames (unmasked) and accepts messages of up to
// DefaultLimit bytes. After an error the Reader must not be used again.
type Reader struct {
	parts    []byte // the fragments of a message so far
	packed   bool   // the message under way is compressed
	op       byte   // opcode of the fragmented message under way, 0 for none
	FromPeer Role   // who writes the frames
	Limit    int    // most bytes of one message, 0 for DefaultLimit
	Unpacks  *Unpacking
}

// Unpacking is what a Reader needs to take compressed messages; without it none are taken.
type Unpacking struct {
	Flater *Flater // of all
	Bits   int     // of the window
	Past   *Past   // nil if each message stands for itself
}

// Held is how many bytes of a message in fragments the Reader holds.
func (r *Reader) Held() int { return len(r.parts) }

// Role says which side's frames a Reader reads.
type Role byte

// Servers send unmasked frames, clients masked ones (RFC 6455 5.1).
const (
	Server Role = iota
	Client
)

// DefaultLimit is the largest message a Reader takes unless its limit is set.
const DefaultLimit = 16 << 20

type header struct {
	fin    bool
	op     byte
	length int
	packed bool
	size   int // of the header itself
	mask   [4]byte
}

// Next consumes the next message or control frame from the front of b and
// tells how many bytes it took. If b holds no whole frame, n is 0 and the
// event's Op is 0: call again with the same bytes and more behind them. A
// non-final fragment is consumed with Op 0 and n > 0. Masked payloads are
// unmasked in place.
func (r *Reader) Next(b []byte) (ev Event, n int, err error) {
	h, err := r.parseHeader(b)
	if err != nil || h.size == 0 || len(b)-h.size < h.length {
		return Event{}, 0, err
	}
	n = h.size + h.length
	payload := b[h.size:n:n]
	if r.FromPeer == Client {
		mask(payload, h.mask)
	}
	if h.op >= OpClose {
		ev, err = control(h.op, payload)
		return ev, n, err
	}
	ev, err = r.data(h, payload)
	return ev, n, err
}

// parseHeader reads a frame header; size 0 means that b does not hold it all.
func (r *Reader) parseHeader(b []byte) (h header, err error) {
	if len(b) < 2 {
		return h, nil
	}
	h.fin, h.op = b[0]&0x80 != 0, b[0]&0x0f
	masked := b[1]&0x80 != 0
	// Of a control frame the seven bits say all; for the others the length does not matter here.
	reserved := b[0] >> 4 & 7
	if r.Unpacks != nil && h.op < OpClose && h.op != OpContinuation { // RFC 7692 6.1
		h.packed = reserved&compressed != 0
		reserved &^= compressed
	}
	if err := broken(frameHead{h.fin, reserved, h.op, masked}, uint64(b[1]&0x7f), r.FromPeer, r.op != 0); err != nil {
		return h, err
	}
	size, length := 2, uint64(b[1]&0x7f)
	switch length {
	case 126:
		if size = 4; len(b) < size {
			return h, nil
		}
		if length = uint64(binary.BigEndian.Uint16(b[2:])); length < 126 {
			return h, violation("the length is not in its shortest form", "5.2", CloseProtocolError)
		}
	case 127:
		if size = 10; len(b) < size {
			return h, nil
		}
		if length = binary.BigEndian.Uint64(b[2:]); length < 1<<16 || length>>63 != 0 {
			return h, violation("the length is not in its shortest form", "5.2", CloseProtocolError)
		}
	}
	if limit := cmp.Or(r.Limit, DefaultLimit); length+uint64(len(r.parts)) > uint64(limit) {
		return h, violation("the message is larger than the limit", "7.4.1", CloseTooBig)
	}
	if masked {
		if len(b) < size+4 {
			return h, nil
		}
		copy(h.mask[:], b[size:])
		size += 4
	}
	h.size, h.length = size, int(length)
	return h, nil
}

// A frameHead is what a frame's first two bytes say, but for its length.
type frameHead struct {
	fin    bool
	rsv    byte // the reserved bits that no extension was agreed on for
	op     byte
	masked bool
}

// broken gives the rule that a frame breaks which comes from one side, inside a
// message or not; nil if it breaks none.
func broken(h frameHead, length uint64, from Role, inMessage bool) *wire.ProtocolError {
	control := h.op >= OpClose
	switch {
	case h.rsv != 0:
		return violation("a reserved bit is set and no extension was agreed on", "5.2", CloseProtocolError)
	case h.masked != (from == Client):
		return violation("a server's frame is masked, or a client's is not", "5.1", CloseProtocolError)
	case Reserved(h.op):
		return violation(fmt.Sprintf("the opcode %d is reserved", h.op), "5.2", CloseProtocolError)
	case control && (!h.fin || length > maxControl):
		return violation("a control frame is fragmented or longer than 125 bytes", "5.5", CloseProtocolError)
	case h.op == OpContinuation && !inMessage:
		return violation("a continuation frame without a message to continue", "5.4", CloseProtocolError)
	case !control && h.op != OpContinuation && inMessage:
		return violation("a new message inside a fragmented one", "5.4", CloseProtocolError)
	}
	return nil
}

func (r *Reader) data(h header, payload []byte) (Event, error) {
	op, packed := h.op, h.packed
	if op == OpContinuation {
		op, packed = r.op, r.packed
	}
	if !h.fin || r.op != 0 {
		r.parts = append(r.parts, payload...)
		payload = r.parts
		r.op, r.packed = op, packed
		if !h.fin {
			return Event{}, nil
		}
		r.op, r.parts, r.packed = 0, nil, false
	}
	if packed {
		out, err := r.Unpacks.Flater.Unpack(payload, r.Unpacks.Past, r.Unpacks.Bits, cmp.Or(r.Limit, DefaultLimit))
		switch {
		case err == errTooBig:
			return Event{}, violation("the message unfolds to more than the limit", "7.4.1", CloseTooBig)
		case err != nil:
			return Event{}, &wire.ProtocolError{Protocol: "websocket", Rule: "a compressed message cannot be unpacked",
				Section: "RFC 7692 7.2.2", Code: CloseBadPayload}
		}
		payload = out
	}
	if op == OpText && !utf8.Valid(payload) {
		return Event{}, violation("a text message is no valid UTF-8", "8.1", CloseBadPayload)
	}
	return Event{Op: op, Payload: payload}, nil
}

func control(op byte, payload []byte) (Event, error) {
	ev := Event{Op: op, Payload: payload}
	if op != OpClose {
		return ev, nil
	}
	ev.Code = CloseNoStatus
	if len(payload) == 0 {
		return ev, nil
	}
	if len(payload) == 1 {
		return ev, violation("a close frame has half a code", "5.5.1", CloseProtocolError)
	}
	ev.Code, ev.Payload = binary.BigEndian.Uint16(payload), payload[2:]
	if !validCode(ev.Code) {
		return ev, violation("the close code must not be sent", "7.4", CloseProtocolError)
	}
	if !utf8.Valid(ev.Payload) {
		return ev, violation("a close reason is no valid UTF-8", "5.5.1", CloseBadPayload)
	}
	return ev, nil
}

// validCode reports whether a close code may stand in a frame (RFC 6455 7.4 and
// the registry behind it).
func validCode(c uint16) bool {
	switch {
	case c >= 1000 && c <= 1003, c >= 1007 && c <= 1014, c >= 3000 && c <= 4999:
		return true
	}
	return false
}

func violation(rule, section string, code uint16) *wire.ProtocolError {
	return &wire.ProtocolError{Protocol: "websocket", Rule: rule, Section: "RFC 6455 " + section, Code: code}
}

// AppendFrame appends an unmasked, final frame, as a server sends it.
func AppendFrame(dst []byte, op byte, payload []byte) []byte {
	return append(appendHeader(dst, op, len(payload), 0), payload...)
}

// AppendMasked appends a masked, final frame, as a client sends it.
func AppendMasked(dst []byte, op byte, payload []byte, key [4]byte) []byte {
	dst = appendHeader(dst, op, len(payload), 0x80)
	dst = append(dst, key[:]...)
	at := len(dst)
	dst = append(dst, payload...)
	mask(dst[at:], key)
	return dst
}

func appendHeader(dst []byte, op byte, length int, maskBit byte) []byte {
	dst = append(dst, 0x80|op)
	switch {
	case length <= 125:
		return append(dst, maskBit|byte(length))
	case length < 1<<16:
		return binary.BigEndian.AppendUint16(append(dst, maskBit|126), uint16(length))
	}
	return binary.BigEndian.AppendUint64(append(dst, maskBit|127), uint64(length))
}

// mask masks or unmasks a payload in place, eight bytes at a time (RFC 6455 5.3).
func mask(b []byte, key [4]byte) {
	word := uint64(binary.LittleEndian.Uint32(key[:]))
	for word |= word << 32; len(b) >= 8; b = b[8:] {
		binary.LittleEndian.PutUint64(b, binary.LittleEndian.Uint64(b)^word)
	}
	for i := range b {
		b[i] ^= key[i%4]
	}
}

// AppendClosePayload appends the payload of a close frame.
func AppendClosePayload(dst []byte, code uint16, reason string) []byte {
	return append(binary.BigEndian.AppendUint16(dst, code), reason...)
}
