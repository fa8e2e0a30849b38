package language

import (
	"slices"
	"strconv"
	"time"

	"github.com/hashicorp/hcl/v2"
	"github.com/hashicorp/hcl/v2/hclsyntax"
	"github.com/zclconf/go-cty/cty"

	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial/expr"
	"tidepull/internal/wire/jsonscan"
)

// A compiler turns the syntax of one expression into a program.
type compiler struct {
	r     *reader
	build expr.Builder
	msg   bool // msg may be used
	marks int  // how often the mark was used
}

// condition compiles an attribute that is tried on messages; nil if it is
// not given.
func (r *reader) condition(a *hcl.Attribute) *expr.Program {
	if a == nil {
		return nil
	}
	p, _ := r.compile(a.Expr, true)
	return p
}

// compile compiles an expression and tells how often it uses the mark.
func (r *reader) compile(e hcl.Expression, msg bool) (*expr.Program, int) {
	c := compiler{r: r, msg: msg}
	c.expression(e)
	p, err := c.build.Build()
	if err != nil {
		r.fail(e.Range(), "%v", err)
	}
	return p, c.marks
}

// textTemplate compiles a text with values put into it, none of a message's.
func (r *reader) textTemplate(a *hcl.Attribute) *expr.Template {
	if a == nil {
		return nil
	}
	t := &expr.Template{}
	r.textParts(t, a.Expr, (*expr.Template).Value)
	return t
}

// bodyTemplate compiles a message and tells how often the mark stands in it.
func (r *reader) bodyTemplate(a *hcl.Attribute) (*expr.Template, int) {
	if a == nil {
		return nil, 0
	}
	t := &expr.Template{}
	switch a.Expr.(type) {
	case *hclsyntax.ObjectConsExpr, *hclsyntax.TupleConsExpr:
		return t, r.jsonParts(t, a.Expr)
	}
	return t, r.textParts(t, a.Expr, (*expr.Template).Value)
}

// textParts appends the parts of a template expression.
func (r *reader) textParts(t *expr.Template, e hcl.Expression, put func(*expr.Template, *expr.Program)) (marks int) {
	tmpl, ok := e.(*hclsyntax.TemplateExpr)
	if !ok {
		p, marks := r.compile(e, false)
		put(t, p)
		return marks
	}
	for _, part := range tmpl.Parts {
		if lit, ok := part.(*hclsyntax.LiteralValueExpr); ok && lit.Val.Type() == cty.String && lit.Val.IsKnown() &&
			!lit.Val.IsNull() {
			r.literal(t, lit.Val.AsString(), put)
			continue
		}
		p, n := r.compile(part, false)
		put(t, p)
		marks += n
	}
	return marks
}

// literal appends fixed text in the way that put appends values.
func (r *reader) literal(t *expr.Template, s string, put func(*expr.Template, *expr.Program)) {
	var probe expr.Template
	var b expr.Builder
	b.Const(expr.Str(s))
	p, _ := b.Build()
	put(&probe, p)
	t.Text(string(probe.Append(nil, &expr.Scope{})))
}

// jsonParts appends an expression as a JSON value: objects and lists keep
// their order, strings in them are templates.
func (r *reader) jsonParts(t *expr.Template, e hcl.Expression) (marks int) {
	switch e := e.(type) {
	case *hclsyntax.ObjectConsExpr:
		t.Text("{")
		for i, item := range e.Items {
			if i > 0 {
				t.Text(",")
			}
			// Values differ from message to message, names do not: so the text around them is written once.
			key, diags := item.KeyExpr.Value(nil)
			if diags.HasErrors() || key.Type() != cty.String || !key.IsKnown() || key.IsNull() {
				r.fail(item.KeyExpr.Range(), "a name in an object must be a fixed text")
				continue
			}
			t.Text(string(jsonscan.AppendQuoted(nil, []byte(key.AsString()))) + ":")
			marks += r.jsonParts(t, item.ValueExpr)
		}
		t.Text("}")
	case *hclsyntax.TupleConsExpr:
		t.Text("[")
		for i, item := range e.Exprs {
			if i > 0 {
				t.Text(",")
			}
			marks += r.jsonParts(t, item)
		}
		t.Text("]")
	case *hclsyntax.TemplateExpr:
		t.Text(`"`)
		marks = r.textParts(t, e, (*expr.Template).Quoted)
		t.Text(`"`)
	default:
		var p *expr.Program
		p, marks = r.compile(e, false)
		t.JSON(p)
	}
	return marks
}

