package client

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"tidepull/internal/base/mono"
	"tidepull/internal/base/plain"
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
func (e *Env) fields(fields []trial.Field) []http1.Field {
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
func (s *script) ask(e *Env, step *trial.Step) {
	r := step.Request
	e.fill()
	var content []byte
	switch {
	case r.Publishes:
		if !s.account(e, step) {
			s.pc++
			return
		}
		s.bodyOf(e, step)
		if r.Content != nil {
			content = slices.Clone(e.body)
		}
	case r.Content != nil:
		content = r.Content.Append(nil, &e.scope)
	}
	s.await(e, forAnswer, step.Within)
	e.record(e.now, lane.Requested, 0, len(content))
	side := e.Side
	side.From = e.fromOf()
	e.path.web().Ask(&e.IO, &side, e.Web, transport.Request{Method: r.Method,
		Path:   transport.Target(string(r.Path.Append(nil, &e.scope))),
		Fields: e.fields(r.Fields), Type: r.Type, Content: content, Redirects: r.Redirects})
}

// answered handles a whole answer.
func (s *script) answered(e *Env, h *http1.Head, content []byte, at mono.Time) {
	if s.wait != forAnswer {
		return
	}
	step := s.step()
	e.counts().Requests++
	e.Book.Now().Times[logbook.ToAnswer].Record(at.Sub(s.began))
	e.record(at, lane.Answered, uint64(h.Status), len(content))
	e.load(reading.Part{Text: content, JSON: content})
	e.scope.Vars[expr.VarStatus] = expr.Num(float64(h.Status))
	e.scope.Head = h
	wrong := wrongIn(h, step.Request, &e.scope)
	if wrong == "" {
		s.capture(e, step.Capture)
	}
	e.check(step.Check, wrong == "", wrong)
	e.scope.Head = nil
	s.resume(e)
}

// wrongIn says what is not as it must be in an answer, or "".
func wrongIn(h *http1.Head, r *trial.Request, s *expr.Scope) string {
	switch {
	case r.Status != 0 && h.Status != r.Status, r.Status == 0 && h.Status >= 400:
		return "the answer's status is " + strconv.Itoa(h.Status)
	case r.Status == 0 && h.Status >= 300 && h.Get("Location") != "" && r.Redirects > 0:
		// It goes round in a circle, or to another host, of which nobody has said that it may be asked.
		return fmt.Sprintf("the answer is a redirect that is not followed: %d to '%s'", h.Status,
			plain.Text(h.Get("Location"), 100))
	case r.When != nil && !r.When.True(s):
		return "the answer is not as it must be"
	}
	return ""
}

// unanswered handles that a request failed.
func (s *script) unanswered(e *Env, err error) {
	if s.wait != forAnswer {
		return
	}
	if e.shortage(err) != nil {
		s.resume(e)
		return
	}
	doubt := e.inDoubt(s.began)
	e.counts().Unheard++
	e.doubts(doubt).Unheard++
	e.fails(s.step().Check, reasonOf(err), doubt)
	if e.path.is(offline) {
		e.note(fact.ConnsFail, 0, 1) // if nobody gets any further, the server is not there
	}
	s.resume(e)
}
