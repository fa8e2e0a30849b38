package ws

import (
	"bytes"
	"compress/flate"
	"encoding/binary"
	"fmt"
)

// An Abuse is something that a client must not send once the connection is open, and for
// which the server must end it (RFC 6455 7.1.7).
type Abuse struct {
	Name    string
	Section string // of RFC 6455, if no other is named
	Code    uint16 // the close code that says why
	Packed  bool   // it is one only if compression was agreed on
	May     string // what leaves a server open to do otherwise; "": nothing
	bytes   func() []byte
}

// Bytes are what is sent. They must not be changed. Those that take long to make are made when
// they are asked for: a third of a second, in which no command could begin.
func (a *Abuse) Bytes() []byte { return a.bytes() }

// Abuses are all of them, in the order of the standard.
var Abuses = abuses()

// deflateSection is the section of abuses that need compression to be agreed on.
const deflateSection = "RFC 7692 7.2"

const fin = 0x80

// ByHand makes a masked frame by hand. size, if it is not nil, stands where the length does.
func ByHand(first byte, payload []byte, size []byte) []byte {
	key := [4]byte{0x37, 0xfa, 0x21, 0x3d}
	b := []byte{first}
	switch {
	case size != nil:
		b = append(b, size...)
	case len(payload) < 126:
		b = append(b, 0x80|byte(len(payload)))
	case len(payload) < 1<<16:
		b = binary.BigEndian.AppendUint16(append(b, 0x80|126), uint16(len(payload)))
	default:
		b = binary.BigEndian.AppendUint64(append(b, 0x80|127), uint64(len(payload)))
	}
	b = append(b, key[:]...)
	for i, c := range payload {
		b = append(b, c^key[i%4])
	}
	return b
}

// PackByHand compresses as permessage-deflate does.
func PackByHand(b []byte) []byte {
	var out bytes.Buffer
	w, _ := flate.NewWriter(&out, flate.BestCompression) // the level is one
	w.Write(b)
	w.Flush()
	return bytes.TrimSuffix(out.Bytes(), []byte{0, 0, 0xff, 0xff})
}

// AbuseNamed gives an abuse by its name; nil if there is none.
func AbuseNamed(name string) *Abuse {
	for i := range Abuses {
		if Abuses[i].Name == name {
			return &Abuses[i]
		}
	}
	return nil
}

