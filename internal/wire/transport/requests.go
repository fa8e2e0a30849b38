package transport

import (
	"net/url"
	"slices"
	"strconv"
	"strings"
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
	// Streams hands the content of a good answer on as it comes: Headed, Parts and, once it
	// is over, a Reply without content. Other answers are a Reply as they are without it.
	Streams bool
	Asks    bool // it asks for what there is, whatever its method: asking twice is as asking once
}

// again reports whether it may be sent again if the connection was closed before it was answered: doing it twice is as
// doing it once (RFC 9110 9.2.2).
func (r *Request) again() bool { return r.Asks || idempotent(r.Method) }

// Requests is a client's connection for HTTP requests. There is one request at a time;
// the connection stays open in between if the server lets it. Its zero value is not
// connected.
type Requests struct {
	Line    int        // that it uses
	Jar     *http1.Jar // its cookies; nil: it has none, and keeps none
	open    bool
	busy    bool // a request is under way
	used    bool // the connection has served a request already
	headed  bool // that the answer began was told
	gathers bool // the answer is no good one, and is gathered although the request streams
	host    string
	to      *wire.Endpoint
	request Request
	out     []byte // the request on the wire
	answer  http1.Exchange
	partial partial
	quiet   mono.Time     // when the last answer ended
	stays   time.Duration // how long the connection may be unused from then on
}

// maxQuiet is how long a kept connection may have been unused before a request that
// cannot be sent again gets a new one: a server may be about to close it. Many close
// after 5 seconds; others say after how many (Keep-Alive: timeout=).
const maxQuiet = 4 * time.Second

// quietFor is how long a server lets a connection be, less a second.
func quietFor(h *http1.Head) time.Duration {
	for _, part := range strings.Split(h.Get("Keep-Alive"), ",") {
		if text, is := strings.CutPrefix(strings.TrimSpace(part), "timeout="); is {
			if n, err := strconv.Atoi(text); err == nil && n >= 0 && n < 3600 {
				return time.Duration(max(0, n-1)) * time.Second
			}
		}
	}
	return maxQuiet
}

// idempotent reports whether requests with a method may be done twice (RFC 9110 9.2.2).
func idempotent(method string) bool {
	return slices.Contains([]string{"GET", "HEAD", "PUT", "DELETE", "OPTIONS", "TRACE"}, method)
}

// Ask makes a request. Reply or Failed follows.
func (m *Requests) Ask(io *IO, to *wire.Endpoint, host string, r Request) {
	if m.to != nil && *m.to != *to && m.open {
		m.hangUp(io) // a redirect had led elsewhere
	}
	m.to, m.host, m.request = to, host, r
	m.send(io)
}

// Busy reports whether a request is under way.
func (m *Requests) Busy() bool { return m.busy }

func (m *Requests) send(io *IO) {
	r := &m.request
	all := []http1.Field{{Name: "Host", Value: m.host}}
	if m.Jar != nil {
		if cookies := m.Jar.Field(m.host, r.Path, m.to.TLS != "", io.Wall()); cookies != "" {
			all = append(all, http1.Field{Name: "Cookie", Value: cookies})
		}
	}
	all = append(all, r.Fields...)
	switch {
	case r.Content == nil && r.Method == "POST": // RFC 9110 8.6: who sends none says so
		all = append(all, http1.Field{Name: "Content-Length", Value: "0"})
	case r.Content != nil:
		all = append(all, http1.Field{Name: "Content-Type", Value: r.Type},
			http1.Field{Name: "Content-Length", Value: strconv.Itoa(len(r.Content))})
	}
	if m.open && m.used && !r.again() && io.Now.Sub(m.quiet) > m.stays {
		m.hangUp(io) // the server may be about to close it, and this could not be sent again
	}
	m.busy, m.headed, m.gathers = true, false, false
	m.answer = http1.Exchange{Method: r.Method}
	m.out = append(http1.AppendRequest(m.out[:0], r.Method, r.Path, all...), r.Content...)
	if m.open {
		m.write(io)
		return
	}
	io.Lines[m.Line].Dial = m.to
}

// write sends the request over the connection.
func (m *Requests) write(io *IO) {
	io.Asked++
	io.Lines[m.Line].Out = append(io.Lines[m.Line].Out, m.out...)
}

// Connected tells that the line is open.
func (m *Requests) Connected(io *IO) {
	m.open, m.used = true, false
	if m.busy {
		m.write(io)
	}
}

// Take takes in bytes of an answer; see Machine.
func (m *Requests) Take(io *IO, b []byte) {
	if !m.busy {
		m.hangUp(io) // nothing was asked for
		return
	}
	m.partial.take(io, m.Line, b)
}

// Next gives what happened; see Machine.
func (m *Requests) Next(io *IO) Event {
	if io.waits(m.Line) {
		return io.waiting(m.Line)
	}
	if !m.busy {
		return Event{}
	}
	if m.request.Streams && !m.gathers {
		return m.stream(io)
	}
	before := len(m.answer.Content)
	n, err := m.answer.Take(io.taking[m.Line])
	io.Held += len(m.answer.Content) - before
	io.consumed(m.Line, n)
	switch {
	case err != nil:
		return m.failed(io, err)
	case m.answer.Done():
		return m.whole(io)
	case !m.partial.keep(io, m.Line):
		return m.failed(io, tooMuchHeld)
	}
	return Event{}
}

