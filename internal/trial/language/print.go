package language

import (
	"fmt"
	"strings"
)

// Quote writes a text as the language does, with nothing in it that would be a
// template.
func Quote(s string) string {
	var b strings.Builder
	b.WriteByte('"')
	for i, r := range s {
		switch {
		case r == '"' || r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\r':
			b.WriteString(`\r`)
		case r == '\t':
			b.WriteString(`\t`)
		case r == '$' || r == '%':
			b.WriteRune(r)
			if strings.HasPrefix(s[i+1:], "{") {
				b.WriteRune(r)
			}
		case r < 0x20 || r == 0x7f || r == 0xfffd || r == 0x2028 || r == 0x2029:
			fmt.Fprintf(&b, `\u%04x`, r)
		default:
			b.WriteRune(r)
		}
	}
	b.WriteByte('"')
	return b.String()
}
