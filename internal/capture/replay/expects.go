package replay

import (
	"encoding/hex"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"tidepull/internal/base/plain"
	"tidepull/internal/trial/language"
	"tidepull/internal/wire/jsonscan"
	"tidepull/internal/wire/ws"
)

// closed waits for the server to end the connection.
func (w *writer) closed(a *Actor, i int) {
	s := &a.Steps[i]
	w.p("expect_close \"the server ends the connection\" {")
	switch {
	case s.Code == ws.CloseNoStatus: // any code
	case s.Code != 0:
		w.p("code = %d", s.Code)
	case a.Speech == WebSocket && w.plan.over == "":
		w.p("abrupt = true")
	}
	w.within(a, i)
	w.p("}")
}

// within writes how long may be waited for what came long after the client last did something: others may have to
// do something first.
func (w *writer) within(a *Actor, i int) {
	if after := a.Steps[i].At - lastDeed(a, i); after > 2*time.Second {
		w.p("within = %q", (2*after + 5*time.Second).Round(time.Second).String())
	}
}

// hear waits for something that the server said, unless the same kind of thing
// is waited for already since the client last did something.
func (w *writer) hear(a *Actor, i int) {
	if i > 0 && sameMessage(&a.Steps[i-1], &a.Steps[i]) {
		return
	}
	label, when, gives := w.recogniseAll(a, i)
	for k := i - 1; k >= 0 && a.Steps[k].Do == Hear; k-- {
		if _, other, _ := w.recogniseAll(a, k); other == when && !gives {
			return
		}
	}
	w.p("expect %s {\n when = %s\n already = true", language.Quote(label), when)
	w.within(a, i)
	w.captures(message(a.Steps[i:])...)
	w.p("}")
}

// sameMessage reports whether two steps are records of one message.
func sameMessage(a, b *Step) bool { return a.Record && b.Record && a.Do == b.Do && a.At == b.At }

// message gives the records of the message that the first of some steps is in.
func message(steps []Step) (records []*Step) {
	for i := range steps {
		if i > 0 && !sameMessage(&steps[0], &steps[i]) {
			break
		}
		records = append(records, &steps[i])
	}
	return records
}

// recogniseAll gives a name for a message, and a condition that it meets with all its records; gives reports
// whether values are taken from it.
func (w *writer) recogniseAll(a *Actor, i int) (label, when string, gives bool) {
	var labels, conditions []string
	for _, s := range message(a.Steps[i:]) {
		l, c := w.recognise(a, s)
		labels, conditions, gives = append(labels, l), append(conditions, c), gives || len(s.Gives) > 0
	}
	return strings.Join(labels, ", "), strings.Join(conditions, " && "), gives
}

// lastDeed is when the client last did something before a step.
func lastDeed(a *Actor, i int) time.Duration {
	for k := i; k >= 0; k-- {
		if !a.Steps[k].IsHeard() {
			return a.Steps[k].At
		}
	}
	return a.Steps[0].At
}

// captures writes what is taken from steps.
func (w *writer) captures(steps ...*Step) {
	var lines []string
	for _, s := range steps {
		for _, i := range s.Gives {
			lines = append(lines, w.plan.Guesses[i].Local+" = "+w.taken(s, &w.plan.Guesses[i]))
		}
	}
	if len(lines) > 0 {
		w.p("capture = {\n%s\n}", strings.Join(lines, "\n"))
	}
}

// taken is the expression for a value that the server gives in a step.
func (w *writer) taken(s *Step, g *Guess) string {
	switch {
	case g.Cookie != "":
		return "cookie(" + language.Quote(g.Cookie) + ")"
	case s.Record:
		return w.inRecord(s, g)
	case s.Do == Ask:
		return access(s.Answer, g.Path)
	}
	return access(s.Payload, g.Path)
}

// recognise gives a name for a server's message, and a condition that it meets.
func (w *writer) recognise(a *Actor, s *Step) (label, when string) {
	if s.Binary {
		return "a binary message", fmt.Sprintf("length(text) > 0 && starts(hex(text), %q)",
			hex.EncodeToString(s.Payload[:min(len(s.Payload), 4)]))
	}
	if key, value, ok := discriminator(s.Payload); ok && s.Record {
		if m := memberForm(key, regexp.QuoteMeta(value)).Find(s.Payload); m != nil {
			return plain.Text(value, 60), "contains(text, " + language.Quote(string(m)) + ")"
		}
	} else if ok {
		return plain.Text(value, 60), access(s.Payload, key) + " == " + language.Quote(value)
	}
	text := string(s.Payload)
	for _, part := range splitVarying(text, w.valuesOf(a)) {
		if len(strings.TrimSpace(part)) >= 3 {
			part = part[:min(len(part), 60)]
			return plain.Text(part, 60), "contains(text, " + language.Quote(strings.ToValidUTF8(part, "")) + ")"
		}
	}
	return "a message", "length(text) > 0"
}

// inRecord is the expression for a value in a message that holds several records.
func (w *writer) inRecord(s *Step, g *Guess) string {
	for _, form := range []string{`[^"]*`, `[^",}\]]+`} { // a text, a number
		form := memberForm(g.Path, "("+form+")")
		if m := form.FindSubmatch(s.Payload); m != nil && string(m[1]) == g.Value {
			return fmt.Sprintf("match(text, %s)", language.Quote(form.String()))
		}
	}
	return access(s.Payload, g.Path)
}

// memberForm finds the member of an object that ends a path, with a value of some form.
func memberForm(path, value string) *regexp.Regexp {
	name := path[strings.LastIndexAny(path, "."+inText)+1:]
	return regexp.MustCompile(`"` + regexp.QuoteMeta(name) + `"\s*:\s*"?` + value + `"?`)
}

// access is the expression for what stands at a path in a message.
func access(message []byte, path string) string {
	first, inside, _ := strings.Cut(path, inText)
	front, _ := jsonscan.Behind(message)
	at := "msg"
	if front != "" {
		at = fmt.Sprintf("field(substr(text, %d), %s)", len(front), language.Quote(first))
	} else {
		for _, part := range strings.Split(first, ".") {
			_, err := strconv.Atoi(part)
			switch {
			case err == nil:
				at += "[" + part + "]"
			case plainName(part):
				at += "." + part
			default:
				at += "[" + language.Quote(part) + "]"
			}
		}
	}
	for inside != "" {
		first, inside, _ = strings.Cut(inside, inText)
		at = fmt.Sprintf("field(%s, %s)", at, language.Quote(first))
	}
	return at
}

// splitVarying takes the values, what looks made up, and the digits out of a text.
func splitVarying(text string, values []string) []string {
	for _, v := range values {
		text = strings.ReplaceAll(text, v, "\x00")
	}
	text = token.ReplaceAllStringFunc(text, func(word string) string {
		if opaque(word) {
			return "\x00"
		}
		return word
	})
	return strings.FieldsFunc(text, func(r rune) bool { return r == 0 || r >= '0' && r <= '9' })
}
