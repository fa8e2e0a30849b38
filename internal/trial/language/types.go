package language

import (
	"strings"

	"github.com/hashicorp/hcl/v2"
	"github.com/hashicorp/hcl/v2/hclsyntax"
	"github.com/zclconf/go-cty/cty"
)

// A kind is what an expression gives, as far as it can be said without a
// message.
type kind int

const (
	unknownKind kind = iota
	truthKind
	numberKind
	textKind
)

func (k kind) String() string {
	return [...]string{"something", "true or false", "a number", "a text"}[k]
}

// numberNames and textNames are the variables and functions of which the kind is
// known.
var (
	numberNames = words("n node round group place status length count floor ceil round abs min max now random " +
		"uniform normal exponential")
	textNames = words("name crew room mark mark_bytes to payload text base64 base64url hex json url upper lower " +
		"trim replace substr uuid filler timestamp")
	truthNames = words("contains starts has")
)

func words(s string) map[string]bool {
	all := map[string]bool{}
	for _, w := range strings.Fields(s) {
		all[w] = true
	}
	return all
}

// kindOfName gives what sort of value a name stands for; unknownKind if that depends
// on the message.
func kindOfName(name string) kind {
	switch {
	case truthNames[name]:
		return truthKind
	case numberNames[name]:
		return numberKind
	case textNames[name]:
		return textKind
	}
	return unknownKind
}

// kindOf gives what sort of value an expression has, as far as that can be known
// before anything is received. It is what conditions are checked by.
func kindOf(e hcl.Expression) kind {
	switch e := e.(type) {
	case *hclsyntax.LiteralValueExpr:
		// null has a type of its own, and is compared with anything.
		return map[cty.Type]kind{cty.Bool: truthKind, cty.Number: numberKind, cty.String: textKind}[e.Val.Type()]
	case *hclsyntax.ParenthesesExpr:
		return kindOf(e.Expression)
	case *hclsyntax.TemplateWrapExpr:
		return kindOf(e.Wrapped)
	case *hclsyntax.TemplateExpr:
		return textKind
	case *hclsyntax.UnaryOpExpr:
		if e.Op == hclsyntax.OpLogicalNot {
			return truthKind
		}
		return numberKind
	case *hclsyntax.BinaryOpExpr:
		switch e.Op {
		case hclsyntax.OpAdd, hclsyntax.OpSubtract, hclsyntax.OpMultiply, hclsyntax.OpDivide, hclsyntax.OpModulo:
			return numberKind
		}
		return truthKind
	case *hclsyntax.ConditionalExpr:
		if k := kindOf(e.TrueResult); k == kindOf(e.FalseResult) {
			return k
		}
	case *hclsyntax.FunctionCallExpr:
		return kindOfName(e.Name)
	case *hclsyntax.ScopeTraversalExpr:
		if len(e.Traversal) == 1 {
			return kindOfName(e.Traversal.RootName())
		}
	}
	return unknownKind
}

// checkTruth reports a condition, or a part of one, that can never be true or
// false.
func (r *reader) checkTruth(e hcl.Expression) {
	if k := kindOf(e); k != unknownKind && k != truthKind {
		r.fail(e.Range(), "a condition is true or false; this is %v", k)
		return
	}
	switch e := e.(type) {
	case *hclsyntax.ParenthesesExpr:
		r.checkTruth(e.Expression)
	case *hclsyntax.UnaryOpExpr:
		if e.Op == hclsyntax.OpLogicalNot {
			r.checkTruth(e.Val)
		}
	case *hclsyntax.BinaryOpExpr:
		switch e.Op {
		case hclsyntax.OpLogicalAnd, hclsyntax.OpLogicalOr:
			r.checkTruth(e.LHS)
			r.checkTruth(e.RHS)
		case hclsyntax.OpEqual, hclsyntax.OpNotEqual:
			// A comparison that can never hold would hide behind a limit that always does.
			if a, b := kindOf(e.LHS), kindOf(e.RHS); a != unknownKind && b != unknownKind && a != b {
				r.fail(e.Range(), "%v never equals %v", a, b)
			}
		}
	}
}

// checkForms looks at the attributes of a block by what is to be written there.
func (r *reader) checkForms(name string, attrs hcl.Attributes) {
	answers := name == "request" || strings.HasPrefix(name, "final_check")
	for _, w := range vocabulary[name].attrs {
		a := attrs[w.name]
		if a == nil {
			continue
		}
		if w.form == formCondition || w.form == formFinal {
			r.checkTruth(a.Expr)
		}
		if w.name == "path" && strings.HasPrefix(w.doc, "of ") || w.name == "path" && name == "connect" {
			r.checkPath(a)
		}
		if answers {
			continue
		}
		for _, t := range a.Expr.Variables() {
			if t.RootName() == "status" {
				r.fail(t.SourceRange(), "status is that of an HTTP answer: it is known only in a request and a "+
					"final_check")
			}
		}
	}
}

// checkPath reports a path that does not begin at the root of the server.
func (r *reader) checkPath(a *hcl.Attribute) {
	first := a.Expr
	if t, ok := first.(*hclsyntax.TemplateExpr); ok {
		if len(t.Parts) == 0 {
			r.fail(a.Expr.Range(), `a path begins with "/"`)
			return
		}
		first = t.Parts[0]
	}
	if lit, ok := first.(*hclsyntax.LiteralValueExpr); ok && lit.Val.Type() == cty.String && lit.Val.IsKnown() &&
		!strings.HasPrefix(lit.Val.AsString(), "/") {
		r.fail(a.Expr.Range(), `a path begins with "/"`)
	}
}

// labelled are the blocks of a trial that are known by their label.
var labelled = []string{"limit", "feed", "dialect", "secret", "data", "variable", "final_check", "fault"}

// checkNames reports blocks of one kind with the same label.
func (r *reader) checkNames() {
	for _, kind := range labelled {
		first := map[string]hcl.Range{}
		for _, b := range r.blocks[kind] {
			at, taken := first[b.Labels[0]]
			if taken {
				r.fail(b.LabelRanges[0], "there is a %s %q already, in line %d of %s", kind, b.Labels[0], at.Start.Line,
					at.Filename)
				continue
			}
			first[b.Labels[0]] = b.LabelRanges[0]
		}
	}
}
