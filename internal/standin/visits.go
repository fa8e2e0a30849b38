package standin

import (
	"net/url"
	"strconv"
	"strings"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/wire/http1"
	"tidepull/internal/wire/ws"
)

// A visit is a client that comes over HTTP: what it gets goes into the answer to one of
// its requests, and what it says comes by POST. It stays while the client's connections
// come and go.
//
//	GET    /events?client=C    an event stream
//	GET    /lines?client=C     an answer without end, framed as over TCP
//	GET    /poll?client=C      answered once there is something; with wait=0 at once
//	POST   (one of these)      the client says something
//	DELETE (one of these)      the client goes
type visit struct {
	key     string
	member  int32
	mode    string // the path
	waiting int32  // the connection with a request that waits for something to say; noConn
	queue   [][]byte
	bytes   int
	sent    []event // over an event stream, the newest last
	number  int     // of its last event
	seen    mono.Time
	began   mono.Time // when its stream did
	holds   bool      // nothing of its stream is sent, see board.Switches.BufferStream
	ready   bool      // it stands among those that are served at the end of the turn
}

// An event is one that was sent over an event stream, and may be asked for again.
type event struct {
	number  int
	payload []byte
}

const (
	noConn = -1
	// keepEvents is how many events of a stream can be asked for again.
	keepEvents = 64
	// visits are looked after longer than their connections: a stream that was ended is
	// waited for that long, as is the next poll.
	lingers = 5 * time.Second
)

// member is the number on the board of a connection that is a member itself; visits have
// those in between.
func member(conn int32) int32 { return 2 * conn }

// isVisit reports whether a number on the board is a visit's.
func isVisit(member int32) bool { return member%2 == 1 }

// isVisitPath reports whether visits come in at a path.
func isVisitPath(path string) bool { return path == "/events" || path == "/lines" || path == "/poll" }

// visited handles a request of a visit.
func (l *loop) visited(id int32, r *request) {
	key := r.url.Query().Get("client")
	v := l.visits[key]
	switch {
	case key == "" || len(key) > 200:
		l.answer(id, r, 400, "text/plain", []byte("who asks? add ?client=, with a text of your own\n"))
	case r.Method == "GET" && v != nil && v.mode == "/live" && v.waiting != noConn:
		l.answer(id, r, 409, "text/plain", []byte("this client has changed over to a WebSocket\n"))
	case r.Method == "GET":
		if v == nil {
			v = l.begin(key, r)
		}
		v.mode, v.seen = r.url.Path, l.drv.Now()
		l.ask(id, v, r)
	case v == nil:
		l.answer(id, r, 404, "text/plain", []byte("nobody of that name is here: ask for messages first\n"))
	case r.Method == "POST":
		l.answer(id, r, 204, "", nil)
		l.board.Message(v.member, r.content, r.at)
	case r.Method == "DELETE":
		l.answer(id, r, 204, "", nil)
		l.endVisit(v)
	default:
		l.answer(id, r, 405, "text/plain", []byte("GET, POST and DELETE are answered here\n"))
	}
}

// begin lets a client in.
func (l *loop) begin(key string, r *request) *visit {
	v := &visit{key: key, waiting: noConn}
	if n := len(l.freeVisits); n > 0 {
		v.member, l.freeVisits = l.freeVisits[n-1], l.freeVisits[:n-1]
	} else {
		v.member = int32(2*len(l.byMember) + 1)
		l.byMember = append(l.byMember, nil)
	}
	l.byMember[v.member/2] = v
	l.visits[key] = v
	l.board.Join(v.member, r.login)
	l.board.At(v.member, r.url.Query().Get("node"))
	return v
}

// endVisit lets a client go.
func (l *loop) endVisit(v *visit) {
	if l.visits[v.key] != v {
		return
	}
	l.detach(v)
	l.board.Part(v.member)
	l.byMember[v.member/2] = nil
	l.freeVisits = append(l.freeVisits, v.member)
	delete(l.visits, v.key)
}

// detach ends the connection on which a request waits for a visit, if one does. The visit
// stays.
func (l *loop) detach(v *visit) {
	if v.waiting != noConn {
		l.conns[v.waiting].visit = nil
		l.drop(v.waiting)
		v.waiting = noConn
	}
}

// ask handles a visit's request for messages.
func (l *loop) ask(id int32, v *visit, r *request) {
	l.detach(v) // it asks anew: the old request, if there is one, is over
	v.began = l.drv.Now()
	s := l.board.Switches()
	v.holds = v.mode != "/poll" && s.Meets(s.BufferStream, "buffer stream", v.key)
	if v.holds {
		l.board.Truth.Totals.Buffered++
	}
	c := &l.conns[id]
	switch v.mode {
	case "/poll":
		if len(v.queue) > 0 || r.url.Query().Get("wait") == "0" {
			l.answerPoll(id, v, !r.HasToken("Connection", "close"))
			return
		}
	case "/events":
		head := http1.AppendResponse(nil, 200, "OK", http1.Field{Name: "Content-Type", Value: "text/event-stream"},
			http1.Field{Name: "Cache-Control", Value: "no-store"}, http1.Field{Name: "Connection", Value: "close"})
		if l.drv.Write(id, head); !v.holds {
			l.drv.Write(id, []byte(":here\n\n"))
			l.sendAgain(id, v, r.Get("Last-Event-ID"))
		}
	case "/lines":
		l.drv.Write(id, http1.AppendResponse(nil, 200, "OK", http1.Field{Name: "Content-Type", Value: "text/plain"},
			http1.Field{Name: "Transfer-Encoding", Value: "chunked"}, http1.Field{Name: "Connection", Value: "close"}))
	}
	c.state, c.speaks, c.visit = live, inAnswers, v
	v.waiting = id
	l.startBeats(id)
	l.serveVisit(v)
}

