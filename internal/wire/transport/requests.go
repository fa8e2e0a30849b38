package transport

import (
	"net/url"
	"slices"
	"strconv"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/wire"
	"tidepull/internal/wire/http1"
)

// A Request is one HTTP request (RFC 9110).
type Request struct {
	Method    string
	Path      string        // the target, with the query
	Fields    []http1.Field // those of its content aside
	Type      string        // of the content
	Content   []byte        // nil if there is none
	Redirects int           // how many are followed
}

// Requests is a client's connection for HTTP requests, with its cookies. There is
// one request at a time; the connection stays open in between if the server lets
// it. Its zero value is not connected.
type Requests struct {
	Jar     http1.Jar
	open    bool
	busy    bool // a request is under way
	used    bool // the connection has served a request already
	host    string
	to      *wire.Endpoint
	request Request
	out     []byte // the request on the wire
	answer  http1.Exchange
	partial partial
	quiet   mono.Time // when the last answer ended
}

// maxQuiet is how long a kept connection may have been unused before a request
// that cannot be sent again gets a new one.
const maxQuiet = time.Second

// idempotent reports whether a request may be sent again if the connection was
// closed before it was answered: doing it twice is as doing it once (RFC 9110
// 9.2.2).
func idempotent(method string) bool {
	return slices.Contains([]string{"GET", "HEAD", "PUT", "DELETE", "OPTIONS", "TRACE"}, method)
}

// Ask makes a request. Reply or Failed follows.
func (m *Requests) Ask(io *IO, to *wire.Endpoint, host string, r Request) {
	m.to, m.host, m.request = to, host, r
	m.send(io)
}

func (m *Requests) send(io *IO) {
	r := &m.request
	all := []http1.Field{{Name: "Host", Value: m.host}}
	if cookies := m.Jar.Field(); cookies != "" {
		all = append(all, http1.Field{Name: "Cookie", Value: cookies})
	}
	all = append(all, r.Fields...)
	if r.Content != nil {
		all = append(all, http1.Field{Name: "Content-Type", Value: r.Type},
			http1.Field{Name: "Content-Length", Value: strconv.Itoa(len(r.Content))})
	}
	if m.open && m.used && !idempotent(r.Method) && io.Now.Sub(m.quiet) > maxQuiet {
		m.hangUp(io) // the server may be about to close it, and this could not be sent again
	}
	m.busy = true
	m.answer = http1.Exchange{Method: r.Method}
	m.out = append(http1.AppendRequest(m.out[:0], r.Method, r.Path, all...), r.Content...)
	if m.open {
		io.Lines[Side].Out = append(io.Lines[Side].Out, m.out...)
		return
	}
	io.Lines[Side].Dial = m.to
}

// Connected tells that the line is open.
func (m *Requests) Connected(io *IO) {
	m.open, m.used = true, false
	if m.busy {
		io.Lines[Side].Out = append(io.Lines[Side].Out, m.out...)
	}
}

// Take takes in bytes of an answer; see Machine.
func (m *Requests) Take(io *IO, b []byte) {
	if !m.busy {
		m.hangUp(io) // nothing was asked for
		return
	}
	m.partial.take(io, Side, b)
}

// Next gives what happened; see Machine.
func (m *Requests) Next(io *IO) Event {
	if io.waits(Side) {
		return io.waiting(Side)
	}
	if !m.busy {
		return Event{}
	}
	before := len(m.answer.Content)
	n, err := m.answer.Take(io.taking[Side])
	io.Held += len(m.answer.Content) - before
	io.consumed(Side, n)
	switch {
	case err != nil:
		return m.failed(io, err)
	case m.answer.Done():
		return m.whole(io)
	case !m.partial.keep(io, Side):
		return m.failed(io, tooMuchHeld)
	}
	return Event{}
}

// whole handles that the answer is whole: it is followed elsewhere, or given.
func (m *Requests) whole(io *IO) Event {
	h, content := m.answer.Head, m.answer.Content
	if h.HasToken("Connection", "close") || m.answer.UntilClose() {
		m.hangUp(io)
	}
	m.forget(io)
	m.used, m.quiet = true, io.Now
	m.Jar.Keep(&h)
	if h.Status/100 == 3 && m.request.Redirects > 0 && m.redirect(io, &h) {
		return Event{}
	}
	return Event{Kind: Reply, Head: &h, Payload: content}
}

// redirect follows an answer to another path of the same server; false if it
// leads elsewhere.
func (m *Requests) redirect(io *IO, h *http1.Head) bool {
	to, err := url.Parse(h.Get("Location"))
	if err != nil || h.Get("Location") == "" || to.Host != "" && to.Host != m.host {
		return false
	}
	base := &url.URL{Path: "/"}
	if at, err := url.ParseRequestURI(m.request.Path); err == nil {
		base = at
	}
	r := &m.request
	r.Redirects--
	r.Path = Target(base.ResolveReference(to).RequestURI())
	if h.Status == 303 || r.Method == "POST" && h.Status < 307 {
		r.Method, r.Content = "GET", nil // RFC 9110 15.4
	}
	m.send(io)
	return true
}

func (m *Requests) failed(io *IO, err error) Event {
	m.forget(io)
	m.hangUp(io)
	return Event{Kind: Failed, Err: err}
}

// forget ends the request under way.
func (m *Requests) forget(io *IO) {
	io.Held -= len(m.answer.Content)
	m.answer, m.busy = http1.Exchange{}, false
	m.partial.drop(io, Side)
}

// hangUp closes the connection.
func (m *Requests) hangUp(io *IO) {
	m.open = false
	io.Lines[Side].Hangup = true
}

// GiveUp ends the request under way without an answer.
func (m *Requests) GiveUp(io *IO) {
	m.forget(io)
	m.hangUp(io)
}

// Lost tells that the connection is gone.
func (m *Requests) Lost(io *IO, err error) {
	m.open = false
	switch {
	case !m.busy:
	case m.answer.UntilClose():
		io.event[Side] = m.whole(io)
	case m.used && !m.answer.Headed() && len(m.partial.bytes) == 0 && idempotent(m.request.Method):
		m.used = false
		io.Lines[Side].Dial = m.to // it was closed while the request was on its way
	default:
		m.forget(io)
		io.event[Side] = Event{Kind: Failed, Err: err}
	}
}

// Drop closes the connection and forgets everything.
func (m *Requests) Drop(io *IO) {
	if m.open || m.busy {
		m.GiveUp(io)
	}
}

// Target makes a request's target out of a text: an absolute path, without what
// would end the request line (RFC 9112 3.2.1).
func Target(s string) string {
	path := make([]byte, 0, len(s)+1)
	if s == "" || s[0] != '/' {
		path = append(path, '/')
	}
	for i := range len(s) {
		if s[i] > ' ' && s[i] != 0x7f {
			path = append(path, s[i])
		}
	}
	return string(path)
}
