package http1

import (
	"bytes"
	"strconv"
	"strings"
)

// A Body reads the content of one message from the bytes behind its head
// (RFC 9112 6). It keeps nothing: what it reads is handed on piece by piece.
type Body struct {
	mode framing
	left int64 // bytes of the content, or of the chunk
}

type framing uint8

const (
	nothing framing = iota
	counted
	untilClose
	chunkSize    // the line before a chunk
	chunkData    // inside one
	chunkEnd     // the line end behind one
	chunkTrailer // the fields behind the last one
)

// ResponseBody says how the content of a response is framed (RFC 9112 6.3);
// method is its request's.
func ResponseBody(h *Head, method string) (Body, error) {
	if method == "HEAD" || h.Status/100 == 1 || h.Status == 204 || h.Status == 304 {
		return Body{}, nil
	}
	return body(h, Body{mode: untilClose})
}

// RequestBody says how the content of a request is framed.
func RequestBody(h *Head) (Body, error) { return body(h, Body{}) }

func body(h *Head, otherwise Body) (Body, error) {
	if te := h.Get("Transfer-Encoding"); te != "" {
		if !strings.EqualFold(strings.TrimSpace(te), "chunked") {
			return Body{}, violation("the transfer encoding is not chunked", "RFC 9112 6.1")
		}
		return Body{mode: chunkSize}, nil
	}
	length := h.Get("Content-Length")
	if length == "" {
		return otherwise, nil
	}
	n, err := strconv.ParseUint(length, 10, 62)
	if err != nil {
		return Body{}, violation("the content length is no number", "RFC 9112 6.2")
	}
	for _, f := range h.Fields {
		if equalFold(f.Name, "Content-Length") && f.Value != length {
			return Body{}, violation("there are two content lengths", "RFC 9112 6.3")
		}
	}
	if n == 0 {
		return Body{}, nil
	}
	return Body{mode: counted, left: int64(n)}, nil
}

// Done reports whether the content is over.
func (b *Body) Done() bool { return b.mode == nothing }

// UntilClose reports whether the content ends with the connection.
func (b *Body) UntilClose() bool { return b.mode == untilClose }

// maxLine bounds a chunk's first line, and a trailer field.
const maxLine = 4096

// Next takes content from the front of in and tells how many bytes it took; the
// content is borrowed. If n is 0 more bytes are needed, or the content is
// over (Done).
func (b *Body) Next(in []byte) (content []byte, n int, err error) {
	switch b.mode {
	case nothing:
		return nil, 0, nil
	case untilClose:
		return in, len(in), nil
	case counted, chunkData:
		n = int(min(b.left, int64(len(in))))
		if b.left -= int64(n); b.left == 0 {
			if b.mode == counted {
				b.mode = nothing
			} else {
				b.mode = chunkEnd
			}
		}
		return in[:n], n, nil
	}
	i := bytes.IndexByte(in, '\n')
	if i < 0 {
		if len(in) > maxLine {
			return nil, 0, violation("a line of the chunked coding is too long", "RFC 9112 7.1")
		}
		return nil, 0, nil
	}
	return nil, i + 1, b.chunkLine(bytes.TrimSuffix(in[:i], []byte("\r")))
}

func (b *Body) chunkLine(line []byte) error {
	switch b.mode {
	case chunkEnd:
		if len(line) > 0 {
			return violation("a chunk is longer than it says", "RFC 9112 7.1")
		}
		b.mode = chunkSize
	case chunkTrailer:
		if len(line) == 0 {
			b.mode = nothing
		}
	default:
		size, _, _ := bytes.Cut(line, []byte(";"))
		n, err := strconv.ParseUint(string(bytes.TrimSpace(size)), 16, 62)
		if err != nil {
			return violation("a chunk's size is no number", "RFC 9112 7.1")
		}
		b.left, b.mode = int64(n), chunkData
		if n == 0 {
			b.mode = chunkTrailer
		}
	}
	return nil
}
