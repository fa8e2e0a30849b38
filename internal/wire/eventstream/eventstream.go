// Package eventstream reads event streams (WHATWG HTML 9.2, "Server-sent events"),
// over bytes: no sockets, no clock, no goroutines.
package eventstream

import (
	"bytes"
	"strconv"
	"time"

	"tidepull/internal/wire"
)

// maxEvent is the longest event that is read, in bytes.
const maxEvent = 4 << 20

// An Event is one event of a stream.
type Event struct {
	Name string // "" stands for message
	ID   string // the last one that the stream has given
	Data []byte // valid until the next call of Feed
}

// A Reader reads a stream. Its zero value is at the beginning. After an error it
// must not be used again.
type Reader struct {
	Retry time.Duration // how long the server wants its clients to wait before they come back; 0 if it has not said

	line   []byte // what has come of a line
	data   []byte // of the event under way, each line of it ended by LF
	name   string
	id     string
	begun  bool // the beginning, where a byte order mark may stand, is over
	afterR bool // the last line ended with CR: a LF that comes next belongs to it
}

var byteOrderMark = []byte("\ufeff")

// Feed takes bytes and calls f with each event that is whole. The error is a
// *wire.ProtocolError for an event longer than maxEvent.
func (r *Reader) Feed(b []byte, f func(Event)) error {
	for len(b) > 0 {
		if r.afterR && b[0] == '\n' {
			b = b[1:]
			r.afterR = false
			continue
		}
		r.afterR = false
		i := bytes.IndexAny(b, "\r\n")
		if i < 0 {
			i = len(b)
		}
		if len(r.line)+len(r.data)+i > maxEvent {
			return &wire.ProtocolError{Protocol: "event stream", Rule: "an event of more than " +
				strconv.Itoa(maxEvent>>20) + " MiB", Section: "a bound of this reader"}
		}
		r.line = append(r.line, b[:i]...)
		if i == len(b) {
			return nil
		}
		r.afterR = b[i] == '\r'
		b = b[i+1:]
		r.take(f)
	}
	return nil
}

// take handles a whole line (9.2.6).
func (r *Reader) take(f func(Event)) {
	line := r.line
	if !r.begun {
		line = bytes.TrimPrefix(line, byteOrderMark)
		r.begun = true
	}
	r.line = r.line[:0]
	field, value, _ := bytes.Cut(line, []byte(":"))
	value = bytes.TrimPrefix(value, []byte(" "))
	switch string(field) {
	case "data":
		r.data = append(append(r.data, value...), '\n')
	case "event":
		r.name = string(value)
	case "id":
		if bytes.IndexByte(value, 0) < 0 {
			r.id = string(value)
		}
	case "retry":
		if ms, err := strconv.ParseUint(string(value), 10, 31); err == nil {
			r.Retry = time.Duration(ms) * time.Millisecond
		}
	}
	if len(line) > 0 {
		return
	}
	if len(r.data) > 0 {
		f(Event{r.name, r.id, r.data[:len(r.data)-1]})
	}
	r.name, r.data = "", r.data[:0]
}