var binaries = map[*hclsyntax.Operation]expr.Binary{
	hclsyntax.OpEqual: expr.Equal, hclsyntax.OpNotEqual: expr.Unequal, hclsyntax.OpAdd: expr.Add,
	hclsyntax.OpSubtract: expr.Sub, hclsyntax.OpMultiply: expr.Mul, hclsyntax.OpDivide: expr.Div,
	hclsyntax.OpModulo: expr.Mod, hclsyntax.OpLessThan: expr.Less, hclsyntax.OpLessThanOrEqual: expr.LessEqual,
	hclsyntax.OpGreaterThan: expr.Greater, hclsyntax.OpGreaterThanOrEqual: expr.GreaterEqual,
}

// expression compiles one expression of HCL's to the stack machine of package expr:
// operands first, then what is done with them. Kinds of HCL expressions that would
// need a loop or an object at run time are refused here, with what to write instead.
func (c *compiler) expression(e hcl.Expression) {
	sub := func(e hcl.Expression) func() { return func() { c.expression(e) } }
	switch e := e.(type) {
	case *hclsyntax.LiteralValueExpr:
		c.literal(e)
	case *hclsyntax.ParenthesesExpr:
		c.expression(e.Expression)
	case *hclsyntax.TemplateWrapExpr:
		c.expression(e.Wrapped)
	case *hclsyntax.TemplateExpr:
		if len(e.Parts) == 0 {
			c.build.Const(expr.Str(""))
			return
		}
		for _, part := range e.Parts {
			c.expression(part)
		}
		// A text without anything in it is a constant already; "${n}" alone is a text, too, and not a number.
		if _, fixed := e.Parts[0].(*hclsyntax.LiteralValueExpr); len(e.Parts) > 1 || !fixed {
			c.build.Join(len(e.Parts))
		}
	case *hclsyntax.ScopeTraversalExpr:
		c.traversal(e)
	case *hclsyntax.ConditionalExpr:
		c.build.If(sub(e.Condition), sub(e.TrueResult), sub(e.FalseResult))
	case *hclsyntax.UnaryOpExpr:
		c.expression(e.Val)
		if e.Op == hclsyntax.OpLogicalNot {
			c.build.Not()
		} else {
			c.build.Negate()
		}
	case *hclsyntax.BinaryOpExpr:
		switch e.Op {
		case hclsyntax.OpLogicalAnd:
			c.build.And(sub(e.LHS), sub(e.RHS)) // the right side is not evaluated if the left one settles it
		case hclsyntax.OpLogicalOr:
			c.build.Or(sub(e.LHS), sub(e.RHS))
		default:
			c.beside(e.LHS, e.RHS)
			c.beside(e.RHS, e.LHS)
			c.build.Do(binaries[e.Op])
		}
	case *hclsyntax.FunctionCallExpr:
		c.call(e)
	default:
		c.wrong(e.Range(), "this kind of expression cannot be used here")
	}
}

// beside compiles one side of a comparison. A time that a figure is compared with is written as elsewhere: "100ms"; and
// a figure that is written as a text is none.
func (c *compiler) beside(e, other hcl.Expression) {
	text, is := plainText(e)
	if !is || c.r.figures == nil {
		c.expression(e)
		return
	}
	f, against := logbook.FigureNamed(text), logbook.FigureNamed(figureName(other))
	switch {
	case f != nil:
		c.wrong(e.Range(), "%q is a text; the figure is written without quotation marks: %s", text, text)
	case against != nil && against.Unit == logbook.Duration:
		d, err := time.ParseDuration(text)
		if err != nil {
			c.wrong(e.Range(), "%s is a time, and %q is not a %s", figureName(other), text, formDuration)
			return
		}
		c.build.Const(expr.Num(logbook.Micros(d)))
	case against != nil:
		c.wrong(e.Range(), "%s is a number, and %q is a text", figureName(other), text)
	default:
		c.expression(e)
	}
}

