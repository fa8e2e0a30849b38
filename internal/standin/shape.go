package standin

import (
	"bytes"
	"encoding/json"
	"strings"

	"tidepull/internal/wire/jsonscan"
)

// Shapes are the ways in which servers put messages: the board's own (a JSON object with
// a field that says its kind), and those that it can be asked for.
var Shapes = []string{"", "array", "envelope", "string", "digits", "text"}

// wrap puts one of the board's messages, a JSON object that begins with its kind, into
// another shape.
func wrap(shape string, payload []byte) []byte {
	const before = `{"kind":"`
	kind, _, _ := bytes.Cut(bytes.TrimPrefix(payload, []byte(before)), []byte(`"`))
	quoted := `"` + string(kind) + `"`
	switch shape {
	case "array": // ["notice", {...}]
		return []byte("[" + quoted + "," + string(payload) + "]")
	case "digits": // a packet's type in front, as digits: 42["notice", {...}]
		return append([]byte("42"), wrap("array", payload)...)
	case "envelope": // {"event": "notice", "data": {...}}
		return []byte(`{"event":` + quoted + `,"data":` + string(payload) + "}")
	case "string": // {"type": "message", "data": "{\"kind\": ...}"}
		return append(jsonscan.AppendQuoted([]byte(`{"type":"message","data":`), payload), '}')
	case "text": // NOTICE lock-1 pilot-3 17 what it says
		return asText(string(kind), payload)
	}
	return payload
}

// unwrap is the opposite of wrap for what clients say; what it cannot read it gives back
// as it is, for the board to refuse.
func unwrap(shape string, said []byte) []byte {
	switch shape {
	case "array":
		return ofPair(said)
	case "digits":
		return ofPair(bytes.TrimPrefix(said, []byte("42")))
	case "envelope":
		var e struct {
			Event string
			Data  json.RawMessage
		}
		if json.Unmarshal(said, &e) == nil {
			return withKind(e.Event, e.Data)
		}
	case "string":
		var e struct{ Data string }
		if json.Unmarshal(said, &e) == nil {
			return []byte(e.Data)
		}
	case "text":
		return ofText(string(said))
	}
	return said
}

// ofPair reads ["kind", {...}].
func ofPair(said []byte) []byte {
	var pair []json.RawMessage
	var kind string
	if json.Unmarshal(said, &pair) != nil || len(pair) == 0 || json.Unmarshal(pair[0], &kind) != nil {
		return said
	}
	if len(pair) == 1 {
		pair = append(pair, json.RawMessage("{}"))
	}
	return withKind(kind, pair[1])
}

// withKind puts a kind into an object that has none.
func withKind(kind string, object []byte) []byte {
	rest, ok := bytes.CutPrefix(bytes.TrimSpace(object), []byte("{"))
	if !ok {
		return object
	}
	out := jsonscan.AppendQuoted([]byte(`{"kind":`), []byte(kind))
	if rest = bytes.TrimSpace(rest); !bytes.Equal(rest, []byte("}")) {
		out = append(out, ',')
	}
	return append(out, rest...)
}

// inText are the words of the plain text shape, and the fields behind each: all but the
// last have no spaces in them.
var inText = map[string][]string{"named": {"name"}, "entered": {"room", "members"}, "left": {"room"},
	"notice": {"room", "from", "seq", "text"}, "past": {"room", "from", "seq", "text"}, "whisper": {"from", "text"},
	"presence": {"room", "members"}, "joined": {"room", "name"}, "gone": {"room", "name"}, "refused": {"what", "why"},
	"welcome": {"board"}}

func asText(kind string, payload []byte) []byte {
	fields := map[string]any{}
	d := json.NewDecoder(bytes.NewReader(payload))
	d.UseNumber()
	if d.Decode(&fields) != nil {
		return payload
	}
	words := []string{strings.ToUpper(kind)}
	for _, name := range inText[kind] {
		switch v := fields[name].(type) {
		case string:
			words = append(words, v)
		case json.Number:
			words = append(words, v.String())
		}
	}
	return []byte(strings.Join(words, " "))
}

// ofText reads NAME x, ENTER room, LEAVE room, NOTICE room text, WHISPER to text.
func ofText(said string) []byte {
	word, rest, _ := strings.Cut(said, " ")
	kind := strings.ToLower(word)
	names := map[string][]string{"name": {"name"}, "enter": {"room"}, "leave": {"room"}, "notice": {"room", "text"},
		"whisper": {"to", "text"}}[kind]
	message := map[string]string{"kind": kind}
	for i, name := range names {
		if i+1 < len(names) {
			message[name], rest, _ = strings.Cut(rest, " ")
		} else {
			message[name] = rest
		}
	}
	b, _ := json.Marshal(message) // strings can always be written
	return b
}
