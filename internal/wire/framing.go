package wire

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"slices"
)

// A Framing says where the messages in a stream of bytes end: some bytes end each, or each
// stands behind its length. Its zero value is lines.
type Framing struct {
	Ends   string // what ends each; "" stands for LF, before which a CR may stand
	Prefix Prefix // instead: the length in front
	Whole  bool   // instead: what has come is a message, as in a datagram
}

// MaxDatagram is how many bytes a datagram may carry (RFC 768, in a packet of IPv4).
const MaxDatagram = 65507

// A Prefix is how the length of a message is written in front of it.
type Prefix uint8

// The prefixes: bytes of the length, the high one first unless Low says otherwise.
const (
	NoPrefix Prefix = iota
	Prefix1
	Prefix2
	Prefix4
	Prefix2Low
	Prefix4Low
	PrefixVarint // groups of seven bits, the low ones first
)

// Prefixes are the names of the prefixes, but for none.
var Prefixes = []string{"1", "2", "4", "2le", "4le", "varint"}

// PrefixNamed gives the prefix of a name; NoPrefix for none of them.
func PrefixNamed(name string) Prefix { return Prefix(slices.Index(Prefixes, name) + 1) }

func (p Prefix) String() string {
	if p == NoPrefix || int(p) > len(Prefixes) {
		return "none"
	}
	return Prefixes[p-1]
}

// bytes is how long a length is; 0 if that varies.
func (p Prefix) bytes() int {
	return [...]int{Prefix1: 1, Prefix2: 2, Prefix4: 4, Prefix2Low: 2, Prefix4Low: 4, PrefixVarint: 0}[p]
}

// read gives the length that some bytes begin with, and how many bytes are its: 0 if they
// are not all there, less than 0 if it is none.
func (p Prefix) read(b []byte) (size uint64, head int) {
	if len(b) < p.bytes() {
		return 0, 0
	}
	switch p {
	case Prefix1:
		size = uint64(b[0])
	case Prefix2:
		size = uint64(binary.BigEndian.Uint16(b))
	case Prefix4:
		size = uint64(binary.BigEndian.Uint32(b))
	case Prefix2Low:
		size = uint64(binary.LittleEndian.Uint16(b))
	case Prefix4Low:
		size = uint64(binary.LittleEndian.Uint32(b))
	default:
		return binary.Uvarint(b)
	}
	return size, p.bytes()
}

func (p Prefix) append(dst []byte, size int) []byte {
	switch p {
	case Prefix1:
		return append(dst, byte(size))
	case Prefix2:
		return binary.BigEndian.AppendUint16(dst, uint16(size))
	case Prefix4:
		return binary.BigEndian.AppendUint32(dst, uint32(size))
	case Prefix2Low:
		return binary.LittleEndian.AppendUint16(dst, uint16(size))
	case Prefix4Low:
		return binary.LittleEndian.AppendUint32(dst, uint32(size))
	}
	return binary.AppendUvarint(dst, uint64(size))
}

// Lines reports whether messages are lines of text, which is UTF-8.
func (f *Framing) Lines() bool {
	return f.Prefix == NoPrefix && !f.Whole && (f.Ends == "" || f.Ends == "\n" || f.Ends == "\r\n")
}

func (f *Framing) ends() string {
	if f.Ends == "" {
		return "\n"
	}
	return f.Ends
}

// MaxMessage is the most bytes that a message over a stream may have.
const MaxMessage = 16 << 20

// Most is how many bytes a message may have that is sent.
func (f *Framing) Most() int {
	if f.Whole {
		return MaxDatagram
	}
	if n := f.Prefix.bytes(); n == 1 || n == 2 {
		return 1<<(8*n) - 1
	}
	return MaxMessage
}

// Next takes a message from the front of what has come; it is borrowed. In the first
// searched bytes no message ends. If n is 0 more has to come. The error is a
// *ProtocolError.
func (f *Framing) Next(b []byte, searched int) (message []byte, n int, err error) {
	if f.Whole {
		return b, len(b), nil
	}
	if f.Prefix != NoPrefix {
		size, head := f.Prefix.read(b)
		switch {
		case head < 0 || size > MaxMessage:
			return nil, 0, &ProtocolError{Protocol: "tcp",
				Rule: fmt.Sprintf("by its length (%v) a message has more than "+
					"16 MiB", f.Prefix), Section: "a length in front of each message"}
		case head == 0 || len(b) < head+int(size):
			return nil, 0, nil
		}
		return b[head : head+int(size)], head + int(size), nil
	}
	end := f.ends()
	from := max(0, searched-len(end)+1)
	i := bytes.Index(b[from:], []byte(end))
	if i < 0 {
		i = len(b) - from
		end = ""
	}
	if i += from; i > MaxMessage {
		return nil, 0, &ProtocolError{Protocol: "tcp", Rule: "a message is longer than 16 MiB",
			Section: "bytes that end each message"}
	}
	if end == "" {
		return nil, 0, nil
	}
	message = b[:i]
	if f.Lines() {
		message = bytes.TrimSuffix(message, []byte("\r"))
	}
	return message, i + len(end), nil
}

// Rest gives what stands at the end of a datagram, behind the messages that end in it: a
// message that lacks its end. It is false if that is none.
func (f *Framing) Rest(b []byte) (message []byte, ok bool) {
	if f.Lines() {
		b = bytes.TrimSuffix(b, []byte("\r"))
	}
	return b, f.Prefix == NoPrefix
}

// Begins reports whether the first message begins with a byte; whole is false if that
// cannot be said yet.
func (f *Framing) Begins(b []byte, with byte) (begins, whole bool) {
	head := 0
	if f.Prefix != NoPrefix {
		if _, head = f.Prefix.read(b); head < 0 {
			return false, true
		}
	}
	if head >= len(b) || f.Prefix != NoPrefix && head == 0 {
		return false, false
	}
	return b[head] == with, true
}

// Append writes a message. Bytes in it that would end it early are not written.
func (f *Framing) Append(dst, payload []byte) []byte {
	if f.Whole {
		return append(dst, payload...)
	}
	if f.Prefix != NoPrefix {
		return append(f.Prefix.append(dst, len(payload)), payload...)
	}
	end, start := f.ends(), len(dst)
	for len(payload) > 0 {
		i, skip := bytes.Index(payload, []byte(end)), len(end)
		if f.Lines() {
			i, skip = bytes.IndexAny(payload, "\r\n"), 1
		}
		if i < 0 {
			dst = append(dst, payload...)
			break
		}
		dst, payload = append(dst, payload[:i]...), payload[i+skip:]
	}
	// What is left may end in the first half of an end, or hold one that came together only now.
	for dst = append(dst, end...); ; {
		i := bytes.Index(dst[start:], []byte(end))
		if i+len(end) == len(dst)-start {
			return dst
		}
		dst = append(dst[:start+i], dst[start+i+1:]...)
	}
}
