package replay

import (
	"regexp"
	"strings"
)

// Suggest gives a pattern that matches both of two texts that differ in one word which
// looks random, such as an id; "" if they do not.
func Suggest(recorded, now string) string {
	a, b := strings.FieldsFunc(recorded, apart), strings.FieldsFunc(now, apart)
	if len(a) != len(b) {
		return ""
	}
	at := -1
	for i := range a {
		if a[i] == b[i] {
			continue
		}
		if at >= 0 || !random(a[i]) || !random(b[i]) {
			return ""
		}
		at = i
	}
	if at < 0 {
		return ""
	}
	before, after, ok := strings.Cut(recorded, a[at])
	if !ok {
		return ""
	}
	// What stands close by is enough to know the place again.
	before, after = before[max(0, len(before)-nearby):], after[:min(nearby, len(after))]
	return regexp.QuoteMeta(before) + `[\w-]+` + regexp.QuoteMeta(after)
}

// nearby is how many bytes around a random word a suggested pattern holds.
const nearby = 20

// apart reports whether a character is between words.
func apart(r rune) bool {
	return !(r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r == '-' || r == '_')
}

// random reports whether a word looks as if it were another each time: it is long, and
// has digits among its letters, or is nothing but digits.
func random(word string) bool {
	return len(word) >= 6 && strings.ContainsAny(word, "0123456789")
}
