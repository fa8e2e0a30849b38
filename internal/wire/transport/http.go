package transport

import (
	"cmp"
	"fmt"
	"hash/fnv"
	"mime"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"tidepull/internal/base/mono"
	"tidepull/internal/base/plain"
	"tidepull/internal/wire"
	"tidepull/internal/wire/eventstream"
	"tidepull/internal/wire/http1"
	"tidepull/internal/wire/ws"
)

// A Mode is how messages come over HTTP.
type Mode uint8

// The modes.
const (
	EventStream Mode = iota // Server-Sent Events (WHATWG HTML 9.2)
	LongAnswer              // one answer without end (RFC 6202 2.2)
	LongPolling             // requests that are answered once there is something (RFC 6202 2.1)
	Polling                 // requests at a given pace
)

// Habits are how a server speaks over HTTP: the same for all clients.
type Habits struct {
	Mode    Mode
	Framing wire.Framing  // of a LongAnswer, and of polls' answers if Framed
	Framed  bool          // a poll's answer holds several messages even if its type does not say so
	Every   time.Duration // of Polling: from one request to the next
	Method  string        // that messages are asked for with; "": GET
	Type    string        // of what is posted
	Ends    bool          // a client that closes says so with DELETE
	First   time.Duration // how soon after it was asked something of a stream must come; 0: it need not
}

// An HTTP is a client's transport of HTTP requests: messages come in answers on the line
// Main, and what the client says goes by POST, one after the other, on the line Post. Its
// zero value, with habits, is idle.
type HTTP struct {
	Habits     *Habits
	get        Requests
	post       Requests
	own        http1.Jar // its cookies, if its client has none
	phase      phase
	deadline   mono.Time // of what it waits for; mono.Never: nothing
	askAt      mono.Time // when it polls next; mono.Never: a poll is under way
	postAt     mono.Time // when it posts again what the server did not want yet; mono.Never: it need not
	asked      mono.Time // when it polled last
	opening    *Opening
	queue      [][]byte // what is to be posted, the oldest first, which may be under way
	queued     int      // bytes of it
	tries      int      // of the oldest
	events     eventstream.Reader
	sign       bool   // a comment of the stream has come, and is not told of yet
	rest       []byte // of a part, or of a poll's answer, that messages are taken from
	held       []byte // what has come of a message of a LongAnswer
	searched   int    // bytes of it in which no message ends
	framed     bool   // the answer at hand holds several messages
	polled     uint64 // a hash of what the last poll was answered
	alike      int    // how many polls in a row were answered like that, at once
	finalPolls int    // while it closes: polls that are still to be answered, for what waits at the server
	pausing    bool   // it asks for nothing more
	deleteSent bool   // the request that ends it all is under way
}

const (
	// quietOpen is how long a first poll is waited for before the transport counts as
	// open: who refuses does so at once, and who has something to say does, too.
	quietOpen = 200 * time.Millisecond
	// comeBackAfter is when an event stream that the server ended is asked for again, if
	// the server has not said (WHATWG HTML 9.2.3 leaves it to the client).
	comeBackAfter = time.Second
	maxComeBack   = time.Minute
	// hasty is how soon an answer without a message shows that a server does not hold polls; it
	// is asked again after patience.
	hasty    = 10 * time.Millisecond
	patience = 100 * time.Millisecond
	// alikeAreEmpty is how many answers in a row, all alike and at once, hold no message.
	alikeAreEmpty = 3
	maxTries      = 5
	// maxPosts bounds what may wait to be posted, in bytes: a server that does not answer is
	// not told more.
	maxPosts = 8 << 20
	// soonest is how soon a stream is asked for again, whatever the server wants.
	soonest = 20 * time.Millisecond
)

// Open implements Machine.
func (m *HTTP) Open(io *IO, o *Opening, deadline mono.Time) {
	m.Drop(io)
	if !o.Again {
		m.events, m.sign = eventstream.Reader{}, false
	}
	m.opening = o
	m.get.Line, m.post.Line = Main, Post
	m.get.Jar = o.Jar
	if m.get.Jar == nil {
		m.get.Jar = &m.own
	}
	m.post.Jar = m.get.Jar
	m.phase, m.deadline, m.askAt, m.postAt = connecting, deadline, mono.Never, mono.Never
	m.ask(io)
	if o.Early != nil {
		m.queue, m.queued = append(m.queue, o.Early), len(o.Early)
		m.sendPost(io)
	}
}