func abuses() (all []Abuse) {
	frame, packed := ByHand, PackByHand
	text := func(s string) []byte { return frame(fin|OpText, []byte(s), nil) }
	closing := func(code uint16, reason string) []byte {
		return frame(fin|OpClose, AppendClosePayload(nil, code, reason), nil)
	}
	fail := func(name, section string, code uint16, parts ...[]byte) *Abuse {
		b := bytes.Join(parts, nil)
		all = append(all, Abuse{Name: name, Section: section, Code: code, bytes: func() []byte { return b },
			Packed: section == deflateSection})
		return &all[len(all)-1]
	}
	unmasked := AppendFrame(nil, OpText, []byte("tide"))
	fail("a text that is not masked", "5.1", 1002, unmasked)
	fail("a ping that is not masked", "5.1", 1002, AppendFrame(nil, OpPing, []byte("tide")))
	for i, bit := range []byte{0x40, 0x20, 0x10} {
		fail(fmt.Sprintf("reserved bit %d", i+1), "5.2", 1002, frame(fin|bit|OpText, []byte("tide"), nil))
	}
	fail("a reserved bit in a ping", "5.2", 1002, frame(fin|0x20|OpPing, nil, nil))
	for _, op := range []byte{3, 4, 5, 6, 7} {
		fail(fmt.Sprintf("opcode %d", op), "5.2", 1002, frame(fin|op, []byte("tide"), nil))
	}
	for _, op := range []byte{0xb, 0xc, 0xf} {
		fail(fmt.Sprintf("control opcode %d", op), "5.2", 1002, frame(fin|op, nil, nil))
	}
	fail("5 bytes with a length of two bytes", "5.2", 1002, frame(fin|OpText, []byte("tides"),
		[]byte{0x80 | 126, 0, 5})).May = "the standard demands it of who sends"
	fail("5 bytes with a length of eight bytes", "5.2", 1002,
		frame(fin|OpText, []byte("tides"), []byte{0x80 | 127, 0, 0, 0, 0, 0, 0, 0,
			5})).May = "the standard demands it of who sends"
	fail("a length whose highest bit is set", "5.2", 1002,
		frame(fin|OpText, nil, []byte{0x80 | 127, 0x80, 0, 0, 0, 0, 0, 0, 5}))
	fail("a message of 2 to the power of 62 bytes", "10.4", 1009,
		frame(fin|OpText, []byte("tide"), []byte{0x80 | 127, 0x40, 0, 0, 0, 0, 0, 0, 0}))
	long := bytes.Repeat([]byte("t"), 126)
	fail("a ping of 126 bytes", "5.5", 1002, frame(fin|OpPing, long, nil))
	fail("a pong of 126 bytes", "5.5", 1002, frame(fin|OpPong, long, nil))
	fail("a close of 126 bytes", "5.5", 1002, closing(1000, string(long[:124])))
	fail("a ping in fragments", "5.5", 1002, frame(OpPing, []byte("ti"), nil), frame(fin, []byte("de"), nil))
	fail("a close in fragments", "5.5", 1002, frame(OpClose, []byte{3, 0xe8}, nil), frame(fin, nil, nil))
	fail("a fragment that goes on with nothing", "5.4", 1002, frame(fin, []byte("tide"), nil))
	fail("a fragment that goes on with nothing, and is not the last", "5.4", 1002, frame(0, []byte("tide"), nil))
	fail("a text inside another one", "5.4", 1002, frame(OpText, []byte("ti"), nil), text("de"))
	fail("bytes inside a text", "5.4", 1002, frame(OpText, []byte("ti"), nil), frame(fin|OpBinary, []byte("de"), nil))
	fail("a close with half a code", "5.5.1", 1002, frame(fin|OpClose, []byte{3}, nil))
	for _, code := range []uint16{0, 999, 1004, 1005, 1006, 1015, 1016, 2999, 5000, 65535} {
		fail(fmt.Sprintf("a close with code %d", code), "7.4", 1002, closing(code, ""))
	}
	fail("a close whose reason is no UTF-8", "5.5.1, 8.1", 1007, closing(1000, "\xff\xfe"))
	for _, bad := range []struct{ name, text string }{
		{"a text with a byte that UTF-8 has not", "tide \xff"},
		{"a text with a byte that goes on with nothing", "tide \x80"},
		{"a text that is written longer than it need be", "tide \xc0\xaf"},
		{"a text with half a pair of UTF-16", "tide \xed\xa0\x80"},
		{"a text beyond the last character", "tide \xf4\x90\x80\x80"},
		{"a text that ends in the middle of a character", "tide \xe2\x82"},
	} {
		fail(bad.name, "8.1", 1007, text(bad.text))
	}
	fail("a bad text in fragments, cut inside a character", "8.1", 1007, frame(OpText, []byte("tide \xe2"), nil),
		frame(0, []byte("\x82"), nil), frame(fin, []byte("\x28"), nil))
	fail("compressed bytes that are none", deflateSection, 1007, frame(fin|0x40|OpText, []byte{0xff, 0xff, 0xff, 0xff},
		nil))
	fail("the mark of compression on a fragment that goes on", deflateSection, 1002, frame(0x40|OpText,
		packed([]byte("tide")), nil),
		frame(fin|0x40, nil, nil))
	fail("the mark of compression on a ping", deflateSection, 1002, frame(fin|0x40|OpPing, nil, nil))
	bomb := fail("a small message that unfolds to 64 MiB", deflateSection, 1009)
	bomb.May, bomb.bytes = "a server may take as much as it likes", func() []byte {
		return frame(fin|0x40|OpBinary, packed(make([]byte, 64<<20)), nil)
	}
	return all
}
