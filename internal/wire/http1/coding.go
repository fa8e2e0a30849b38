package http1

import (
	"bytes"
	"compress/gzip"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"
)

// RetryAfter is how long an answer wants its client to wait (RFC 9110 10.2.3); false if
// it does not say so, or not in a way that can be read.
func (h *Head) RetryAfter(now time.Time) (time.Duration, bool) {
	said := h.Get("Retry-After")
	if said == "" {
		return 0, false
	}
	if n, err := strconv.ParseUint(said, 10, 31); err == nil {
		return time.Duration(n) * time.Second, true
	}
	at, err := http.ParseTime(said)
	return max(0, at.Sub(now)), err == nil
}

// Decoded gives what an answer's content says, without its coding: gzip is read, also if
// nobody asked for it (RFC 9110 8.4.1.3). The error is a *wire.ProtocolError for another
// coding, for content that is not what its coding says, and for more than 8 MiB.
func Decoded(h *Head, content []byte) ([]byte, error) {
	switch coding := strings.ToLower(h.Get("Content-Encoding")); coding {
	case "", "identity":
		return content, nil
	case "gzip", "x-gzip":
	default:
		return nil, violation("the content is coded in a way that was not asked for", "RFC 9110 8.4")
	}
	if len(content) == 0 { // to HEAD, or without content
		return content, nil
	}
	r, err := gzip.NewReader(bytes.NewReader(content))
	if err != nil {
		return nil, violation("the content is no gzip", "RFC 1952")
	}
	out, err := io.ReadAll(io.LimitReader(r, maxContent+1))
	switch {
	case err != nil:
		return nil, violation("the content is no whole gzip", "RFC 1952")
	case len(out) > maxContent:
		return nil, violation("the content unfolds to more than 8 MiB", "a bound of this reader")
	}
	return out, nil
}