// plainText gives a text that stands in quotation marks, with nothing to be put into it.
func plainText(e hcl.Expression) (string, bool) {
	t, is := e.(*hclsyntax.TemplateExpr)
	if !is || len(t.Parts) != 1 {
		return "", false
	}
	l, is := t.Parts[0].(*hclsyntax.LiteralValueExpr)
	if !is || l.Val.Type() != cty.String || !l.Val.IsKnown() {
		return "", false
	}
	return l.Val.AsString(), true
}

// wrong reports an error and stands in for the value.
func (c *compiler) wrong(at hcl.Range, format string, a ...any) {
	c.r.fail(at, format, a...)
	c.build.Const(expr.Value{})
}

// literal compiles a constant.
func (c *compiler) literal(e *hclsyntax.LiteralValueExpr) {
	switch v := e.Val; {
	case !v.IsKnown(): // stands in the place of wrong syntax, which is reported already
		c.build.Const(expr.Value{})
	case v.IsNull():
		c.build.Const(expr.Value{})
	case v.Type() == cty.String:
		c.build.Const(expr.Str(v.AsString()))
	case v.Type() == cty.Number:
		f, _ := v.AsBigFloat().Float64()
		c.build.Const(expr.Num(f))
	case v.Type() == cty.Bool:
		c.build.Const(expr.Truth(v.True()))
	default:
		c.wrong(e.Range(), "this kind of value cannot be used here")
	}
}

// traversal compiles a name with what follows its dots: a field of the message at
// hand, something captured, a variable, a secret or a column, or one of the names that
// the tool sets itself.
func (c *compiler) traversal(e *hclsyntax.ScopeTraversalExpr) {
	name := e.Traversal.RootName()
	switch name {
	case "msg":
		c.message(e)
		return
	case "my", "var", "secret", "data":
		c.named(e, name)
		return
	}
	if c.r.figures != nil { // only an assert and a final check know figures
		if figure := figureName(e); logbook.FigureNamed(figure) != nil {
			c.figure(figure)
			return
		}
	}
	i := slices.Index(expr.VarNames[:], name)
	if i < 0 {
		if figure := figureName(e); c.r.figures != nil && nearest(figure, logbook.FigureNames()) != "" {
			c.wrong(e.Range(), "there is no figure %q%s", figure, nearest(figure, logbook.FigureNames()))
			return
		}
		known := slices.Clone(expr.VarNames[:])
		if c.msg {
			known = append(known, "msg")
		}
		known = append(known, "my", "var", "secret", "data")
		c.wrong(e.Range(), "nothing is called %q here%s", name, nearest(name, known))
		return
	}
	if len(e.Traversal) > 1 {
		c.wrong(e.Range(), "%q has no parts", name)
		return
	}
	if expr.Var(i) == expr.VarMark || expr.Var(i) == expr.VarMarkBytes {
		c.marks++ // a message that is accounted for must have one
	}
	c.build.Var(expr.Var(i))
}

// message compiles msg.a.b, a field of the message at hand.
func (c *compiler) message(e *hclsyntax.ScopeTraversalExpr) {
	if !c.msg {
		c.wrong(e.Range(), "there is no message at hand here, so msg cannot be used")
		return
	}
	var path []string
	for _, step := range e.Traversal[1:] {
		switch s := step.(type) {
		case hcl.TraverseAttr:
			path = append(path, s.Name)
		case hcl.TraverseIndex:
			switch {
			case s.Key.Type() == cty.String:
				path = append(path, s.Key.AsString())
			default:
				n, _ := s.Key.AsBigFloat().Int64()
				path = append(path, strconv.FormatInt(n, 10))
			}
		}
	}
	c.build.Field(c.r.trial.Fields.Add(path...))
}
