package client

import (
	"errors"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/lane"
	"tidepull/internal/trial"
	"tidepull/internal/trial/expr"
	"tidepull/internal/wire/http1"
)

// A web is a client's connection for HTTP requests, with its cookies. There is
// one request at a time; the connection stays open in between if the server
// lets it.
type web struct {
	open, busy bool
	used       bool // the connection has served a request already
	headed     bool // the answer's head is there
	redirects  int
	method     string
	fields     []http1.Field // of the request, without those of its content
	sends      []byte        // its content; nil if there is none
	out        []byte        // the request
	head       http1.Head
	body       http1.Body
	pending    []byte
	content    []byte
	jar        []cookie
	path       string
	quiet      mono.Time // when the last answer ended
}

type cookie struct{ name, value string }

// maxContent is the longest answer that is read.
const maxContent = 8 << 20

// maxQuiet is how long a kept connection may have been unused before a request
// that cannot be sent again gets a new one.
const maxQuiet = time.Second

// maxCookies bounds a client's jar.
const maxCookies = 50

func (w *web) cookies() string {
	var b strings.Builder
	for i, c := range w.jar {
		if i > 0 {
			b.WriteString("; ")
		}
		b.WriteString(c.name + "=" + c.value)
	}
	return b.String()
}

// keepCookies puts the answer's cookies into the jar (RFC 6265 5.3, without
// domains and paths: there is one server).
func (w *web) keepCookies() {
	for _, f := range w.head.Fields {
		if !strings.EqualFold(f.Name, "Set-Cookie") {
			continue
		}
		pair, rest, _ := strings.Cut(f.Value, ";")
		name, value, ok := strings.Cut(pair, "=")
		name, value = strings.TrimSpace(name), strings.TrimSpace(value)
		if !ok || name == "" {
			continue
		}
		w.jar = slices.DeleteFunc(w.jar, func(c cookie) bool { return c.name == name })
		age := strings.ToLower(strings.ReplaceAll(rest, " ", ""))
		over := strings.Contains(age, "max-age=0") || strings.Contains(age, "max-age=-")
		if value != "" && !over && len(w.jar) < maxCookies {
			w.jar = append(w.jar, cookie{name, value})
		}
	}
}

// idempotent reports whether a request may be sent again if the connection was
// closed before it was answered: doing it twice is as doing it once (RFC 9110
// 9.2.2).
func idempotent(method string) bool {
	switch method {
	case "GET", "HEAD", "PUT", "DELETE", "OPTIONS", "TRACE":
		return true
	}
	return false
}

// size is how many bytes of an answer are held.
func (w *web) size() int { return len(w.pending) + len(w.content) }

// target makes a request's target out of what a template gave: an absolute
// path, without what would end the request line.
func target(s string) string {
	s = strings.Map(func(r rune) rune {
		if r <= ' ' || r == 0x7f {
			return -1
		}
		return r
	}, s)
	if !strings.HasPrefix(s, "/") {
		s = "/" + s
	}
	return s
}

// fields evaluates header fields. What would end a field is left out.
func (c *Client) fields(e *Env, fields []trial.Field) []http1.Field {
	var out []http1.Field
	for _, f := range fields {
		value := strings.Map(func(r rune) rune {
			if r == '\r' || r == '\n' || r == 0 {
				return -1
			}
			return r
		}, string(f.Value.Append(nil, &e.scope)))
		out = append(out, http1.Field{Name: f.Name, Value: value})
	}
	return out
}

// ask makes the step's HTTP request. One that publishes a message is accounted
// for in the ledger: its latency counts from here.
func (c *Client) ask(e *Env, now mono.Time, s *trial.Step) {
	w, r := &c.extra().web, s.Request
	c.fill(e)
	var content []byte
	switch {
	case r.Publishes:
		if _, ok := c.account(e, now, s); !ok {
			c.pc++
			return
		}
		c.bodyOf(e, s)
		content = slices.Clone(e.body)
	case r.Content != nil:
		content = r.Content.Append(nil, &e.scope)
	}
	w.redirects, w.path = r.Redirects, target(string(r.Path.Append(nil, &e.scope)))
	w.method, w.fields, w.sends = r.Method, c.fields(e, r.Fields), content
	c.await(forAnswer, now, s.Within)
	e.lane(c, now, lane.Record{What: lane.Requested, Peer: -1, Room: noRoom, Size: uint32(len(content))})
	c.request(e)
}

func (c *Client) request(e *Env) {
	w := &c.more.web
	all := []http1.Field{{Name: "Host", Value: e.Web}}
	if cookies := w.cookies(); cookies != "" {
		all = append(all, http1.Field{Name: "Cookie", Value: cookies})
	}
	all = append(all, w.fields...)
	if w.sends != nil {
		all = append(all, http1.Field{Name: "Content-Type", Value: c.step().Request.Type}, http1.Field{Name: "Content-Length", Value: strconv.Itoa(len(w.sends))})
	}
	if w.open && w.used && !idempotent(w.method) && e.now.Sub(w.quiet) > maxQuiet {
		c.dropWeb(e) // the server may be about to close it, and this could not be sent again
	}
	w.busy = true
	w.out = append(http1.AppendRequest(w.out[:0], w.method, w.path, all...), w.sends...)
	if w.open {
		e.WebOut = append(e.WebOut, w.out...)
		return
	}
	e.WebDial = true
}

