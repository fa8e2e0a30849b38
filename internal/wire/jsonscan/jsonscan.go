// Package jsonscan picks named fields out of a JSON text (RFC 8259) in one
// pass and without allocating. It is what lets a condition such as
// msg.kind == "notice" be tried on every message that arrives.
package jsonscan

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strconv"
	"unicode/utf8"
)

// maxDepth is how deep arrays and objects may be nested.
const maxDepth = 64

// Kind is the type of a JSON value.
type Kind uint8

// The kinds of a Value. Missing means that the text has no such field.
const (
	Missing Kind = iota
	Null
	Bool
	Number
	String
	Array
	Object
)

// A Value is one value of a scanned text.
type Value struct {
	Kind Kind
	Raw  []byte // its JSON text, borrowed from the input; a string's without the quotes
}

// A Table lists the fields that are wanted. The zero value wants none.
type Table struct {
	root node
	n    int
}

type node struct {
	slot     int // 1 more than the index of the field, 0 if it is not wanted itself
	children []child
}

type child struct {
	key  string
	node *node
}

// Len is the number of fields that are wanted, and so the length that Extract
// needs of its out argument.
func (t *Table) Len() int { return t.n }

// Add makes the field at path wanted and returns its index. A path names
// members of objects, or elements of arrays by their number; an empty path is
// the whole text. A field that is already wanted keeps its index.
func (t *Table) Add(path ...string) int {
	at := &t.root
	for _, key := range path {
		at = at.child(key)
	}
	if at.slot == 0 {
		t.n++
		at.slot = t.n
	}
	return at.slot - 1
}

func (n *node) child(key string) *node {
	for _, c := range n.children {
		if c.key == key {
			return c.node
		}
	}
	c := child{key, &node{}}
	n.children = append(n.children, c)
	return c.node
}

// A syntaxError says where a text stops being JSON.
type syntaxError struct{ Offset int }

func (e *syntaxError) Error() string { return fmt.Sprintf("no valid JSON at byte %d", e.Offset) }

// Extract scans b, which is valid UTF-8 (a WebSocket text message always is; the
// scanner does not look again), and fills out[i] with the field of index i.
// If a name comes twice in an object the last one counts. On an error (a *syntaxError)
// out holds nothing of use.
func (t *Table) Extract(b []byte, out []Value) error {
	clear(out[:t.n])
	s := scanner{b: b, out: out}
	s.space()
	if !s.value(&t.root, 0) {
		return &syntaxError{s.at}
	}
	if s.space(); s.at != len(b) {
		return &syntaxError{s.at}
	}
	return nil
}

// mostBefore is how many bytes may stand before the JSON in a message.
const mostBefore = 12

// Behind splits a message into a few bytes, such as the digits of a packet, and the JSON
// object or array behind them; rest is all of it if there is no such thing.
func Behind(b []byte) (front string, rest []byte) {
	at := bytes.IndexAny(b, "{[")
	if at <= 0 || at > mostBefore || !json.Valid(b[at:]) {
		return "", b
	}
	return string(b[:at]), b[at:]
}

// Elements calls f with each element of a JSON array, as it stands there, and reports
// whether b is one. f may have been called if it is not: what it is wrong with may come
// late in it.
func Elements(b []byte, f func(element []byte)) bool {
	s := scanner{b: b}
	s.space()
	return s.peek() == '[' && s.array(nil, 1, f)
}

type scanner struct {
	b   []byte
	at  int
	out []Value
}

func (s *scanner) space() {
	for s.at < len(s.b) {
		switch s.b[s.at] {
		case ' ', '\t', '\r', '\n':
			s.at++
		default:
			return
		}
	}
}

func (s *scanner) peek() byte {
	if s.at < len(s.b) {
		return s.b[s.at]
	}
	return 0
}

// value scans one value; n is where its path leads in the table, or nil.
func (s *scanner) value(n *node, depth int) bool {
	from, kind, ok := s.at, Missing, false
	switch c := s.peek(); {
	case c == '"':
		kind, ok = String, s.str()
	case c == '{':
		kind, ok = Object, depth < maxDepth && s.object(n, depth+1)
	case c == '[':
		kind, ok = Array, depth < maxDepth && s.array(n, depth+1, nil)
	case c == 't':
		kind, ok = Bool, s.word("true")
	case c == 'f':
		kind, ok = Bool, s.word("false")
	case c == 'n':
		kind, ok = Null, s.word("null")
	default:
		kind, ok = Number, s.number()
	}
	if ok && n != nil && n.slot > 0 {
		raw := s.b[from:s.at]
		if kind == String {
			raw = raw[1 : len(raw)-1]
		}
		s.out[n.slot-1] = Value{kind, raw}
	}
	return ok
}

func (s *scanner) word(w string) bool {
	if len(s.b)-s.at < len(w) || string(s.b[s.at:s.at+len(w)]) != w {
		return false
	}
	s.at += len(w)
	return true
}

func (s *scanner) object(n *node, depth int) bool {
	s.at++
	s.space()
	if s.peek() == '}' {
		s.at++
		return true
	}
	for {
		from := s.at
		if s.peek() != '"' || !s.str() {
			return false
		}
		to := n.member(s.b[from+1 : s.at-1])
		if s.space(); s.peek() != ':' {
			return false
		}
		s.at++
		s.space()
		if !s.value(to, depth) {
			return false
		}
		s.space()
		switch s.peek() {
		case '}':
			s.at++
			return true
		case ',':
			s.at++
			s.space()
		default:
			return false
		}
	}
}

