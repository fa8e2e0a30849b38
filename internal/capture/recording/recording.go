// Package recording is what went between clients and a server, kept with times:
// its entries, the JSON Lines they are kept in (docs/recording.md), the Tap that
// makes them out of the bytes on a connection, and the import of HAR files.
package recording

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"
	"unicode/utf8"

	"tidepull/internal/base/plain"
	"tidepull/internal/wire/http1"
)

// Version is the version of the format.
const Version = 1

// A Recording is what was kept.
type Recording struct {
	Version int    `json:"tidepull_recording"`
	Made    string `json:"made,omitempty"` // RFC 3339
	By      string `json:"by,omitempty"`   // "record", "import" or "probe"
	Target  string `json:"target,omitempty"`
	// Over, of one by the probe that is not kept, is how messages came if not over a
	// WebSocket: an attribute of a target. Post and Every belong to it.
	Over    string        `json:"-"`
	Post    string        `json:"-"`
	Every   time.Duration `json:"-"`
	Entries []Entry       `json:"-"`
}

// What an Entry is about.
const (
	Open    = "open"    // a connection to the server is there
	Head    = "head"    // an HTTP request's or answer's head
	Content = "content" // of an HTTP message, as far as it came at once
	Event   = "event"   // of an event stream
	Message = "message" // of WebSocket
	Ping    = "ping"
	Pong    = "pong"
	Close   = "close" // the closing frame
	Data    = "data"  // bytes of something else, such as lines over TCP
	End     = "end"   // the connection is gone, or one side has ended it
	Trouble = "trouble"
)

// Who sent something.
const (
	Client = "client"
	Server = "server"
)

// An Entry is one thing that went over one connection.
type Entry struct {
	At         int64         `json:"at_us"` // microseconds since the recording began
	Conn       int           `json:"conn"`  // counts connections from 1
	What       string        `json:"what"`
	From       string        `json:"from,omitempty"`
	Kind       string        `json:"kind,omitempty"`       // of a message: "text" or "binary"; of an event its name
	Start      string        `json:"start,omitempty"`      // of a head: its first line
	Fields     []http1.Field `json:"fields,omitempty"`     // of a head
	Text       string        `json:"text,omitempty"`       // what it says, if it is UTF-8
	Bytes      []byte        `json:"bytes,omitempty"`      // if it is not
	Fragments  int           `json:"fragments,omitempty"`  // of a message, if it came in more than one
	Compressed int           `json:"compressed,omitempty"` // of a message: how many bytes it took
	Code       int           `json:"code,omitempty"`       // of close
	ID         string        `json:"id,omitempty"`         // of an event
	Why        string        `json:"why,omitempty"`        // of end and trouble
}

// Payload is what an entry says.
func (e *Entry) Payload() []byte {
	if e.Bytes != nil {
		return e.Bytes
	}
	return []byte(e.Text)
}

// SetPayload sets what an entry says.
func (e *Entry) SetPayload(b []byte) {
	if utf8.Valid(b) {
		e.Text, e.Bytes = string(b), nil
		return
	}
	e.Text, e.Bytes = "", bytes.Clone(b)
}

// maxLine is the longest line of a recording that is read.
const maxLine = 64 << 20

// An Error says which line of a recording is wrong.
type Error struct {
	Line int
	Why  string
}

func (e *Error) Error() string { return fmt.Sprintf("line %d of the recording: %s", e.Line, e.Why) }

// Read reads a recording. If a line is wrong the error is an *Error; a last
// line that was cut off is left out.
func Read(r io.Reader) (*Recording, error) {
	lines := bufio.NewScanner(r)
	lines.Buffer(make([]byte, 64<<10), maxLine)
	rec := &Recording{}
	for n := 1; lines.Scan(); n++ {
		line := bytes.TrimSpace(lines.Bytes())
		if len(line) == 0 {
			continue
		}
		if rec.Version == 0 {
			if err := json.Unmarshal(line, rec); err != nil || rec.Version == 0 {
				return nil, &Error{n, `the first line is not {"tidepull_recording":1,...}`}
			}
			if rec.Version > Version {
				return nil, &Error{n, fmt.Sprintf("it is of version %d; this tool reads up to %d", rec.Version,
					Version)}
			}
			continue
		}
		var e Entry
		if err := json.Unmarshal(line, &e); err != nil {
			if !lines.Scan() {
				break // cut off in the middle of writing
			}
			return nil, &Error{n, plain.Text(err.Error(), 200)}
		}
		if wrong := e.check(); wrong != "" {
			return nil, &Error{n, wrong}
		}
		rec.Entries = append(rec.Entries, e)
	}
	if err := lines.Err(); err != nil {
		if errors.Is(err, bufio.ErrTooLong) {
			return nil, &Error{len(rec.Entries) + 2, "it is longer than 64 MiB"}
		}
		return nil, fmt.Errorf("reading the recording: %w", err)
	}
	if rec.Version == 0 {
		return nil, &Error{1, "the recording is empty"}
	}
	return rec, nil
}

func (e *Entry) check() string {
	switch e.What {
	case Open, Head, Content, Event, Message, Ping, Pong, Close, Data, End, Trouble:
	default:
		return fmt.Sprintf("there is no entry of the kind %q", plain.Text(e.What, 40))
	}
	switch {
	case e.Conn < 1:
		return "a connection's number is 1 or more"
	case e.From != "" && e.From != Client && e.From != Server:
		return `"from" is "client" or "server"`
	case e.At < 0:
		return "a time is negative"
	}
	return ""
}

// A Writer writes a recording, entry by entry.
type Writer struct {
	w   io.Writer
	err error
}

// NewWriter begins a recording.
func NewWriter(w io.Writer, head Recording) *Writer {
	head.Version = Version
	rw := &Writer{w: w}
	rw.line(head)
	return rw
}

func (w *Writer) line(v any) {
	if w.err != nil {
		return
	}
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	if w.err = enc.Encode(v); w.err == nil {
		_, w.err = w.w.Write(b.Bytes())
	}
}

// Write writes an entry; the first error is kept and returned from then on.
func (w *Writer) Write(e Entry) error {
	w.line(e)
	return w.err
}

// Write writes a whole recording.
func (r *Recording) Write(out io.Writer) error {
	w := NewWriter(out, *r)
	for _, e := range r.Entries {
		w.line(e)
	}
	return w.err
}