// ask asks for messages.
func (m *HTTP) ask(io *IO) {
	o := m.opening
	r := Request{Method: cmp.Or(m.Habits.Method, "GET"), Path: o.Path, Redirects: 5, Asks: true}
	accept := "*/*"
	switch m.Habits.Mode {
	case EventStream:
		accept, r.Streams = "text/event-stream", true
		io.Held -= m.events.Held()
		m.events.Restart()
		r.Fields = []http1.Field{{Name: "Cache-Control", Value: "no-store"}}
		if id := m.events.LastID(); id != "" {
			r.Fields = append(r.Fields, http1.Field{Name: "Last-Event-ID", Value: id})
		}
	case LongAnswer:
		r.Streams = true
	}
	r.Fields = append(append(r.Fields, http1.Field{Name: "Accept", Value: accept}), o.Fields...)
	m.asked, m.askAt = io.Now, mono.Never
	m.get.Ask(io, &o.Endpoint, o.Host, r)
}

// Connected implements Machine.
func (m *HTTP) Connected(io *IO, line int) {
	if line == Post {
		m.post.Connected(io)
		return
	}
	m.get.Connected(io)
	if m.phase == connecting {
		m.phase, m.asked = upgrading, io.Now
		if m.Habits.First > 0 && m.get.request.Streams {
			m.deadline = min(m.deadline, io.Now.Add(m.Habits.First))
		}
		if m.Habits.Mode == LongPolling {
			m.askAt = io.Now.Add(quietOpen)
		}
	}
}

// Take implements Machine.
func (m *HTTP) Take(io *IO, line int, b []byte) {
	switch {
	case m.phase == idle:
	case line == Post:
		m.post.Take(io, b)
	default:
		m.get.Take(io, b)
	}
}

// Lost implements Machine.
func (m *HTTP) Lost(io *IO, line int, err error) {
	switch {
	case m.phase == idle:
	case line == Post:
		m.post.Lost(io, err)
	default:
		m.get.Lost(io, err)
	}
}

// Next implements Machine.
func (m *HTTP) Next(io *IO) Event {
	if k := io.event[Main].Kind; k != Nothing && k != Failed && k != Reply { // the others are of its requests
		return io.waiting(Main)
	}
	for m.phase != idle {
		if ev, more := m.message(io); ev.Kind != Nothing {
			return ev
		} else if more {
			continue
		}
		if m.pausing && m.IsOpen() && !m.get.Busy() && !m.post.Busy() && len(m.queue) == 0 {
			m.pausing, m.askAt = false, mono.Never
			return Event{Kind: Paused}
		}
		if m.settled() {
			if ev := m.finish(io); ev.Kind != Nothing {
				return ev
			}
		}
		ev := m.post.Next(io)
		if ev.Kind != Nothing {
			if ev = m.posted(io, ev); ev.Kind != Nothing {
				return ev
			}
			continue
		}
		if ev = m.get.Next(io); ev.Kind == Nothing {
			return ev
		}
		if ev = m.came(io, ev); ev.Kind != Nothing {
			return ev
		}
	}
	return Event{}
}

// came handles what came of a request for messages.
func (m *HTTP) came(io *IO, ev Event) Event {
	streams := m.Habits.Mode == EventStream || m.Habits.Mode == LongAnswer
	switch {
	case m.phase == closing && m.finalPolls > 0 && ev.Kind != Part:
		if m.finalPoll(io); ev.Kind == Reply && ev.Head.Status == 200 {
			m.answered(ev.Head, ev.Payload)
		}
	case m.phase >= closing && ev.Kind != Part: // only what it says last is waited for
	case ev.Kind == Failed && m.phase == resuming:
		m.phase = open
		return m.ended(io, Event{Kind: Broken, Err: fmt.Errorf("it did not come back: %w", ev.Err)})
	case ev.Kind == Failed:
		lost := m.phase.lost(ev.Err)
		_, violated := ev.Err.(*wire.ProtocolError)
		switch {
		case violated && lost.Kind == Broken:
			lost.Kind = Violated
		case m.phase == open && m.Habits.Mode == EventStream && !m.pausing:
			m.comesBack(io)
			return Event{}
		}
		return m.ended(io, lost)
	case ev.Kind == Headed:
		return m.headed(io, ev.Head)
	case ev.Kind == Part:
		if m.Habits.First > 0 && m.phase == open {
			m.deadline = mono.Never
		}
		m.rest = ev.Payload
	case ev.Kind == Reply && streams:
		return m.streamEnds(io, ev.Head, ev.Payload)
	case ev.Kind == Reply:
		return m.pollEnds(io, ev.Head, ev.Payload)
	}
	return Event{}
}