// array scans an array; each, if set, is called with every element.
func (s *scanner) array(n *node, depth int, each func(element []byte)) bool {
	s.at++
	s.space()
	if s.peek() == ']' {
		s.at++
		return true
	}
	for i := 0; ; i++ {
		from := s.at
		if !s.value(n.element(i), depth) {
			return false
		}
		if each != nil {
			each(s.b[from:s.at])
		}
		s.space()
		switch s.peek() {
		case ']':
			s.at++
			return true
		case ',':
			s.at++
			s.space()
		default:
			return false
		}
	}
}

func (n *node) member(raw []byte) *node {
	if n == nil {
		return nil
	}
	for i := range n.children {
		if EqualString(raw, n.children[i].key) {
			return n.children[i].node
		}
	}
	return nil
}

func (n *node) element(i int) *node {
	if n == nil || len(n.children) == 0 {
		return nil
	}
	var buf [20]byte
	return n.member(strconv.AppendInt(buf[:0], int64(i), 10))
}

// str scans a string, its quotes included.
func (s *scanner) str() bool {
	for i := s.at + 1; i < len(s.b); i++ {
		switch c := s.b[i]; {
		case c == '"':
			s.at = i + 1
			return true
		case c < 0x20:
			s.at = i
			return false
		case c == '\\':
			n := escapeLen(s.b[i:])
			if n == 0 {
				s.at = i
				return false
			}
			i += n - 1
		}
	}
	s.at = len(s.b)
	return false
}

// escapeLen is the length of the escape at the front of b, 0 for a bad one.
func escapeLen(b []byte) int {
	if len(b) < 2 {
		return 0
	}
	switch b[1] {
	case '"', '\\', '/', 'b', 'f', 'n', 'r', 't':
		return 2
	case 'u':
		if len(b) < 6 || hex4(b[2:6]) < 0 {
			return 0
		}
		return 6
	}
	return 0
}

func hex4(b []byte) rune {
	var r rune
	for _, c := range b {
		switch {
		case c >= '0' && c <= '9':
			r = r<<4 | rune(c-'0')
		case c >= 'a' && c <= 'f':
			r = r<<4 | rune(c-'a'+10)
		case c >= 'A' && c <= 'F':
			r = r<<4 | rune(c-'A'+10)
		default:
			return -1
		}
	}
	return r
}

func (s *scanner) digits() bool {
	from := s.at
	for s.at < len(s.b) && s.b[s.at] >= '0' && s.b[s.at] <= '9' {
		s.at++
	}
	return s.at > from
}

func (s *scanner) number() bool {
	if s.peek() == '-' {
		s.at++
	}
	if s.peek() == '0' {
		s.at++
	} else if !s.digits() {
		return false
	}
	if s.peek() == '.' {
		s.at++
		if !s.digits() {
			return false
		}
	}
	if c := s.peek(); c == 'e' || c == 'E' {
		s.at++
		if c := s.peek(); c == '+' || c == '-' {
			s.at++
		}
		return s.digits()
	}
	return true
}

// EqualString reports whether the inside of a JSON string literal means want.
func EqualString(raw []byte, want string) bool {
	if bytes.IndexByte(raw, '\\') < 0 {
		return string(raw) == want
	}
	var buf [128]byte
	return string(Unquote(buf[:0], raw)) == want
}

// Unquote appends what the inside of a valid JSON string literal means. A
// surrogate without its partner becomes U+FFFD.
func Unquote(dst, raw []byte) []byte {
	for len(raw) > 0 {
		i := bytes.IndexByte(raw, '\\')
		if i < 0 {
			return append(dst, raw...)
		}
		dst = append(dst, raw[:i]...)
		raw = raw[i:]
		var n int
		dst, n = unescape(dst, raw)
		raw = raw[n:]
	}
	return dst
}

func unescape(dst, b []byte) ([]byte, int) {
	switch c := b[1]; c {
	case 'b':
		return append(dst, '\b'), 2
	case 'f':
		return append(dst, '\f'), 2
	case 'n':
		return append(dst, '\n'), 2
	case 'r':
		return append(dst, '\r'), 2
	case 't':
		return append(dst, '\t'), 2
	case 'u':
		r := hex4(b[2:6])
		if r < 0xd800 || r > 0xdfff {
			return utf8.AppendRune(dst, r), 6
		}
		if r < 0xdc00 && len(b) >= 12 && b[6] == '\\' && b[7] == 'u' {
			if low := hex4(b[8:12]); low >= 0xdc00 && low <= 0xdfff {
				return utf8.AppendRune(dst, 0x10000+(r-0xd800)<<10|(low-0xdc00)), 12
			}
		}
		return utf8.AppendRune(dst, utf8.RuneError), 6
	default:
		return append(dst, c), 2
	}
}

// AppendQuoted appends s as a JSON string literal with its quotes. Bytes that
// are no UTF-8 become U+FFFD.
func AppendQuoted(dst []byte, s []byte) []byte {
	dst = append(dst, '"')
	return append(AppendEscaped(dst, s), '"')
}

// AppendEscaped is AppendQuoted without the quotes.
func AppendEscaped(dst []byte, s []byte) []byte {
	const hex = "0123456789abcdef"
	for i := 0; i < len(s); {
		c := s[i]
		switch {
		case c >= utf8.RuneSelf:
			r, size := utf8.DecodeRune(s[i:])
			dst = utf8.AppendRune(dst, r)
			i += size
			continue
		case c == '"' || c == '\\':
			dst = append(dst, '\\', c)
		case c == '\n':
			dst = append(dst, '\\', 'n')
		case c == '\r':
			dst = append(dst, '\\', 'r')
		case c == '\t':
			dst = append(dst, '\\', 't')
		case c < 0x20:
			dst = append(dst, '\\', 'u', '0', '0', hex[c>>4], hex[c&15])
		default:
			dst = append(dst, c)
		}
		i++
	}
	return dst
}
