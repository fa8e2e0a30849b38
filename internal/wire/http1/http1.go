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

func equalFold(a, b string) bool { return bytes.EqualFold([]byte(a), []byte(b)) }

// ConsumeRequest reads a request's head from the front of b. n is 0 if the
// head is not complete yet.
func ConsumeRequest(b []byte) (h Head, n int, err error) {
	lines, n, err := consumeLines(b)
	if n == 0 || err != nil {
		return h, 0, err
	}
	parts := bytes.Split(lines[0], []byte(" "))
	if len(parts) != 3 || len(parts[0]) == 0 || len(parts[1]) == 0 || !bytes.HasPrefix(parts[2], []byte("HTTP/1.")) {
		return h, n, violation("the request line is not METHOD PATH HTTP/1.x", "RFC 9112 3")
	}
	h.Method, h.Path, h.Old = string(parts[0]), string(parts[1]), string(parts[2]) == "HTTP/1.0"
	h.Fields, err = parseFields(lines[1:])
	return h, n, err
}

// ConsumeResponse reads a response's head from the front of b. n is 0 where
// the head is not complete yet.
func ConsumeResponse(b []byte) (h Head, n int, err error) {
	lines, n, err := consumeLines(b)
	if n == 0 || err != nil {
		return h, 0, err
	}
	version, rest, _ := bytes.Cut(lines[0], []byte(" "))
	status, reason, _ := bytes.Cut(rest, []byte(" "))
	code, convErr := strconv.Atoi(string(status))
	if !bytes.HasPrefix(version, []byte("HTTP/1.")) || convErr != nil || len(status) != 3 || code < 100 {
		return h, n, violation("the status line is not HTTP/1.x STATUS REASON", "RFC 9112 4")
	}
	h.Status, h.Reason = code, string(reason)
	h.Fields, err = parseFields(lines[1:])
	return h, n, err
}

// consumeLines splits a head into its lines. n counts the bytes up to and with
// the empty line, 0 if that has not come yet.
func consumeLines(b []byte) (lines [][]byte, n int, err error) {
	for n < len(b) {
		i := bytes.IndexByte(b[n:], '\n')
		if i < 0 {
			break
		}
		line := bytes.TrimSuffix(b[n:n+i], []byte("\r"))
		n += i + 1
		if n > maxHead {
			break
		}
		if len(line) > 0 {
			lines = append(lines, line)
		} else if len(lines) > 0 {
			return lines, n, nil
		}
	}
	if len(b) > maxHead {
		return nil, 0, violation("the head is longer than 32 KiB", "RFC 9112 2.2")
	}
	return nil, 0, nil
}

func parseFields(lines [][]byte) ([]Field, error) {
	fields := make([]Field, 0, len(lines))
	for _, line := range lines {
		name, value, ok := bytes.Cut(line, []byte(":"))
		if !ok || len(name) == 0 || bytes.ContainsAny(name, " \t") {
			return nil, violation("a header field is not NAME: VALUE", "RFC 9112 5")
		}
		// A zero byte becomes a space (RFC 9110 5.5).
		value = bytes.TrimSpace(bytes.ReplaceAll(value, []byte{0}, []byte{' '}))
		fields = append(fields, Field{string(name), string(value)})
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