// headed handles that an answer began that goes on.
func (m *HTTP) headed(io *IO, h *http1.Head) Event {
	kind, _, _ := mime.ParseMediaType(h.Get("Content-Type"))
	switch {
	case m.Habits.Mode == EventStream && h.Status != 200:
		return m.refused(io, h, fmt.Sprintf("answered %d, and not 200 with an event stream", h.Status), nil)
	case m.Habits.Mode == EventStream && kind != "text/event-stream":
		return m.refused(io, h, "the answer is no text/event-stream, but "+orNothing(kind), nil)
	case h.Get("Content-Encoding") != "" && !strings.EqualFold(h.Get("Content-Encoding"), "identity"):
		return m.refused(io, h, "the stream is coded as "+plain.Text(h.Get("Content-Encoding"), 40)+
			", which was not asked for", nil)
	}
	return m.opened(io, 0)
}

func orNothing(kind string) string {
	if kind == "" {
		return "has no type"
	}
	return plain.Text(kind, 60)
}

// opened makes the transport usable, if it was not.
func (m *HTTP) opened(io *IO, at mono.Time) Event {
	if m.phase == resuming {
		m.phase, m.deadline = open, mono.Never
		return Event{}
	}
	if m.phase >= open {
		return Event{}
	}
	m.phase, m.deadline = open, mono.Never
	if m.Habits.First > 0 && m.get.request.Streams {
		m.deadline = m.asked.Add(m.Habits.First)
	}
	return Event{Kind: Opened, At: at}
}

// refused ends a transport, as the server did not agree. An answer that comes later, to
// a request that resumes, ends one that was open.
func (m *HTTP) refused(io *IO, h *http1.Head, why string, body []byte) Event {
	refusal := &ws.Refusal{Status: h.Status, Why: why, Body: string(body[:min(len(body), maxBody)])}
	refusal.After, _ = retryAfter(h, io.Wall())
	if m.phase < open {
		return m.ended(io, Event{Kind: Refused, Err: refusal})
	}
	return m.ended(io, Event{Kind: Broken, Err: fmt.Errorf("%s", why)})
}

// streamEnds handles that the server ended a stream: in order if it had begun. An event
// stream is asked for again.
func (m *HTTP) streamEnds(io *IO, h *http1.Head, body []byte) Event {
	switch {
	case m.pausing: // another transport takes over, or has
		return m.ended(io, Event{Kind: Ended})
	case m.phase == resuming:
		if wait, ok := retryAfter(h, io.Wall()); ok {
			m.deadline = io.Now.Add(wait)
			return Event{}
		}
		return m.refused(io, h, fmt.Sprintf("answered %d %s when asked again", h.Status, plain.Text(h.Reason, 60)),
			body)
	case m.phase != open:
		return m.refused(io, h, fmt.Sprintf("answered %d %s", h.Status, plain.Text(h.Reason, 60)), body)
	case m.Habits.Mode == LongAnswer:
		return m.ended(io, Event{Kind: Broken, Err: fmt.Errorf("the server ended the stream")})
	}
	m.comesBack(io)
	return Event{}
}

// comesBack has an event stream that ended, in order or not, asked for again after the
// time that the server wants (WHATWG HTML 9.2.3).
func (m *HTTP) comesBack(io *IO) {
	again := m.events.Retry
	if again == 0 {
		again = comeBackAfter
	}
	m.phase, m.deadline = resuming, io.Now.Add(min(max(again, soonest), maxComeBack))
}

