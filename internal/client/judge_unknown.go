package client

import (
	"encoding/json"
	"fmt"
	"strings"

	"tidepull/internal/base/plain"
	"tidepull/internal/client/reading"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
	"tidepull/internal/trial/expr"
)

// unheard remembers what the messages looked like that no rule recognised, by
// their shape.
type unheard struct {
	shape  []byte
	shapes map[string]meaning
	told   int // replies that were told of
}

// A meaning is that of messages that nothing waited for.
type meaning struct {
	why   string // the reason that is counted; "" for a shape that some rule knows
	reply bool   // it may be the answer to something that its client has said
}

// Bounds on what is kept of messages that nothing recognised.
const (
	maxShapes = 500
	inShape   = 160 // bytes of a message
	maxTold   = 2000
)

// unknown handles a message without a mark that was not what its client waited
// for. It counts as not recognised unless some rule is about such messages.
func (e *Env) unknown(m *reading.Message) {
	if e.garbled() { // the trial has made it what it is
		return
	}
	payload := m.Text
	u := &e.unheard
	u.shape = shapeOf(u.shape[:0], payload)
	of, seen := u.shapes[string(u.shape)]
	if !seen && len(u.shapes) < maxShapes {
		if u.shapes == nil {
			u.shapes = map[string]meaning{}
		}
		rule, nearest := e.recognises(m)
		of.reply = rule == "" || strings.HasPrefix(rule, "refused of ")
		if rule == "" {
			of.why = e.hide(fmt.Sprintf("not recognised: '%s'%s%s",
				plain.Text(string(payload[:min(len(payload), 400)]), 200), nearest, taking(m.JSON)))
		}
		u.shapes[string(u.shape)] = of
	} else if !seen {
		of = meaning{"not recognised: others", true}
	}
	if of.why != "" {
		e.counts().Unknown++
		e.Reasons.Count(of.why, 1)
	}
	if of.reply && u.told < maxTold {
		u.told++
		e.event(logbook.Replied, noRoom, e.hide(plain.Text(wordsOf(payload), maxReason)))
	}
}

// A rule is one of those by which messages are recognised.
type rule struct {
	name string
	when *expr.Program
}

// recognises names the rule of the dialect, or the step of the client's session, that is about such a message, even
// if it is not awaited now. If none is, nearest says which one looks for something that stands in the message, and
// finds it elsewhere.
func (e *Env) recognises(m *reading.Message) (by, nearest string) {
	if !m.Read {
		e.load(m.Part)
	}
	d := &e.Trial.Dialect
	rules := []rule{{"confirmed of name", d.Naming.Confirmed}, {"refused of name", d.Naming.Refused},
		{"confirmed of enter", d.Enter.Confirmed}, {"refused of enter", d.Enter.Refused},
		{"confirmed of leave", d.Leave.Confirmed}, {"refused of leave", d.Leave.Refused}, {"past", d.Past},
		{"heard", d.Heard.When}, {"after of name", d.Naming.After},
		{"then of name", d.Naming.Then}, {"beat", d.Beat.When}, {"echo", d.Echo}, {"other", d.Other},
		{"presence", d.Presence.When}, {"joined", d.Joined.When}, {"gone", d.Gone.When}}
	steps := e.script.steps()
	for i := range steps {
		if s := &steps[i]; s.Do == trial.Expect {
			rules = append(rules, rule{"expect " + s.Label, s.When})
		}
	}
	for _, r := range rules {
		switch {
		case r.when == nil:
		case r.when.MayHold(m.JSON) && r.when.True(&e.scope):
			return r.name, ""
		case nearest == "" && r.when.Speaks(m.JSON):
			nearest = "; the nearest rule is " + r.name
		}
	}
	return "", nearest
}

// said gives the server's own words of the message at hand: what the dialect says they are, that of its fields in
// which servers usually put them, or all of it.
func (e *Env) said(what string, why *expr.Program) string {
	var words string
	if why != nil {
		if v := why.Eval(&e.scope); v.Kind != expr.Missing {
			words = string(v.Append(nil))
		}
	}
	if v := e.scope.Vars[expr.VarText]; words == "" && v.Kind == expr.String {
		words = wordsOf(v.Str)
	}
	if words == "" {
		return what
	}
	// What quotes each client's own name, or its room, is one reason, not one for each.
	for _, own := range []struct {
		of expr.Var
		as string
	}{{expr.VarName, "(its name)"}, {expr.VarRoom, "(the room)"}} {
		if name := e.scope.Vars[own.of]; name.Kind == expr.String && len(name.Str) > 2 {
			words = strings.ReplaceAll(words, string(name.Str), own.as)
		}
	}
	return fmt.Sprintf("%s; the server said '%s'", what, plain.Text(words, maxReason))
}

// maxWords bounds the messages that are looked into for words.
const maxWords = 64 << 10

func wordsOf(message []byte) string {
	var fields map[string]any
	if len(message) > maxWords || json.Unmarshal(message, &fields) != nil {
		return string(message[:min(len(message), 400)])
	}
	for _, name := range []string{"reason", "error", "message", "text", "detail", "why", "description"} {
		switch v := fields[name].(type) {
		case string:
			return v
		case map[string]any:
			if s, ok := v["message"].(string); ok {
				return s
			}
		}
	}
	return string(message[:min(len(message), 400)])
}
