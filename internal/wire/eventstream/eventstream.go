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
	Data []byte // valid until the next call of Next
}

// A Reader reads a stream. Its zero value is at the beginning. After an error it
// must not be used again.
type Reader struct {
	Retry time.Duration // how long the server wants its clients to wait before they come back; 0 if it has not said

	Comments int // how many comments have come: servers send them as signs of life

	line   []byte // what has come of a line
	data   []byte // of the event under way, each line of it ended by LF
	name   string
	id     string
	begun  bool   // the beginning, where a byte order mark may stand, is over
	last   string // the id as of the last event that ended, with data or without
	given  bool   // data was given away as an event's
	afterR bool   // the last line ended with CR: a LF that comes next belongs to it
}

var byteOrderMark = []byte("\ufeff")

// Next takes bytes from the front of b, up to the end of an event, and tells how many it
// took. ok reports whether there is an event; if there is none all of b was taken. The
// error is a *wire.ProtocolError for an event longer than maxEvent.
func (r *Reader) Next(b []byte) (ev Event, n int, ok bool, err error) {
	if r.given { // the data of the last event is the caller's until now
		r.given, r.data = false, r.data[:0]
	}
	for n < len(b) {
		if r.afterR && b[n] == '\n' {
			n++
			r.afterR = false
			continue
		}
		r.afterR = false
		i := bytes.IndexAny(b[n:], "\r\n")
		ended := i >= 0
		if !ended {
			i = len(b) - n
		}
		if len(r.line)+len(r.data)+i > maxEvent {
			return ev, n, false, &wire.ProtocolError{Protocol: "event stream", Rule: "an event of more than " +
				strconv.Itoa(maxEvent>>20) + " MiB", Section: "a bound of this reader"}
		}
		r.line = append(r.line, b[n:n+i]...)
		if n += i; !ended {
			break
		}
		r.afterR = b[n] == '\r'
		n++
		if ev, ok = r.take(); ok {
			return ev, n, true, nil
		}
	}
	return ev, n, false, nil
}

// Feed takes bytes and calls f with each event that is whole. The error is that of Next.
func (r *Reader) Feed(b []byte, f func(Event)) error {
	for len(b) > 0 {
		ev, n, ok, err := r.Next(b)
		if err != nil {
			return err
		}
		if b = b[n:]; ok {
			f(ev)
		}
	}
	return nil
}

// LastID is what a client that comes back says it has had last (9.2.4); "" if the stream
// has given no id.
func (r *Reader) LastID() string { return r.last }

// Restart makes the reader ready for another stream of the same server, which goes on
// where the last one ended.
func (r *Reader) Restart() {
	*r = Reader{Retry: r.Retry, Comments: r.Comments, id: r.last, last: r.last, line: r.line[:0], data: r.data[:0]}
}

// Held is how many bytes it holds of an event that is not whole.
func (r *Reader) Held() int { return len(r.line) + len(r.data) }

// take handles a whole line (9.2.6); ok reports whether it ended an event.
func (r *Reader) take() (ev Event, ok bool) {
	line := r.line
	if !r.begun {
		line = bytes.TrimPrefix(line, byteOrderMark)
		r.begun = true
	}
	r.line = r.line[:0]
	if len(line) > 0 && line[0] == ':' {
		r.Comments++
		return ev, false
	}
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
		return ev, false
	}
	r.last = r.id
	if ok = len(r.data) > 0; ok {
		ev = Event{r.name, r.id, r.data[:len(r.data)-1]}
	}
	r.name, r.given = "", ok
	return ev, ok
}