// pollEnds handles the answer to a poll, and arranges for the next.
func (m *HTTP) pollEnds(io *IO, h *http1.Head, content []byte) Event {
	next := io.Now
	if m.Habits.Mode == Polling {
		next = max(next, m.asked.Add(m.Habits.Every))
	} else if soon := io.Now.Sub(m.asked) < hasty; soon && m.saysNothing(content) {
		next = io.Now.Add(patience)
	}
	wait, later := retryAfter(h, io.Wall())
	// Nothing came in the time that the server, or a proxy, holds a poll for (RFC 6202 5.5).
	empty := h.Status == 204 || h.Status == 304 || h.Status == 408 || h.Status == 504 && m.phase >= open
	switch {
	case later && m.phase >= open:
		next = io.Now.Add(wait)
	case h.Status/100 != 2 && !empty:
		return m.refused(io, h, fmt.Sprintf("answered %d %s", h.Status, plain.Text(h.Reason, 60)), content)
	case !empty:
		m.answered(h, content)
	}
	ev := m.opened(io, 0)
	if m.pausing || next > io.Now {
		m.askAt = next // of one that pauses: if it goes on after all
	} else {
		m.ask(io)
	}
	return ev
}

// saysNothing reports whether the answer to a poll, which came at once, holds no message, as far as can
// be told without knowing the dialect: it is empty, or like those before, as an empty list is.
func (m *HTTP) saysNothing(content []byte) bool {
	h := fnv.New64a()
	h.Write(content)
	if now := h.Sum64(); now == m.polled {
		m.alike++
	} else {
		m.polled, m.alike = now, 1
	}
	return len(content) == 0 || m.alike >= alikeAreEmpty
}

// answered takes the content of a poll's answer.
func (m *HTTP) answered(h *http1.Head, content []byte) {
	kind, _, _ := mime.ParseMediaType(h.Get("Content-Type"))
	m.rest = content
	m.framed = m.Habits.Framed || kind == "application/x-ndjson" || kind == "application/jsonl"
}

// retryAfter is how long the server wants the client to wait, if it says so, and not
// longer than anybody would.
func retryAfter(h *http1.Head, now time.Time) (time.Duration, bool) {
	wait, ok := h.RetryAfter(now)
	return wait, ok && (h.Status == 503 || h.Status == 429) && wait <= maxComeBack
}

// message takes a message out of what is at hand; more reports whether there may be
// others.
func (m *HTTP) message(io *IO) (ev Event, more bool) {
	if len(m.rest) == 0 && m.sign { // a comment came before the last event
		m.sign = false
		return Event{Kind: Sign}, true
	}
	if len(m.rest) == 0 {
		return Event{}, false
	}
	switch {
	case m.Habits.Mode == EventStream:
		before, comments := m.events.Held(), m.events.Comments
		e, n, ok, err := m.events.Next(m.rest)
		io.Held += m.events.Held() - before
		if err != nil {
			return m.ended(io, Event{Kind: Violated, Err: err}), true
		}
		m.rest = m.rest[n:]
		m.sign = m.sign || m.events.Comments > comments
		if ok {
			return Event{Kind: Message, Payload: e.Data, Shared: m.sharesRead(io)}, true
		}
		if m.sign {
			m.sign = false
			return Event{Kind: Sign}, true
		}
		if io.Held > maxHeld && m.events.Held() > 0 {
			return m.ended(io, Event{Kind: Violated, Err: tooMuchHeld}), true
		}
		return Event{}, true
	case m.Habits.Mode == LongAnswer:
		return m.framedMessage(io), true
	case !m.framed:
		ev = Event{Kind: Message, Payload: m.rest}
		m.rest = nil
		return ev, true
	}
	f := &m.Habits.Framing
	payload, n, err := f.Next(m.rest, 0)
	switch {
	case err != nil:
		return m.ended(io, Event{Kind: Violated, Err: err}), true
	case n == 0: // the last one need not end
		payload, n = m.rest, len(m.rest)
	}
	m.rest = m.rest[n:]
	if len(payload) == 0 {
		return Event{}, true
	}
	return Event{Kind: Message, Payload: payload}, true
}

// sharesRead reports whether later bytes came in the same read.
func (m *HTTP) sharesRead(io *IO) bool { return len(m.rest) > 0 || len(io.taking[Main]) > 0 }

