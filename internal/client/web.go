package client

import (
	"slices"
	"strconv"
	"strings"

	"tidepull/internal/base/mono"
	"tidepull/internal/client/reading"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
	"tidepull/internal/trial/expr"
	"tidepull/internal/wire/http1"
	"tidepull/internal/wire/transport"
)

// fields evaluates header fields. Line breaks in a value, which would end its field, are not written.
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
	r := s.Request
	c.fill(e)
	var content []byte
	switch {
	case r.Publishes:
		if !c.account(e, now, s) {
			c.pc++
			return
		}
		c.bodyOf(e, s)
		content = slices.Clone(e.body)
	case r.Content != nil:
		content = r.Content.Append(nil, &e.scope)
	}
	c.await(forAnswer, now, s.Within)
	e.record(c, now, lane.Requested, 0, len(content))
	side := e.Side
	side.From = e.fromOf(c)
	c.optional().web.Ask(&e.IO, &side, e.Web, transport.Request{Method: r.Method,
		Path:   transport.Target(string(r.Path.Append(nil, &e.scope))),
		Fields: c.fields(e, r.Fields), Type: r.Type, Content: content, Redirects: r.Redirects})
}

// drainWeb handles what came of a request.
func (c *Client) drainWeb(e *Env, at, now mono.Time) {
	for c.more != nil {
		ev := c.more.web.Next(&e.IO)
		switch ev.Kind {
		case transport.Nothing:
			return
		case transport.Reply:
			c.answered(e, ev.Head, ev.Payload, at, now)
		case transport.Failed:
			c.unanswered(e, now, ev.Err)
		}
	}
}

// answered handles a whole answer.
func (c *Client) answered(e *Env, h *http1.Head, content []byte, at, now mono.Time) {
	if c.wait != forAnswer {
		return
	}
	s := c.step()
	e.counts().Requests++
	e.Book.Now().Times[logbook.ToAnswer].Record(at.Sub(c.began))
	e.record(c, at, lane.Answered, uint64(h.Status), len(content))
	c.load(e, reading.Part{Text: content, JSON: content})
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

// wrongIn says what is not as it must be in an answer, or "".
func wrongIn(h *http1.Head, r *trial.Request, s *expr.Scope) string {
	switch {
	case r.Status != 0 && h.Status != r.Status, r.Status == 0 && h.Status >= 400:
		return "the answer's status is " + strconv.Itoa(h.Status)
	case r.When != nil && !r.When.True(s):
		return "the answer is not as it must be"
	}
	return ""
}

// unanswered handles that a request failed.
func (c *Client) unanswered(e *Env, now mono.Time, err error) {
	if c.wait != forAnswer {
		return
	}
	if e.shortage(err, now) != nil {
		c.resume(e, now)
		return
	}
	doubt := e.inDoubt(c.began, now)
	e.counts().Unheard++
	e.doubts(doubt).Unheard++
	e.fails(c, now, c.step().Check, reasonOf(err), doubt)
	if c.phase == offline {
		e.note(c, now, fact.ConnsFail, 0, 1) // if nobody gets any further, the server is not there
	}
	c.resume(e, now)
}
