package standin

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"unicode/utf8"

	"tidepull/internal/base/mono"
	"tidepull/internal/base/plain"
	"tidepull/internal/wire"
	"tidepull/internal/wire/http1"
	"tidepull/internal/wire/ws"
)

// Accepted implements poll.Handler.
func (l *loop) Accepted(id int32) {
	if l.closing != 0 || l.isDown(l.drv.Now()) { // it would be cut soon, or nobody is there
		l.drv.Hangup(id)
		return
	}
	for int(id) >= len(l.conns) {
		l.conns = append(l.conns, conn{})
	}
	l.lives++
	l.conns[id] = conn{state: greeting, heard: l.drv.Now(), reader: ws.Reader{FromPeer: ws.Client}, life: l.lives}
	if l.drv.IsDatagrams(id) {
		l.conns[id].state, l.conns[id].speaks = live, inDatagrams
		l.board.Join(member(id), "")
	}
}

// Opened implements poll.Handler; the server does not dial.
func (l *loop) Opened(int32) {}

// Broke implements poll.Handler.
func (l *loop) Broke(id int32, _ error) {
	l.part(id)
	l.conns[id] = conn{}
}

// Data implements poll.Handler.
func (l *loop) Data(id int32, b []byte, came mono.Span) {
	at := came.To
	c := &l.conns[id]
	l.gaveSign(id, c)
	if c.speaks == inDatagrams {
		l.datagrams(id, b, at)
		return
	}
	waited := len(c.pending) > 0
	if waited {
		c.pending = append(c.pending, b...)
		b = c.pending
	}
	n := l.consume(id, c, b, at)
	switch rest := b[n:]; {
	case len(rest) == 0 || c.state == free:
		c.pending = nil
	case waited && n == 0: // copying it onto itself for each piece would cost the square of its size
	default:
		c.pending = append(c.pending[:0], rest...)
	}
}

// maxPongs is how many bytes may wait for a client before its pings are not answered any more: of several
// only the latest needs an answer (RFC 6455 5.5.3), and this one does not read.
const maxPongs = 64 << 10

func (l *loop) consume(id int32, c *conn, b []byte, at mono.Time) (taken int) {
	for c.state == greeting {
		n := l.greet(id, c, b[taken:], at)
		if taken += n; n == 0 && c.state == greeting {
			return taken
		}
	}
	if c.state == live && c.speaks == inLines {
		return taken + l.framed(id, c, b[taken:], at)
	}
	if c.state == stalling || c.state == live && c.speaks == inAnswers {
		if len(b) > maxAhead {
			l.drop(id)
			return len(b)
		}
		return taken // the next request waits for the answer to this one
	}
	naive, first := l.isNaive(id), true
	for c.state == live || c.state == leaving {
		ev, n, err := c.reader.Next(b[taken:])
		if err != nil {
			l.violated(id, err)
			return len(b)
		}
		taken += n
		switch {
		case ev.Op == ws.OpClose:
			l.closed(id, c, ev)
			return len(b)
		case ev.Op == ws.OpPing && l.drv.Queued(id) < maxPongs:
			l.pong = ws.AppendFrame(l.pong[:0], ws.OpPong, ev.Payload)
			l.drv.Write(id, l.pong)
		case ev.Op == ws.OpText && naive && !first: // it is in the same read as the one before
		case ev.Op == ws.OpText && c.state == live && c.beside != nil:
			l.besides(id, c, ev.Payload)
		case ev.Op == ws.OpText && c.state == live && c.visit != nil:
			l.board.Message(c.visit.member, ev.Payload, at)
		case ev.Op == ws.OpText && c.state == live:
			l.message(id, unwrap(l.cfg.Manners.Shape, ev.Payload), at)
		case ev.Op == ws.OpBinary && c.state == live:
			l.board.Upload(member(id), ev.Payload, at)
		}
		if n == 0 {
			return taken
		}
		first = first && ev.Op != ws.OpText
	}
	return len(b)
}

// isNaive reports whether one read of a client's is taken for one message.
func (l *loop) isNaive(id int32) bool {
	s := l.board.Switches()
	return s.Naive > 0 && s.Meets(s.Naive, "naive", l.called(id))
}

// framed takes whole messages of a client over TCP.
func (l *loop) framed(id int32, c *conn, b []byte, at mono.Time) (taken int) {
	f := &l.cfg.Framing
	for naive := l.isNaive(id); c.state == live; {
		message, n, err := f.Next(b[taken:], 0)
		if err != nil {
			l.drop(id)
		}
		if n == 0 && naive || naive && taken > 0 {
			return len(b)
		}
		if n == 0 {
			return taken
		}
		taken += n
		switch {
		case len(message) == 0:
		case utf8.Valid(message):
			l.message(id, message, at)
		default:
			l.drop(id)
		}
	}
	return len(b)
}

func (l *loop) violated(id int32, err error) {
	switch s := l.board.Switches(); {
	case s.Meets(s.Lenient, "lenient", l.called(id)):
		l.board.Truth.Totals.Tolerated++
		l.conns[id].reader = ws.Reader{FromPeer: ws.Client}
		return
	case s.Meets(s.Brittle, "brittle", l.called(id)):
		l.board.Truth.Totals.Tolerated++
		for other := range l.conns {
			if l.conns[other].state == live {
				l.hangUp(int32(other))
			}
		}
		return
	}
	var v *wire.ProtocolError
	if errors.As(err, &v) && v.Code != 0 {
		l.sayClose(id, v.Code, v.Rule)
	}
	l.drop(id)
}

