package reading

import (
	"bytes"

	"tidepull/internal/trial/expr"
	"tidepull/internal/wire/jsonscan"
)

// A Part is one message of a frame, borrowed, that is to be read.
type Part struct {
	Text []byte
	JSON []byte // the part of it that is JSON
}

// Size is how many bytes the part takes.
func (p *Part) Size() int { return len(p.Text) + len(p.JSON) }

// Part gives the part of a message that is JSON, by the dialect; all of it if that says nothing.
func (r *Reader) Part(text []byte) Part {
	d := &r.t.Dialect
	if d.JSON == nil {
		return Part{text, text}
	}
	r.scope.Vars[expr.VarText] = expr.Value{Kind: expr.String, Str: text}
	r.json = append(r.json[:0], d.JSON.Eval(r.scope).Str...)
	return Part{text, r.json}
}

// Each calls f with each item of a list of messages, by the dialect, that the message in the scope
// holds; false if it holds none.
func (r *Reader) Each(f func(Part)) bool {
	v := r.t.Dialect.Each.Eval(r.scope)
	return v.Kind == expr.JSON && jsonscan.Elements(bytes.Clone(v.Str), func(item []byte) {
		if item[0] == '"' { // the message is what the text says
			item = jsonscan.Unquote(nil, item[1:len(item)-1])
		}
		f(Part{item, item})
	})
}