// WebOpened tells the client that the connection for its requests is open.
func (c *Client) WebOpened(e *Env) {
	w := &c.extra().web
	w.open, w.used = true, false
	if w.busy {
		e.WebOut = append(e.WebOut, w.out...)
	}
}

// WebData gives the client bytes of an answer.
func (c *Client) WebData(e *Env, b []byte, at, now mono.Time) {
	e.now = now
	e.counts().Bytes += int64(len(b))
	if c.more == nil {
		return
	}
	w := &c.more.web
	if !w.busy {
		c.dropWeb(e) // nothing was asked for
		return
	}
	w.pending = append(w.pending, b...)
	before := w.size() - len(b)
	err := w.consume()
	if e.held += w.size() - before; err == nil && e.held > maxHeld {
		err = tooMuchHeld
	}
	if err != nil {
		c.unanswered(e, now, err)
		return
	}
	if w.headed && w.body.Done() {
		c.answered(e, at, now)
	}
}

// consume takes what it can of an answer.
func (w *web) consume() (err error) {
	for !w.headed {
		h, n, err := http1.ConsumeResponse(w.pending)
		if err != nil || n == 0 {
			return err
		}
		w.pending = w.pending[n:]
		if h.Status/100 == 1 {
			continue // on its way (RFC 9110 15.2)
		}
		w.head, w.headed = h, true
		if w.body, err = http1.ResponseBody(&h, w.method); err != nil {
			return err
		}
	}
	for {
		part, n, err := w.body.Next(w.pending)
		if err != nil {
			return err
		}
		if w.content = append(w.content, part...); len(w.content) > maxContent {
			return errors.New("the answer is longer than 8 MiB")
		}
		if w.pending = w.pending[n:]; n == 0 {
			return nil
		}
	}
}

// WebBroke tells the client that the connection for its requests is gone.
func (c *Client) WebBroke(e *Env, now mono.Time, err error) {
	e.now = now
	if c.more == nil {
		return
	}
	w := &c.more.web
	w.open = false
	switch {
	case !w.busy:
	case w.headed && w.body.UntilClose():
		c.answered(e, now, now)
	case w.used && !w.headed && len(w.pending) == 0 && idempotent(w.method):
		w.used = false
		e.WebDial = true // it was closed while the request was on its way
	default:
		c.unanswered(e, now, err)
	}
}

func (c *Client) dropWeb(e *Env) {
	e.WebHangup = true
	c.more.web.open = false
}

// answered handles a whole answer.
func (c *Client) answered(e *Env, at, now mono.Time) {
	w := &c.more.web
	w.busy, w.headed, w.used = false, false, true
	content, h := w.content, &w.head
	e.held -= w.size()
	w.content, w.pending, w.quiet = nil, nil, now
	if h.HasToken("Connection", "close") || w.body.UntilClose() {
		c.dropWeb(e)
	}
	w.keepCookies()
	if c.wait != forAnswer {
		return
	}
	if h.Status/100 == 3 && w.redirects > 0 && h.Get("Location") != "" {
		if c.redirect(e, h) {
			return
		}
	}
	s := c.step()
	e.counts().Requests++
	e.Book.Now().Answer.Record(at.Sub(c.began))
	e.lane(c, at, lane.Record{What: lane.Answered, Number: uint64(h.Status), Peer: -1, Room: noRoom, Size: uint32(len(content))})
	c.read(e, content)
	e.scope.Vars[expr.VarStatus] = expr.Num(float64(h.Status))
	e.scope.Head = h
	wrong := wrongIn(h, s.Request, &e.scope)
	if wrong == "" {
		c.capture(e, s.Capture)
	}
	e.check(c, now, s.Check, wrong == "", wrong)
	e.scope.Head = nil
	c.resume(e, now)
}

// wrongIn tells what is not as it must be in an answer, or "".
func wrongIn(h *http1.Head, r *trial.Request, s *expr.Scope) string {
	switch {
	case r.Status != 0 && h.Status != r.Status, r.Status == 0 && h.Status >= 400:
		return "the answer's status is " + strconv.Itoa(h.Status)
	case r.When != nil && !r.When.True(s):
		return "the answer is not as it must be"
	}
	return ""
}

// redirect follows an answer to another path of the same server; false where
// it leads elsewhere.
func (c *Client) redirect(e *Env, h *http1.Head) bool {
	w := &c.more.web
	to, err := url.Parse(h.Get("Location"))
	if err != nil || to.Host != "" && to.Host != e.Web {
		return false
	}
	base := &url.URL{Path: "/"}
	if at, err := url.ParseRequestURI(w.path); err == nil {
		base = at
	}
	w.redirects--
	w.path = target(base.ResolveReference(to).RequestURI())
	if h.Status == 303 || w.method == "POST" && h.Status < 307 {
		w.method, w.sends = "GET", nil // RFC 9110 15.4
	}
	c.request(e)
	return true
}

// unanswered handles that a request failed.
func (c *Client) unanswered(e *Env, now mono.Time, err error) {
	w := &c.more.web
	e.held -= w.size()
	w.busy, w.headed, w.content, w.pending = false, false, nil, nil
	c.dropWeb(e)
	if c.wait != forAnswer {
		return
	}
	if e.shortage(err, now) != nil {
		c.resume(e, now)
		return
	}
	e.counts().Unheard++
	e.check(c, now, c.step().Check, false, reasonOf(err))
	if c.phase == started {
		e.Refused++ // if nobody gets any further, the server is not there
	}
	c.resume(e, now)
}
