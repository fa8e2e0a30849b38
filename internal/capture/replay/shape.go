package replay

import (
	"bytes"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"sort"
	"strings"

	"tidepull/internal/wire/jsonscan"
)

// kindKeys are names under which servers say what a message is.
var kindKeys = []string{"kind", "type", "event", "op", "action", "cmd", "command", "method", "what", "did", "do",
	"says", "t", "e"}

var identifier = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_.:/ -]{0,39}$`)

// discriminator finds the member that says what a JSON message is, if it stands in the
// message itself or in the only text of a list.
func discriminator(b []byte) (key, value string, ok bool) {
	all := leaves(b)
	for _, before := range []string{"", "0" + inText} {
		for _, k := range kindKeys {
			for _, l := range all {
				if l.text && l.path == before+k && identifier.MatchString(l.value) {
					return l.path, l.value, true
				}
			}
		}
	}
	for _, l := range all {
		if l.text && l.path == "0" && identifier.MatchString(l.value) {
			return l.path, l.value, true
		}
	}
	return "", "", false
}

// A Shape is what is left of a message when what varies is taken away: of JSON
// its members and their types, and what says what it is; of a text its words.
type Shape struct {
	Kind string // what says what it is
	Form string // the rest
}

func (s Shape) String() string {
	if s.Kind != "" {
		return s.Kind
	}
	return s.Form
}

// ShapeOf gives the shape of a message. vary are values that vary. JSON may stand in a text
// of JSON, and behind a few characters, such as the digits of a packet.
func ShapeOf(payload []byte, binary bool, vary []string) Shape {
	if binary {
		return Shape{Kind: "a binary message", Form: readable(payload, vary)}
	}
	front, rest := jsonscan.Behind(payload)
	if v, ok := decoded(rest); ok {
		if _, plain := v.(json.Number); !plain {
			_, kind, _ := discriminator(rest)
			return Shape{Kind: kind, Form: front + formOf(v)}
		}
	}
	return Shape{Form: wordsOf(string(payload), vary)}
}

// theEnd is the kind of the server's ending of a connection.
const theEnd = "the server ends the connection"

// ShapeOfEnd is the shape of the server's ending of a connection: with a close frame that has a code, or without
// one, if the code is 0.
func ShapeOfEnd(code int) Shape {
	return Shape{Kind: theEnd, Form: string(SampleOfEnd(code, ""))}
}

// SampleOfEnd is how the server ends a connection, in words.
func SampleOfEnd(code int, reason string) []byte {
	switch {
	case code == 0:
		return []byte("without a close frame")
	case reason == "":
		return fmt.Appendf(nil, "with %d", code)
	}
	return fmt.Appendf(nil, "with %d: %s", code, reason)
}

// wordsOf leaves out of a text what varies.
func wordsOf(text string, vary []string) string {
	vary = slices.Clone(vary)
	slices.SortFunc(vary, func(a, b string) int { return len(b) - len(a) }) // one may stand in another
	for _, value := range vary {
		if value != "" {
			text = strings.ReplaceAll(text, value, "…")
		}
	}
	text = token.ReplaceAllStringFunc(text, func(word string) string {
		if opaque(word) {
			return "…"
		}
		return word
	})
	return digits.ReplaceAllString(text, "#")
}

// decoded gives what a text says as JSON, if it is one value.
func decoded(b []byte) (v any, ok bool) {
	dec := json.NewDecoder(bytes.NewReader(b))
	dec.UseNumber()
	return v, dec.Decode(&v) == nil && !dec.More()
}

var (
	digits = regexp.MustCompile(`[0-9]+([.,:][0-9]+)*`)
	token  = regexp.MustCompile(`[A-Za-z0-9_-]{8,}`)
)

// opaque reports whether a word looks as if nobody had thought of it, such as a key or a
// digest: it changes between digits, small letters and capitals again and again. Words
// that are written together, each with a capital, change more rarely.
func opaque(word string) bool {
	const near, oftenNear, often = 12, 5, 4
	var classes []byte
	hasDigit, changes := false, 0
	for i := range len(word) {
		class := byte('a')
		switch c := word[i]; {
		case c >= '0' && c <= '9':
			class, hasDigit = '0', true
		case c >= 'A' && c <= 'Z':
			class = 'A'
		case c == '-' || c == '_':
			continue
		}
		classes = append(classes, class)
	}
	// A capital alone begins a word: what follows it is no further change.
	changed := func(i int) bool {
		begins := classes[i-1] == 'A' && classes[i] == 'a' && (i < 2 || classes[i-2] != 'A')
		return classes[i] != classes[i-1] && !begins
	}
	within := 0 // changes among the last letters and digits
	for i := 1; i < len(classes); i++ {
		if changed(i) {
			changes++
			within++
		}
		if out := i - near + 1; out > 0 && changed(out) {
			within--
		}
		if within >= oftenNear {
			return true
		}
	}
	return hasDigit && changes >= often
}

// leastKey is how long a word is that may be a key.
const leastKey = 16

// alike reports whether two texts are the same but for numbers, and for words of one length
// that may be keys: one that did not look made up by itself does so beside another.
func alike(a, b string) bool {
	key := func(word string) bool {
		return len(word) >= leastKey && strings.ToLower(word) != word && strings.ToUpper(word) != word
	}
	plain := func(s string) string { return digits.ReplaceAllString(s, "#") }
	words, others := token.FindAllString(a, -1), token.FindAllString(b, -1)
	if len(words) != len(others) || plain(token.ReplaceAllString(a, "")) != plain(token.ReplaceAllString(b, "")) {
		return false
	}
	for i, word := range words {
		keys := len(word) == len(others[i]) && key(word) && key(others[i])
		if !keys && plain(word) != plain(others[i]) {
			return false
		}
	}
	return true
}

// leastText is how many characters in a row are a text among bytes.
const leastText = 4

// readable writes bytes: texts among them as they are, without what varies, the rest as
// hexadecimal digits.
func readable(b []byte, vary []string) string {
	var s strings.Builder
	for len(b) > 0 {
		n := 0
		for n < len(b) && b[n] >= ' ' && b[n] < 0x7f {
			n++
		}
		if n >= leastText {
			s.WriteString(wordsOf(string(b[:n]), vary))
		} else {
			n = min(n+1, len(b))
			fmt.Fprintf(&s, "<%x>", b[:n])
		}
		b = b[n:]
	}
	return s.String()
}

// formOf writes a value's structure: a list is as its elements are, however
// many there are.
func formOf(v any) string {
	switch v := v.(type) {
	case map[string]any:
		var parts []string
		for name, e := range v {
			parts = append(parts, name+":"+formOf(e))
		}
		sort.Strings(parts)
		return "{" + strings.Join(parts, " ") + "}"
	case []any:
		var parts []string
		for _, e := range v {
			if f := formOf(e); !slices.Contains(parts, f) {
				parts = append(parts, f)
			}
		}
		sort.Strings(parts)
		return "[" + strings.Join(parts, " ") + "]"
	case string:
		if inner, ok := inString(v); ok {
			return "text of " + formOf(inner)
		}
		return "text"
	case json.Number:
		return "number"
	case bool:
		return "truth"
	}
	return "null"
}

// inString gives the JSON object or list that a string holds, if it holds one.
func inString(s string) (v any, ok bool) {
	if s == "" || s[0] != '{' && s[0] != '[' {
		return nil, false
	}
	return decoded([]byte(s))
}