// sendAgain sends what a stream has lost that says which event it had last.
func (l *loop) sendAgain(id int32, v *visit, last string) {
	had, err := strconv.Atoi(last)
	if err != nil {
		return
	}
	for _, e := range v.sent {
		if e.number > had {
			l.drv.Write(id, appendEvent(nil, e))
		}
	}
}

func appendEvent(dst []byte, e event) []byte {
	dst = append(strconv.AppendInt(append(dst, "id: "...), int64(e.number), 10), '\n')
	for _, line := range strings.Split(string(e.payload), "\n") {
		dst = append(append(append(dst, "data: "...), line...), '\n')
	}
	return append(dst, '\n')
}

// sendToVisit puts a message into a visit's queue; it goes out at the end of the turn.
func (l *loop) sendToVisit(to int32, payload []byte) {
	v := l.byMember[to/2]
	if v == nil {
		return
	}
	v.queue = append(v.queue, payload)
	if v.bytes += len(payload); v.bytes > l.maxQueue() {
		l.board.Truth.Totals.Overrun++
		l.overrunVisits = append(l.overrunVisits, v)
		return
	}
	if !v.ready {
		v.ready = true
		l.ready = append(l.ready, v)
	}
}

// serveVisits sends what came up for visits in this turn.
func (l *loop) serveVisits() {
	for _, v := range l.ready {
		v.ready = false
		l.serveVisit(v)
	}
	l.ready = l.ready[:0]
	for _, v := range l.overrunVisits {
		if v.waiting != noConn { // it would wait to be read
			l.hangUp(v.waiting)
		}
		l.endVisit(v)
	}
	l.overrunVisits = l.overrunVisits[:0]
}

// serveVisit sends what waits for a visit, if a request of it waits for that.
func (l *loop) serveVisit(v *visit) {
	id := v.waiting
	if id == noConn || len(v.queue) == 0 || l.visits[v.key] != v || v.holds {
		return
	}
	var out []byte
	switch v.mode {
	case "/poll":
		l.answerPoll(id, v, true)
		return
	case "/events":
		for _, payload := range v.queue {
			v.number++
			e := event{v.number, payload}
			if v.sent = append(v.sent, e); len(v.sent) > 2*keepEvents {
				v.sent = append(v.sent[:0], v.sent[keepEvents:]...)
			}
			out = appendEvent(out, e)
		}
	case "/live":
		for _, payload := range v.queue {
			out = append(out, l.deflated(&l.conns[id], ws.AppendFrame(nil, ws.OpText, payload))...)
		}
	case "/lines":
		var content []byte
		for _, payload := range v.queue {
			content = l.cfg.Framing.Append(content, payload)
		}
		out = append(strconv.AppendInt(out, int64(len(content)), 16), "\r\n"...)
		out = append(append(out, content...), "\r\n"...)
	}
	v.queue, v.bytes = nil, 0
	l.conns[id].spoke = l.drv.Now()
	l.drv.Write(id, out)
	if l.drv.Queued(id) > l.maxQueue() {
		l.board.Truth.Totals.Overrun++
		l.overrunVisits = append(l.overrunVisits, v)
	}
}

// answerPoll answers a poll with what there is, or with nothing.
func (l *loop) answerPoll(id int32, v *visit, stays bool) {
	c := &l.conns[id]
	c.state, c.visit = greeting, nil
	v.waiting, v.seen = noConn, l.drv.Now()
	var content []byte
	for _, payload := range v.queue {
		content = append(append(content, payload...), '\n')
	}
	v.queue, v.bytes = nil, 0
	r := &request{Head: &http1.Head{}, url: &url.URL{}}
	if !stays {
		r.Fields = []http1.Field{{Name: "Connection", Value: "close"}}
	}
	if len(content) == 0 {
		l.answer(id, r, 204, "", nil)
		return
	}
	l.answer(id, r, 200, "application/x-ndjson", content)
}

// lookAfterVisits answers polls that have waited for long, and lets those go that are
// not heard of any more.
func (l *loop) lookAfterVisits(now mono.Time) {
	for _, v := range l.byMember {
		if v != nil {
			l.endStreams(v, now)
		}
		switch {
		case v == nil:
		case v.waiting != noConn && v.mode == "/poll" && now.Sub(v.seen) > l.cfg.PollFor:
			l.answerPoll(v.waiting, v, true)
		case v.waiting == noConn && now.Sub(v.seen) > lingers+l.cfg.PongWithin:
			l.board.Truth.Totals.Evicted++
			l.endVisit(v)
		}
	}
}

// visitorLost handles that the connection of a visit's request is gone: the client has
// gone with it, unless it polls.
func (l *loop) visitorLost(v *visit) {
	v.waiting, v.seen = noConn, l.drv.Now()
	if v.mode != "/poll" {
		l.endVisit(v)
	}
}
