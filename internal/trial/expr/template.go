package expr

import (
	"net/url"
	"slices"
	"strings"

	"tidepull/internal/wire/jsonscan"
)

// A Template is text with values put into it. It is immutable; the zero value
// is empty.
type Template struct{ parts []part }

type part struct {
	text    []byte
	value   *Program
	inJSON  bool // the value stands inside a JSON string literal
	asValue bool // the value stands where a JSON value does: strings get quotes
	inQuery bool // the value stands in an address or a form
}

// Text appends fixed text to t.
func (t *Template) Text(s string) {
	if n := len(t.parts); n > 0 && t.parts[n-1].value == nil {
		t.parts[n-1].text = append(t.parts[n-1].text, s...)
		return
	}
	t.parts = append(t.parts, part{text: []byte(s)})
}

// Value appends a value as it is.
func (t *Template) Value(p *Program) { t.parts = append(t.parts, part{value: p}) }

// Quoted appends a value as a part of a JSON string literal.
func (t *Template) Quoted(p *Program) { t.parts = append(t.parts, part{value: p, inJSON: true}) }

// Escaped appends a value as it stands in an address or a form.
func (t *Template) Escaped(p *Program) { t.parts = append(t.parts, part{value: p, inQuery: true}) }

// JSON appends a value as a JSON value of its own.
func (t *Template) JSON(p *Program) { t.parts = append(t.parts, part{value: p, asValue: true}) }

// Shape is the fixed text, with an ellipsis for each value: "lock-…".
func (t *Template) Shape() string {
	var b strings.Builder
	for _, p := range t.parts {
		if p.value != nil {
			b.WriteString("…")
		} else {
			b.Write(p.text)
		}
	}
	return b.String()
}

// Empty reports whether t has no part at all.
func (t *Template) Empty() bool { return len(t.parts) == 0 }

// Append appends what t says in s.
func (t *Template) Append(dst []byte, s *Scope) []byte {
	for i := range t.parts {
		p := &t.parts[i]
		switch {
		case p.value == nil:
			dst = append(dst, p.text...)
		case p.asValue:
			dst = appendJSON(dst, p.value.Eval(s))
		case p.inQuery:
			dst = append(dst, url.QueryEscape(string(p.value.Eval(s).Append(nil)))...)
		case p.inJSON:
			v := p.value.Eval(s)
			if v.Kind == String || v.Kind == JSON {
				dst = jsonscan.AppendEscaped(dst, v.Str)
			} else {
				dst = v.Append(dst)
			}
		default:
			dst = p.value.Eval(s).Append(dst)
		}
	}
	return dst
}

func appendJSON(dst []byte, v Value) []byte {
	switch v.Kind {
	case Missing:
		return append(dst, "null"...)
	case String:
		return jsonscan.AppendQuoted(dst, v.Str)
	}
	return v.Append(dst)
}

// Uses reports whether a variable stands in t.
func (t *Template) Uses(v Var) bool { return t.Times(v) > 0 }

// UsesLocals reports whether something stands in t that a client captured or set.
func (t *Template) UsesLocals() bool {
	for i := range t.parts {
		if v := t.parts[i].value; v != nil && len(v.Locals()) > 0 {
			return true
		}
	}
	return false
}

// Times is in how many places of t a variable stands.
func (t *Template) Times(v Var) (n int) {
	if t == nil {
		return 0
	}
	for i := range t.parts {
		if p := t.parts[i].value; p != nil && slices.Contains(p.code, instruction{op: opVar, arg: int(v)}) {
			n++
		}
	}
	return n
}
