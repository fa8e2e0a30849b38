package replay

import (
	"bytes"
	"encoding/json"
	"regexp"
	"slices"
	"sort"
	"strings"
)

// kindKeys are names under which servers say what a message is.
var kindKeys = []string{"kind", "type", "event", "op", "action", "cmd", "command", "method", "what", "t", "e"}

var identifier = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_.:/ -]{0,39}$`)

// discriminator finds the member that says what a JSON message is.
func discriminator(b []byte) (key, value string, ok bool) {
	all := leaves(b)
	for _, k := range kindKeys {
		for _, l := range all {
			if l.text && l.path == k && identifier.MatchString(l.value) {
				return l.path, l.value, true
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

// ShapeOf gives the shape of a message. vary are values that vary.
func ShapeOf(payload []byte, binary bool, vary []string) Shape {
	if binary {
		return Shape{Kind: "a binary message"}
	}
	dec := json.NewDecoder(bytes.NewReader(payload))
	dec.UseNumber()
	var v any
	if err := dec.Decode(&v); err == nil && !dec.More() {
		if _, plain := v.(json.Number); !plain {
			_, kind, _ := discriminator(payload)
			return Shape{Kind: kind, Form: formOf(v)}
		}
	}
	text := string(payload)
	for _, value := range vary {
		text = strings.ReplaceAll(text, value, "…")
	}
	return Shape{Form: digits.ReplaceAllString(text, "#")}
}

var digits = regexp.MustCompile(`[0-9]+([.,:][0-9]+)*`)

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
		return "text"
	case json.Number:
		return "number"
	case bool:
		return "truth"
	}
	return "null"
}
