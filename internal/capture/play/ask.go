package play

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"tidepull/internal/capture/replay"
)

// An asking is a request that a player has made. Requests that were under way at the same
// time in the recording are so again: a long poll holds up nothing that comes after it.
type asking struct {
	then     replay.Heard // the recorded answer
	now      replay.Heard
	expected bool // the answer had come by now, in the recording, and is waited for
	done     bool
	compares bool // there are both answers
}

// An answer is what became of a request.
type answer struct {
	index   int // of its step
	status  int
	content []byte
	cookies []*http.Cookie
	took    time.Duration
	err     error
}

// maxAnswer bounds the content of an answer.
const maxAnswer = 8 << 20

// ask makes a request; its answer comes on p.answers. The goroutine ends with it, or with
// the player's context.
func (p *player) ask(ctx context.Context, index int, s *replay.Step) error {
	// a long poll takes its time
	ctx, cancel := context.WithTimeout(ctx, max(p.options.Within, 2*s.Took+time.Second))
	req, err := p.request(ctx, s)
	if err != nil {
		cancel()
		return err
	}
	p.asked[index] = &asking{}
	began := time.Now()
	go func() {
		defer cancel()
		a := answer{index: index}
		resp, err := p.web.Do(req)
		if a.err = err; err == nil {
			a.status, a.cookies = resp.StatusCode, resp.Cookies()
			a.content, a.err = io.ReadAll(io.LimitReader(resp.Body, maxAnswer))
			resp.Body.Close()
		}
		a.took = time.Since(began)
		p.answers <- a // there is room for one of each step
	}()
	return nil
}

// answered takes the answer to a request.
func (p *player) answered(a answer) {
	s, of := &p.actor.Steps[a.index], p.asked[a.index]
	of.done = true
	p.lastAt = time.Now()
	if a.err != nil {
		if s.Status > 0 { // it was answered then
			p.gone, p.refusal = true, a.err.Error()
			p.fail(string(replay.Ask), a.err)
		}
		return
	}
	p.reached = true
	of.now = p.answerOf(s, a.status, a.content, a.took)
	of.compares = s.Status > 0
	p.came++
	cookies := map[string]string{}
	for _, c := range a.cookies {
		cookies[c.Name] = c.Value
	}
	for _, i := range s.Gives {
		p.plan.GiveFrom(i, a.content, cookies, p.values)
	}
	p.share()
}

// answerOf gives what can be compared of an answer.
func (p *player) answerOf(s *replay.Step, status int, content []byte, took time.Duration) replay.Heard {
	label := fmt.Sprintf("answer to %s %s", s.Method, strings.SplitN(s.Path, "?", 2)[0])
	h := replay.Heard{Shape: replay.Shape{Kind: fmt.Sprintf("%d, %s", status, label)}, Sample: content, After: took}
	if len(s.Answer) > 0 { // else there was none, or the browser did not tell
		form := replay.ShapeOf(bytes.TrimSpace(content), false, append(p.plan.ValuesOf(p.actor), p.values...))
		h.Shape.Form = form.Kind + form.Form
	}
	return h
}

// compared holds an answer against the recorded one. An answer that never came has failed
// already, or was given up.
func (a *asking) compared(late replay.Lateness) []replay.Difference {
	switch {
	case a.compares && a.then.Shape != (replay.Shape{}):
		return replay.Compare([]replay.Heard{a.then}, []replay.Heard{a.now}, late)
	case !a.done && a.then.Shape != (replay.Shape{}):
		return replay.Compare([]replay.Heard{a.then}, nil, late)
	}
	return nil
}
