// Package http1 reads and writes the heads of HTTP/1.1 requests and responses
// (RFC 9112), over bytes.
package http1

import (
	"bytes"
	"strconv"
	"strings"

	"tidepull/internal/wire"
)

// maxHead is the longest head that is read.
const maxHead = 32 << 10

// A Head is the first line and the header fields of a message. Its strings are
// copies.
type Head struct {
	Method, Path string // of a request
	Old          bool   // of a request: it is HTTP/1.0
	Status       int    // of a response
	Reason       string // of a response
	Fields       []Field
}

// A Field is one header field; the name as it was sent.
type Field struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// Count is how many fields have a name.
func (h *Head) Count(name string) (n int) {
	for _, f := range h.Fields {
		if strings.EqualFold(f.Name, name) {
			n++
		}
	}
	return n
}

// Get returns the first value of the named field, or "".
func (h *Head) Get(name string) string {
	for _, f := range h.Fields {
		if equalFold(f.Name, name) {
			return f.Value
		}
	}
	return ""
}

// HasToken reports whether a field's comma-separated list holds a token, without
// regard to case (as Connection and Upgrade are read, RFC 9110 7.6.1, 7.8).
func (h *Head) HasToken(name, token string) bool {
	for _, f := range h.Fields {
		if !equalFold(f.Name, name) {
			continue
		}
		for _, part := range bytes.Split([]byte(f.Value), []byte(",")) {
			if equalFold(string(bytes.TrimSpace(part)), token) {
				return true
			}
		}
	}
	return false
}

func equalFold(a, b string) bool { return len(a) == len(b) && strings.EqualFold(a, b) }

// ConsumeRequest reads a request's head from the front of b. n is 0 if the
// head is not complete yet.
func ConsumeRequest(b []byte) (h Head, n int, err error) {
	first, fields, n, err := consumeHead(b)
	if n == 0 || err != nil {
		return h, 0, err
	}
	parts := strings.Split(first, " ")
	if len(parts) != 3 || parts[0] == "" || parts[1] == "" || !strings.HasPrefix(parts[2], "HTTP/1.") {
		return h, n, violation("the request line is not METHOD PATH HTTP/1.x", "RFC 9112 3")
	}
	h.Method, h.Path, h.Old = parts[0], parts[1], parts[2] == "HTTP/1.0"
	h.Fields, err = parseFields(fields)
	return h, n, err
}

// ConsumeResponse reads a response's head from the front of b. n is 0 where
// the head is not complete yet.
func ConsumeResponse(b []byte) (h Head, n int, err error) {
	first, fields, n, err := consumeHead(b)
	if n == 0 || err != nil {
		return h, 0, err
	}
	version, rest, _ := strings.Cut(first, " ")
	status, reason, _ := strings.Cut(rest, " ")
	code, convErr := strconv.Atoi(status)
	if !strings.HasPrefix(version, "HTTP/1.") || convErr != nil || len(status) != 3 || code < 100 {
		return h, n, violation("the status line is not HTTP/1.x STATUS REASON", "RFC 9112 4")
	}
	h.Status, h.Reason = code, reason
	h.Fields, err = parseFields(fields)
	return h, n, err
}

// consumeHead gives a head's first line and the lines behind it, as parts of one text. n counts the bytes up to and
// with the empty line, 0 if that has not come yet. Empty lines before the first one are skipped (RFC 9112 2.2).
func consumeHead(b []byte) (first, fields string, n int, err error) {
	start := -1
	for n < len(b) {
		i := bytes.IndexByte(b[n:], '\n')
		if i < 0 {
			break
		}
		end := n + i
		empty := end == n || end == n+1 && b[n] == '\r'
		if end+1 > maxHead {
			break
		}
		if empty && start >= 0 {
			first, fields, _ = strings.Cut(string(b[start:n]), "\n")
			return strings.TrimSuffix(first, "\r"), fields, end + 1, nil
		}
		if !empty && start < 0 {
			start = n
		}
		n = end + 1
	}
	if len(b) > maxHead {
		return "", "", 0, violation("the head is longer than 32 KiB", "RFC 9112 2.2")
	}
	return "", "", 0, nil
}

// parseFields reads the lines behind the first, each of which ends.
func parseFields(lines string) ([]Field, error) {
	fields := make([]Field, 0, strings.Count(lines, "\n"))
	for lines != "" {
		var line string
		line, lines, _ = strings.Cut(lines, "\n")
		name, value, ok := strings.Cut(strings.TrimSuffix(line, "\r"), ":")
		if !ok || name == "" || strings.ContainsAny(name, " \t") {
			return nil, violation("a header field is not NAME: VALUE", "RFC 9112 5")
		}
		// A zero byte becomes a space (RFC 9110 5.5).
		fields = append(fields, Field{name, strings.TrimSpace(strings.ReplaceAll(value, "\x00", " "))})
	}
	return fields, nil
}

func violation(rule, section string) error {
	return &wire.ProtocolError{Protocol: "http", Rule: rule, Section: section, Code: 400}
}

// AppendRequest appends a request's head.
func AppendRequest(dst []byte, method, path string, fields ...Field) []byte {
	dst = append(append(append(append(dst, method...), ' '), path...), " HTTP/1.1\r\n"...)
	return appendFields(dst, fields)
}

// AppendResponse appends a response's head.
func AppendResponse(dst []byte, status int, reason string, fields ...Field) []byte {
	dst = strconv.AppendInt(append(dst, "HTTP/1.1 "...), int64(status), 10)
	dst = append(append(append(dst, ' '), reason...), "\r\n"...)
	return appendFields(dst, fields)
}

func appendFields(dst []byte, fields []Field) []byte {
	for _, f := range fields {
		dst = append(append(append(append(dst, f.Name...), ": "...), f.Value...), "\r\n"...)
	}
	return append(dst, "\r\n"...)
}