// stream gives the next of an answer that is handed on as it comes.
func (m *Requests) stream(io *IO) Event {
	if !m.answer.Headed() {
		n, err := m.answer.TakeHead(io.taking[m.Line])
		io.consumed(m.Line, n)
		switch {
		case err != nil:
			return m.failed(io, err)
		case !m.answer.Headed():
			if !m.partial.keep(io, m.Line) {
				return m.failed(io, tooMuchHeld)
			}
			return Event{}
		case m.answer.Head.Status/100 != 2:
			m.gathers = true
			return m.Next(io)
		}
	}
	if !m.headed {
		m.headed = true
		if m.Jar != nil {
			m.Jar.Keep(&m.answer.Head, m.host, m.request.Path, io.Wall())
		}
		return Event{Kind: Headed, Head: &m.answer.Head}
	}
	for !m.answer.Done() {
		part, n, err := m.answer.Next(io.taking[m.Line])
		io.consumed(m.Line, n)
		switch {
		case err != nil:
			return m.failed(io, err)
		case len(part) > 0:
			return Event{Kind: Part, Payload: part, Shared: len(io.taking[m.Line]) > 0}
		case n == 0:
			if !m.partial.keep(io, m.Line) {
				return m.failed(io, tooMuchHeld)
			}
			return Event{}
		}
	}
	return m.whole(io)
}

// whole handles that the answer is whole: it is followed elsewhere, or given.
func (m *Requests) whole(io *IO) Event {
	h, content, headed := m.answer.Head, m.answer.Content, m.headed
	if h.HasToken("Connection", "close") || m.answer.UntilClose() || len(io.taking[m.Line]) > 0 {
		m.hangUp(io) // what comes unasked would be taken for the next answer
	}
	m.forget(io)
	m.used, m.quiet, m.stays = true, io.Now, quietFor(&h)
	if headed { // as a stream: all of it was given
		return Event{Kind: Reply, Head: &h}
	}
	if m.Jar != nil {
		m.Jar.Keep(&h, m.host, m.request.Path, io.Wall())
	}
	if h.Status/100 == 3 && m.request.Redirects > 0 && m.redirect(io, &h) {
		return Event{}
	}
	content, err := http1.Decoded(&h, content)
	if err != nil {
		return Event{Kind: Failed, Err: err}
	}
	return Event{Kind: Reply, Head: &h, Payload: content}
}

// redirect follows an answer to where it leads; false if that cannot be: nobody knows
// the address of the other host.
func (m *Requests) redirect(io *IO, h *http1.Head) bool {
	to, err := url.Parse(h.Get("Location"))
	if err != nil || h.Get("Location") == "" {
		return false
	}
	base := &url.URL{Path: "/"}
	if at, err := url.ParseRequestURI(m.request.Path); err == nil {
		base = at
	}
	r := &m.request
	if to.Host != "" && to.Host != m.host && !m.moveTo(io, to) {
		return false
	}
	r.Redirects--
	r.Path = Target(base.ResolveReference(to).RequestURI())
	if h.Status == 303 || r.Method == "POST" && h.Status < 307 {
		r.Method, r.Content = "GET", nil // RFC 9110 15.4
	}
	m.send(io)
	return true
}

// moveTo makes another host the one that is asked. A credential does not go there: it
// was given for the first one.
func (m *Requests) moveTo(io *IO, to *url.URL) bool {
	scheme := to.Scheme
	switch {
	case io.Find == nil:
		return false
	case scheme == "" && m.to.TLS != "":
		scheme = "https"
	case scheme == "":
		scheme = "http"
	case scheme == "http" && m.to.TLS != "":
		return false // what was said in private would be said in public
	}
	at, known := io.Find(scheme + "://" + to.Host)
	if !known {
		return false
	}
	m.hangUp(io)
	m.to, m.host = &at, to.Host
	m.request.Fields = slices.DeleteFunc(slices.Clone(m.request.Fields), func(f http1.Field) bool {
		return strings.EqualFold(f.Name, "Authorization") || strings.EqualFold(f.Name, "Cookie") ||
			strings.EqualFold(f.Name, "Proxy-Authorization")
	})
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
	m.answer, m.busy, m.headed = http1.Exchange{}, false, false
	m.partial.drop(io, m.Line)
}

// hangUp closes the connection.
func (m *Requests) hangUp(io *IO) {
	m.open = false
	io.Lines[m.Line].Hangup = true
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
		io.event[m.Line] = m.whole(io)
	case m.used && !m.answer.Headed() && len(m.partial.bytes) == 0 && m.request.again():
		m.used = false
		io.Lines[m.Line].Dial = m.to // it was closed while the request was on its way
	default:
		m.forget(io)
		io.event[m.Line] = Event{Kind: Failed, Err: err}
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
