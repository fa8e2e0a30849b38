package standin

import (
	"encoding/json"
	"errors"
	"net/url"
	"strconv"
	"unicode/utf8"

	"tidepull/internal/mono"
	"tidepull/internal/wire"
	"tidepull/internal/wire/http1"
	"tidepull/internal/wire/ws"
)

// Accepted implements poll.Handler.
func (l *loop) Accepted(id int32) {
	for int(id) >= len(l.conns) {
		l.conns = append(l.conns, conn{})
	}
	l.conns[id] = conn{state: greeting, heard: l.drv.Now(), reader: ws.Reader{FromPeer: ws.Client}}
}

// Opened implements poll.Handler; the server does not dial.
func (l *loop) Opened(int32) {}

// Broke implements poll.Handler.
func (l *loop) Broke(id int32, _ error) {
	l.part(id)
	l.conns[id] = conn{}
}

// Data implements poll.Handler.
func (l *loop) Data(id int32, b []byte, at mono.Time) {
	c := &l.conns[id]
	c.heard = l.drv.Now()
	if len(c.pending) > 0 {
		c.pending = append(c.pending, b...)
		b = c.pending
	}
	n := l.consume(id, c, b, at)
	if rest := b[n:]; len(rest) > 0 && c.state != free {
		c.pending = append(c.pending[:0], rest...)
	} else {
		c.pending = nil
	}
}

func (l *loop) consume(id int32, c *conn, b []byte, at mono.Time) (taken int) {
	if c.state == greeting {
		if taken = l.greet(id, c, b); taken == 0 {
			return 0
		}
	}
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
		case ev.Op == ws.OpPing:
			l.pong = ws.AppendFrame(l.pong[:0], ws.OpPong, ev.Payload)
			l.drv.Write(id, l.pong)
		case ev.Op == ws.OpText && c.state == live:
			l.board.Message(id, ev.Payload, at)
		case ev.Op == ws.OpBinary && c.state == live && utf8.Valid(ev.Payload):
			l.board.Message(id, ev.Payload, at)
		}
		if n == 0 {
			return taken
		}
	}
	return len(b)
}

func (l *loop) violated(id int32, err error) {
	var v *wire.ProtocolError
	if errors.As(err, &v) && v.Code != 0 {
		l.goodbye(id, v.Code, v.Rule)
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
		l.goodbye(id, code, "")
	}
	l.drop(id)
}

// greet answers a request once it is whole.
func (l *loop) greet(id int32, c *conn, b []byte) int {
	h, n, err := http1.ConsumeRequest(b)
	switch {
	case err != nil:
		l.answer(id, 400, "Bad Request", "text/plain", []byte(err.Error()+"\n"))
		return len(b)
	case n == 0:
		return 0
	}
	u, err := url.ParseRequestURI(h.Path)
	if err != nil {
		l.answer(id, 400, "Bad Request", "text/plain", []byte("the path cannot be read\n"))
		return len(b)
	}
	if u.Path != "/live" {
		l.answerHTTP(id, h.Method, u)
		return len(b)
	}
	if wrong := ws.CheckRequest(&h); wrong != "" {
		l.answer(id, 400, "Bad Request", "text/plain", []byte(wrong+"\n"))
		return len(b)
	}
	l.drv.Write(id, ws.AppendAgreement(nil, h.Get("Sec-WebSocket-Key")))
	c.state = live
	l.board.Join(id)
	return n
}

func (l *loop) answerHTTP(id int32, method string, u *url.URL) {
	const lines = "application/x-ndjson"
	switch what := method + " " + u.Path; what {
	case "GET /truth":
		l.answerJSON(id, l.board.Summary())
	case "GET /truth/messages":
		l.answer(id, 200, "OK", lines, l.board.Truth.AppendMessages(nil))
	case "GET /truth/deliveries":
		l.answer(id, 200, "OK", lines, l.board.Truth.AppendDeliveries(nil))
	case "GET /switches":
		l.answerJSON(id, l.board.Switches())
	case "POST /switches":
		if err := l.board.Switches().Set(u.Query()); err != nil {
			l.answer(id, 400, "Bad Request", "text/plain", []byte(err.Error()+"\n"))
			return
		}
		l.answerJSON(id, l.board.Switches())
	default:
		l.answer(id, 404, "Not Found", "text/plain", []byte("here are /live, /truth, /truth/messages, /truth/deliveries and /switches\n"))
	}
}

func (l *loop) answerJSON(id int32, v any) {
	b, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		panic(err) // plain structs
	}
	l.answer(id, 200, "OK", "application/json", append(b, '\n'))
}

// answer answers a request and closes the connection.
func (l *loop) answer(id int32, status int, reason, kind string, body []byte) {
	head := http1.AppendResponse(nil, status, reason,
		http1.Field{Name: "Content-Type", Value: kind},
		http1.Field{Name: "Content-Length", Value: strconv.Itoa(len(body))},
		http1.Field{Name: "Connection", Value: "close"})
	l.drv.Write(id, append(head, body...))
	l.drop(id)
}