// closed answers a client's close frame and closes (RFC 6455 7.1.1: the server
// first).
func (l *loop) closed(id int32, c *conn, ev ws.Event) {
	if c.state == live {
		code := ev.Code
		if code == ws.CloseNoStatus {
			code = ws.CloseNormal
		}
		l.sayClose(id, code, "")
	}
	l.drop(id)
}

// maxAhead bounds what a client may say on a connection while its request waits, in bytes.
const maxAhead = 64 << 10

// maxContent is the longest content of a request.
const maxContent = 4 << 20

// greet answers a request once it is whole, and tells how much it took.
func (l *loop) greet(id int32, c *conn, b []byte, at mono.Time) int {
	if begins, whole := l.cfg.Framing.Begins(b, '{'); !whole {
		return 0
	} else if begins {
		c.state, c.speaks = live, inLines
		l.board.Join(member(id), "")
		return 0
	}
	h, n, err := http1.ConsumeRequest(b)
	if err == nil && n == 0 {
		return 0
	}
	var content []byte
	if err == nil {
		var whole bool
		if content, n, whole, err = contentOf(&h, b, n); err == nil && !whole {
			return 0
		}
	}
	u, urlErr := url.ParseRequestURI(h.Path)
	if err == nil && urlErr != nil {
		err = urlErr
	}
	if err != nil {
		l.answer(id, nil, 400, "text/plain", []byte(err.Error()+"\n"))
		return len(b)
	}
	r := &request{Head: &h, url: u, content: content, at: at}
	r.login, r.in = r.credentials(l)
	switch {
	case u.Path == "/live" || u.Path == "/stream" || isVisitPath(u.Path) && r.Method == "GET":
		l.comeIn(id, c, r)
	case isVisitPath(u.Path):
		l.visited(id, r)
	default:
		l.answerHTTP(id, r)
	}
	return n
}

// contentOf takes a request's content from behind its head, which is head bytes
// long.
func contentOf(h *http1.Head, b []byte, head int) (content []byte, n int, whole bool, err error) {
	body, err := http1.RequestBody(h)
	for n = head; err == nil && !body.Done(); {
		part, used, bad := body.Next(b[n:])
		content, n, err = append(content, part...), n+used, bad
		if len(content) > maxContent {
			return nil, n, false, errors.New("the content is longer than 4 MiB")
		}
		if used == 0 {
			return nil, 0, false, err
		}
	}
	return content, n, true, err
}

// comeIn lets a client in that wants to stay.
func (l *loop) comeIn(id int32, c *conn, r *request) {
	door := l.board.Switches().OpenDoor > 0
	origin := r.Get("Origin")
	switch {
	case origin != "" && len(l.cfg.Origins) > 0 && !slices.Contains(l.cfg.Origins, origin) &&
		!l.board.Switches().Meets(l.board.Switches().AnyOrigin, "any origin", origin):
		l.answer(id, r, 403, "text/plain", []byte("the origin "+plain.Text(origin, 100)+" may not come in\n"))
		return
	case l.cfg.Login && !r.in && !door:
		l.answer(id, r, 401, "text/plain", []byte("log in first: /login, /token or /guest\n"))
		return
	case l.obstructed(id, c, r):
		return
	case isVisitPath(r.url.Path):
		l.visited(id, r)
		return
	case r.url.Path == "/stream":
		room := r.url.Query().Get("room")
		l.drv.Write(id, http1.AppendResponse(nil, 200, "OK",
			http1.Field{Name: "Content-Type", Value: "text/event-stream"},
			http1.Field{Name: "Cache-Control", Value: "no-store"}, http1.Field{Name: "Connection", Value: "close"}))
		c.state, c.speaks, c.room = live, inEvents, room
		l.startBeats(id)
		l.board.Join(member(id), r.login)
		l.introduce(id, fmt.Sprintf("stream-%d", id), room, r.at)
		return
	}
	if v := r.Get("Sec-WebSocket-Version"); v != "" && v != "13" { // RFC 6455 4.4
		l.drv.Write(id, http1.AppendResponse(nil, 426, "Upgrade Required",
			http1.Field{Name: "Sec-WebSocket-Version", Value: "13"}, http1.Field{Name: "Content-Length", Value: "0"},
			http1.Field{Name: "Connection", Value: "close"}))
		l.drop(id)
		return
	}
	if wrong := ws.CheckRequest(r.Head); wrong != "" {
		l.answer(id, r, 400, "text/plain", []byte(wrong+"\n"))
		return
	}
	if key := r.url.Query().Get("client"); key != "" {
		l.comesBeside(c, id, r, key)
		return
	}
	l.agree(id, c, r)
	c.state = live
	l.startBeats(id)
	l.board.Join(member(id), r.login)
	l.board.At(member(id), r.url.Query().Get("node"))
	if q := r.url.Query(); q.Get("name") != "" { // who one is, and perhaps where, stands in the path
		l.introduce(id, q.Get("name"), q.Get("room"), r.at)
	}
}

// introduce has a client say its name, and enter a room if one is given, without its own
// words.
func (l *loop) introduce(id int32, name, room string, at mono.Time) {
	for _, message := range []map[string]string{{"kind": "name", "name": name}, {"kind": "enter", "room": room}} {
		if message["kind"] == "name" || room != "" {
			b, _ := json.Marshal(message) // strings can always be written
			l.board.Message(member(id), b, at)
		}
	}
}