// framedMessage takes a message out of a LongAnswer.
func (m *HTTP) framedMessage(io *IO) Event {
	f := &m.Habits.Framing
	b := m.rest
	if len(m.held) > 0 {
		m.held = append(m.held, m.rest...)
		io.Held += len(m.rest)
		b, m.rest = m.held, nil
	}
	payload, n, err := f.Next(b, m.searched)
	switch {
	case err != nil:
		return m.ended(io, Event{Kind: Violated, Err: err})
	case n == 0 && len(m.held) == 0: // what is at hand is borrowed
		m.held = append(m.held[:0], b...)
		io.Held += len(b)
		fallthrough
	case n == 0:
		m.rest, m.searched = nil, len(b)
		if io.Held > maxHeld {
			return m.ended(io, Event{Kind: Violated, Err: tooMuchHeld})
		}
		return Event{}
	}
	io.Held -= len(m.held)
	m.held, m.rest, m.searched = nil, b[n:], 0
	switch {
	case len(payload) == 0 && f.Prefix == wire.NoPrefix:
		return Event{}
	case f.Lines() && !utf8.Valid(payload):
		return m.ended(io, Event{Kind: Violated, Err: noText})
	}
	return Event{Kind: Message, Payload: payload, Shared: m.sharesRead(io)}
}

// Say implements Machine.
func (m *HTTP) Say(io *IO, payload []byte, _ bool) {
	if !m.IsOpen() {
		return
	}
	m.queue, m.queued = append(m.queue, slices.Clone(payload)), m.queued+len(payload)
	if m.queued > maxPosts {
		m.deadline = io.Now // Expire ends it
		return
	}
	m.sendPost(io)
}

// sendPost posts what is the oldest, if nothing is under way.
func (m *HTTP) sendPost(io *IO) {
	if len(m.queue) == 0 || m.post.Busy() || m.postAt != mono.Never {
		return
	}
	o := m.opening
	path := o.Post
	if path == "" {
		path = o.Path
	}
	m.post.Ask(io, &o.Endpoint, o.Host, Request{Method: "POST", Path: path, Fields: o.Fields, Type: m.Habits.Type,
		Content: m.queue[0]})
}

// posted handles what came of a POST, or of the request that ends it all.
func (m *HTTP) posted(io *IO, ev Event) Event {
	switch {
	case m.deleteSent:
		return m.ended(io, Event{Kind: Ended})
	case ev.Kind == Failed:
		return m.ended(io, m.phase.lost(fmt.Errorf("what it said was not answered: %w", ev.Err)))
	case ev.Head.Status >= 300:
		wait, later := retryAfter(ev.Head, io.Wall())
		if m.tries++; later && m.tries < maxTries {
			m.postAt = io.Now.Add(wait)
			return Event{}
		}
		return m.ended(io, m.phase.lost(&PostRefused{ev.Head.Status, ev.Head.Reason}))
	}
	m.queued -= len(m.queue[0])
	m.queue, m.tries = slices.Delete(m.queue, 0, 1), 0
	m.sendPost(io)
	return Event{}
}

// A PostRefused is why a transport broke: the server refused what the client said.
type PostRefused struct {
	Status int
	Reason string
}

func (e *PostRefused) Error() string {
	return fmt.Sprintf("what it said was answered %d %s", e.Status, plain.Text(e.Reason, 60))
}

// Close implements Machine: once everything is posted, it hangs up.
func (m *HTTP) Close(io *IO, _ uint16, _ string) {
	if m.phase != open && m.phase != resuming {
		return
	}
	m.phase, m.deadline, m.askAt = closing, io.Now.Add(closeWithin), io.Now // for Expire, so that Next settles it
	if m.Habits.Mode == Polling {
		if m.finalPolls = 2; !m.get.Busy() {
			m.finalPoll(io)
		}
	}
}

// Pause implements Pauser: polls that wait are waited for.
func (m *HTTP) Pause(*IO) bool {
	m.pausing = m.IsOpen()
	polls := m.Habits.Mode == LongPolling || m.Habits.Mode == Polling
	return m.pausing && (polls || m.phase == resuming && !m.get.Busy())
}

// Resume implements Pauser.
func (m *HTTP) Resume(io *IO) {
	m.pausing = false
	if m.phase == resuming && m.deadline == mono.Never {
		m.deadline = io.Now
	}
	if m.phase == open && !m.get.Busy() && (m.Habits.Mode == LongPolling || m.Habits.Mode == Polling) {
		m.ask(io)
	}
}

// finalPoll asks once more, for what waits at the server.
func (m *HTTP) finalPoll(io *IO) {
	if m.finalPolls--; m.finalPolls > 0 {
		m.ask(io)
	}
}

