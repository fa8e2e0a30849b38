package probe

import (
	"encoding/json"
	"fmt"
	"strconv"
	"strings"

	"tidepull/internal/wire/jsonscan"
)

// Unescape gives what a text that somebody typed stands for: \n, \r, \t, \0, \\ and \xHH
// are what they are elsewhere. A text that is JSON, behind a few characters or not, stands
// for itself: it has escapes of its own.
func Unescape(s string) (string, error) {
	if front, _ := jsonscan.Behind([]byte(s)); front != "" || json.Valid([]byte(s)) {
		return s, nil
	}
	var out strings.Builder
	for {
		front, rest, found := strings.Cut(s, `\`)
		out.WriteString(front)
		if !found {
			return out.String(), nil
		}
		if rest == "" {
			return "", fmt.Errorf(`there is nothing behind the \ at the end; \\ is one itself`)
		}
		s = rest[1:]
		switch rest[0] {
		case 'n':
			out.WriteByte('\n')
		case 'r':
			out.WriteByte('\r')
		case 't':
			out.WriteByte('\t')
		case '0':
			out.WriteByte(0)
		case '\\':
			out.WriteByte('\\')
		case 'x':
			n, err := strconv.ParseUint(s[:min(2, len(s))], 16, 8)
			if err != nil || len(s) < 2 {
				return "", fmt.Errorf(`behind \x stand two hexadecimal digits`)
			}
			out.WriteByte(byte(n))
			s = s[2:]
		default:
			return "", fmt.Errorf(`\%c stands for nothing; \n, \r, \t, \0, \xHH and \\ do`, []rune(rest)[0])
		}
	}
}
