package client

import (
	"bytes"
	"encoding/json"
	"fmt"
	"regexp"
)

// shapeOf appends what messages of one sort have in common: their beginning, with each number, and each word with a
// digit in it, as one #, and what stands as a text in JSON, if it is longer than a word, as one ~.
func shapeOf(dst, payload []byte) []byte {
	payload = payload[:min(len(payload), 4*inShape)]
	isJSON := len(payload) > 0 && (payload[0] == '{' || payload[0] == '[')
	for i := 0; i < len(payload) && len(dst) < inShape; {
		if c := payload[i]; isJSON && c == '"' {
			end := endOfText(payload, i+1)
			if text := payload[i+1 : end]; isValue(payload, end) && !isWord(text) {
				dst = append(dst, '~')
			} else {
				dst = append(dst, text...)
			}
			i = end + 1
			continue
		} else if !partOfWord(c) {
			dst = append(dst, c)
			i++
			continue
		}
		end, digits := i, false
		for end < len(payload) && partOfWord(payload[end]) {
			digits = digits || payload[end] >= '0' && payload[end] <= '9'
			end++
		}
		if digits {
			dst = append(dst, '#')
		} else {
			dst = append(dst, payload[i:end]...)
		}
		i = end
	}
	return dst
}

// endOfText is where the quotation mark stands that ends a text of JSON, or where the bytes end.
func endOfText(b []byte, from int) int {
	for i := from; i < len(b); i++ {
		switch b[i] {
		case '\\':
			i++
		case '"':
			return i
		}
	}
	return len(b)
}

// isValue reports whether the text that ends somewhere is a value, and not the name of a field.
func isValue(b []byte, end int) bool {
	rest := bytes.TrimLeft(b[min(end+1, len(b)):], " \t\r\n")
	return len(rest) == 0 || rest[0] != ':'
}

// isWord reports whether a text is short and has no digit: a kind of message, and not what differs from one to the
// next.
func isWord(text []byte) bool {
	const longest = 20
	if len(text) > longest {
		return false
	}
	for _, c := range text {
		if c == ' ' || c >= '0' && c <= '9' {
			return false
		}
	}
	return true
}

func partOfWord(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '-' || c == '_' || c == '.'
}

// kindFields are those in which servers usually say what a message is.
var kindFields = []string{"kind", "type", "event", "op", "action", "cmd", "command", "method", "t", "topic", "name"}

var kindLike = regexp.MustCompile(`^[A-Za-z_.:/-]{1,40}$`)

// troubleLike are kinds of messages that nobody should have mean nothing.
var troubleLike = regexp.MustCompile(`(?i)err|fail|refus|reject|denied|deny|forbid|unauth|invalid|close|bye|kick|ban`)

// taking says with which line of the dialect messages like one would count as recognised; "" if none can be given.
func taking(message []byte) string {
	var fields map[string]any
	if len(message) > maxWords || json.Unmarshal(message, &fields) != nil {
		return ""
	}
	for _, name := range kindFields {
		if kind, is := fields[name].(string); is && kindLike.MatchString(kind) && !troubleLike.MatchString(kind) {
			return fmt.Sprintf("; other { when = msg.%s == %q } in the dialect would take it", name, kind)
		}
	}
	return ""
}
