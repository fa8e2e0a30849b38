// Package mark writes and finds the mark: the token a client puts into a
// message it sends, so that every delivery of it can be recognised.
//
// A mark is 38 characters: the prefix "tpmk", 31 characters that hold run,
// room, sender, number and time, and 3 characters of check. The alphabet is
// digits and lower-case letters without i, l, o and u. No character in it is
// ever escaped by JSON, XML or a URL, and a mark in capitals reads the same, so
// it survives escaping and case folding. For binary messages there is a form of
// 26 bytes.
package mark

import "bytes"

// Len is the length of a mark in bytes.
const Len = len(prefix) + bodyLen + checkLen

const (
	prefix   = "tpmk"
	bodyLen  = 31
	checkLen = 3
	alphabet = "0123456789abcdefghjkmnpqrstvwxyz"
)

// The widths of the fields in bits; they add up to 5 times bodyLen.
const (
	runBits    = 20
	roomBits   = 20
	senderBits = 25
	numberBits = 40
	timeBits   = 50
)

// Epoch is what Time counts from: 2026-01-01 00:00 UTC, in microseconds since
// 1970. Fifty bits last for 35 years from there.
const Epoch = int64(1767225600) * 1e6

// Mark says which message this is, and who said it. Values wider than their field are cut to
// its width.
type Mark struct {
	Run    uint32 // the run, 20 bits
	Room   uint32 // the room's number in the run, 20 bits
	Sender uint32 // the sending client's number in the run, 25 bits
	Number uint64 // counts the messages of the run, 40 bits
	Time   int64  // when it was due, microseconds since Epoch, 50 bits
}

var (
	lower  = []byte(prefix)
	upper  = []byte("TPMK")
	values = decodeTable()
)

func decodeTable() (t [256]int8) {
	for i := range t {
		t[i] = -1
	}
	for i, c := range []byte(alphabet) {
		t[c] = int8(i)
		if c >= 'a' {
			t[c-'a'+'A'] = int8(i)
		}
	}
	return t
}

// Append appends the text of m to dst.
func Append(dst []byte, m Mark) []byte {
	dst = append(dst, prefix...)
	at := len(dst)
	dst = appendBits(dst, uint64(m.Run), runBits)
	dst = appendBits(dst, uint64(m.Room), roomBits)
	dst = appendBits(dst, uint64(m.Sender), senderBits)
	dst = appendBits(dst, m.Number, numberBits)
	dst = appendBits(dst, uint64(m.Time), timeBits)
	return appendBits(dst, check(dst[at:]), checkLen*5)
}

func appendBits(dst []byte, v uint64, width int) []byte {
	for shift := width - 5; shift >= 0; shift -= 5 {
		dst = append(dst, alphabet[v>>shift&31])
	}
	return dst
}

// check hashes the values, not the characters, so that case does not matter
// (FNV-1a, folded to 15 bits).
func check(b []byte) uint64 {
	h := uint64(14695981039346656037)
	for _, c := range b {
		h = (h ^ uint64(uint8(values[c]))) * 1099511628211
	}
	return (h ^ h>>15 ^ h>>30 ^ h>>45) & (1<<(checkLen*5) - 1)
}

// Find returns the first valid mark in b and the offset just after it, or 0 if
// b holds none.
func Find(b []byte) (m Mark, end int) {
	s := In(b)
	return s.Next()
}

// A Scanner goes through the marks of a text once, whatever their form.
type Scanner struct {
	b    []byte
	from int
	next [3]int // where each form may begin next; -1: not looked for yet; len(b): nowhere
}

var forms = [3][]byte{lower, upper, []byte(bytesPrefix)}

// In begins to scan b, which must not change until the Scanner is done.
func In(b []byte) Scanner { return Scanner{b: b, next: [3]int{-1, -1, -1}} }

// Next returns the next valid mark and the offset just after it; 0 means that
// there are no more.
func (s *Scanner) Next() (Mark, int) {
	for {
		first, form := len(s.b), 0
		for i, prefix := range forms {
			if s.next[i] < s.from {
				s.next[i] = len(s.b)
				if at := bytes.Index(s.b[s.from:], prefix); at >= 0 {
					s.next[i] = s.from + at
				}
			}
			if s.next[i] < first {
				first, form = s.next[i], i
			}
		}
		if first == len(s.b) {
			return Mark{}, 0
		}
		if m, n := at(s.b[first:], form); n > 0 {
			s.from = first + n
			return m, s.from
		}
		s.from = first + 1
	}
}

// at reads a mark of a form at the front of b; n 0 means that it is none.
func at(b []byte, form int) (m Mark, n int) {
	ok := false
	switch {
	case form == 2 && len(b) >= bytesLen:
		n = bytesLen
		m, ok = parseBytes(b[:n])
	case form < 2 && len(b) >= Len:
		n = Len
		m, ok = parse(b[:n])
	}
	if !ok {
		return m, 0
	}
	return m, n
}

// bytesLen is the length of a mark in its binary form: the prefix, and the 34
// characters behind it at 5 bits each.
const bytesLen = len(bytesPrefix) + (5*(bodyLen+checkLen)+7)/8

const bytesPrefix = "\xf1tp\x9d"

// AppendBytes appends the binary form of m to dst.
func AppendBytes(dst []byte, m Mark) []byte {
	var text [Len]byte
	chars := Append(text[:0], m)[len(prefix):]
	dst = append(dst, bytesPrefix...)
	held, bits := uint32(0), 0
	for _, c := range chars {
		held, bits = held<<5|uint32(values[c]), bits+5
		if bits >= 8 {
			bits -= 8
			dst = append(dst, byte(held>>bits))
		}
	}
	return append(dst, byte(held<<(8-bits)))
}

// parseBytes reads the binary form, which is bytesLen long.
func parseBytes(b []byte) (Mark, bool) {
	var chars [Len]byte
	text := append(chars[:0], prefix...)
	held, bits := uint32(0), 0
	for _, c := range b[len(bytesPrefix):] {
		held, bits = held<<8|uint32(c), bits+8
		for bits >= 5 && len(text) < Len {
			bits -= 5
			text = append(text, alphabet[held>>bits&31])
		}
	}
	return parse(text)
}

func parse(b []byte) (m Mark, ok bool) {
	b = b[len(prefix):]
	for _, c := range b {
		if values[c] < 0 {
			return m, false
		}
	}
	body, sum := b[:bodyLen], b[bodyLen:]
	if got, _ := takeBits(sum, checkLen*5); got != check(body) {
		return m, false
	}
	v, body := takeBits(body, runBits)
	m.Run = uint32(v)
	v, body = takeBits(body, roomBits)
	m.Room = uint32(v)
	v, body = takeBits(body, senderBits)
	m.Sender = uint32(v)
	m.Number, body = takeBits(body, numberBits)
	v, _ = takeBits(body, timeBits)
	m.Time = int64(v)
	return m, true
}

func takeBits(b []byte, width int) (v uint64, rest []byte) {
	for ; width > 0; width -= 5 {
		v = v<<5 | uint64(values[b[0]])
		b = b[1:]
	}
	return v, b
}
