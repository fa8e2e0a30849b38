// Package plain makes text that came from a server safe to show: control
// characters and escape sequences become visible, and nothing in it moves the
// cursor, changes a colour or reorders what stands beside it.
package plain

import (
	"strings"
	"unicode"
	"unicode/utf8"
)

// Text returns s in a form that a terminal, a log or a report can show on one
// line. Control characters become their pictures (U+2400 block), bytes that
// are no UTF-8 become \xNN, and characters that change the direction or
// visibility of text become \u{NNNN}. At most limit characters are kept; what
// was cut ends in an ellipsis. A limit of 0 keeps all.
func Text(s string, limit int) string {
	var b strings.Builder
	n := 0
	for len(s) > 0 {
		if limit > 0 && n >= limit {
			b.WriteRune('…')
			break
		}
		r, size := utf8.DecodeRuneInString(s)
		writeVisible(&b, r, s[:size])
		s = s[size:]
		n++
	}
	return b.String()
}

func writeVisible(b *strings.Builder, r rune, raw string) {
	const hex = "0123456789abcdef"
	switch {
	case r == utf8.RuneError && len(raw) == 1:
		b.WriteString(`\x`)
		b.WriteByte(hex[raw[0]>>4])
		b.WriteByte(hex[raw[0]&15])
	case r < 0x20:
		b.WriteRune(0x2400 + r)
	case r == 0x7f:
		b.WriteRune(0x2421)
	case unicode.IsPrint(r):
		b.WriteRune(r)
	default:
		b.WriteString(`\u{`)
		for shift := 20; shift >= 0; shift -= 4 {
			if d := r >> shift; d != 0 || shift == 0 {
				b.WriteByte(hex[d&15])
			}
		}
		b.WriteByte('}')
	}
}