// settled reports whether a transport that closes has nothing more to say or to get.
func (m *HTTP) settled() bool {
	return m.phase == closing && !m.deleteSent && m.finalPolls == 0 && len(m.queue) == 0 && len(m.rest) == 0
}

// finish ends a transport that has nothing more to say, with DELETE if the server wants
// to hear of it.
func (m *HTTP) finish(io *IO) Event {
	if !m.Habits.Ends {
		return m.ended(io, Event{Kind: Ended})
	}
	m.deleteSent = true
	o := m.opening
	m.post.Ask(io, &o.Endpoint, o.Host, Request{Method: "DELETE", Path: o.Path, Fields: o.Fields})
	return Event{}
}

// ended lets go of everything, and gives the event that says so.
func (m *HTTP) ended(io *IO, ev Event) Event {
	m.Drop(io)
	return ev
}

// Expire implements Machine.
func (m *HTTP) Expire(io *IO) {
	if m.postAt <= io.Now {
		m.postAt = mono.Never
		m.sendPost(io)
	}
	if m.askAt <= io.Now {
		m.askAt = mono.Never
		if m.phase == upgrading { // a long poll that waits
			io.event[Main] = m.opened(io, io.Now.Add(-quietOpen))
		} else if m.phase == open && !m.pausing {
			m.ask(io)
		}
	}
	if m.deadline > io.Now {
		return
	}
	if m.IsOpen() && m.queued > maxPosts {
		io.event[Main] = m.ended(io, Event{Kind: Broken, Err: fmt.Errorf("the server does not answer what is posted: "+
			"more than %d MiB wait", maxPosts>>20)})
		return
	}
	switch m.phase {
	case connecting, upgrading:
		err := error(&NotInTime{"answer"})
		if m.phase == upgrading && m.Habits.First > 0 && m.get.request.Streams {
			err = &Withheld{}
		}
		io.event[Main] = m.ended(io, Event{Kind: Refused, Err: err})
	case open: // nothing of the content has come
		io.event[Main] = m.ended(io, Event{Kind: Broken, Err: &Withheld{}})
	case resuming:
		if m.pausing {
			m.deadline = mono.Never
			return
		}
		if m.deadline = io.Now.Add(maxComeBack); m.get.Busy() {
			io.event[Main] = m.ended(io, Event{Kind: Broken, Err: fmt.Errorf("it did not come back in time")})
			return
		}
		m.ask(io)
	case closing:
		io.event[Main] = m.ended(io, Event{Kind: Ended, Err: fmt.Errorf("what it said last was not answered")})
	}
}

// A Withheld is why a stream was given up of which nothing came, or nothing but the head:
// something on the way keeps it back.
type Withheld struct{}

func (*Withheld) Error() string { return "nothing of the stream came in time" }

// Reply implements Machine; there are no beats.
func (m *HTTP) Reply(*IO, []byte) {}

// Malform implements Machine; there is nothing that could be.
func (m *HTTP) Malform(*IO, string) {}

// Drop implements Machine.
func (m *HTTP) Drop(io *IO) {
	if m.phase == idle {
		m.deadline, m.askAt, m.postAt = mono.Never, mono.Never, mono.Never
		return
	}
	io.Held -= m.events.Held() + len(m.held)
	m.get.Drop(io)
	m.post.Drop(io)
	m.events.Restart() // what it had last is what it says when it comes back
	*m = HTTP{Habits: m.Habits, get: m.get, post: m.post, own: m.own, events: m.events, deadline: mono.Never,
		askAt: mono.Never, postAt: mono.Never}
}

// Deadline implements Machine.
func (m *HTTP) Deadline() mono.Time {
	if m.phase == idle {
		return mono.Never
	}
	return min(m.deadline, m.askAt, m.postAt)
}

// Paces implements Pacer: it polls again, posts again, or asks for its stream again.
func (m *HTTP) Paces() mono.Time {
	if m.phase == idle {
		return mono.Never
	}
	own := m.postAt
	if m.phase != upgrading { // in which a first poll is waited for
		own = min(own, m.askAt)
	}
	if m.phase == resuming && !m.get.Busy() {
		own = min(own, m.deadline)
	}
	return own
}

// IsOpen implements Machine.
func (m *HTTP) IsOpen() bool { return m.phase == open || m.phase == resuming }
