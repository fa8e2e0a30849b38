package language

import (
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/hashicorp/hcl/v2"
	"github.com/hashicorp/hcl/v2/hclsyntax"
	"github.com/zclconf/go-cty/cty"

	"tidepull/internal/trial/expr"
)

// named compiles my.NAME, var.NAME, secret.NAME and data.NAME.COLUMN.
func (c *compiler) named(e *hclsyntax.ScopeTraversalExpr, root string) {
	parts := pathOf(e.Traversal)
	want := 1
	if root == "data" {
		want = 2
	}
	if len(parts) != want {
		c.wrong(e.Range(), "write %s", map[string]string{"my": "my.NAME", "var": "var.NAME", "secret": "secret.NAME",
			"data": "data.NAME.COLUMN"}[root])
		return
	}
	switch root {
	case "my":
		i, ok := c.r.locals[parts[0]]
		if !ok {
			c.wrong(e.Range(), "no session remembers %q%s", parts[0], nearest(parts[0], keys(c.r.locals)))
			return
		}
		c.build.Local(i)
	case "secret":
		s, ok := c.r.secrets[parts[0]]
		if !ok {
			c.wrong(e.Range(), "there is no secret %q%s", parts[0], nearest(parts[0], keys(c.r.secrets)))
			return
		}
		c.build.Const(expr.Str(s))
	case "var":
		v, diags := e.Value(&c.r.vars)
		if diags.HasErrors() {
			c.wrong(e.Range(), "there is no variable %q; there are %s", parts[0], c.r.known())
			return
		}
		// Variables and secrets are known before the run: they become constants.
		c.literal(&hclsyntax.LiteralValueExpr{Val: v, SrcRange: e.Range()})
	case "data":
		c.column(e, parts)
	}
}

// column compiles data.TABLE.COLUMN.
func (c *compiler) column(e *hclsyntax.ScopeTraversalExpr, parts []string) {
	table, ok := c.r.tables[parts[0]]
	if !ok {
		c.wrong(e.Range(), "there is no data %q%s", parts[0], nearest(parts[0], keys(c.r.tables)))
		return
	}
	i, ok := table[parts[1]]
	if !ok {
		c.wrong(e.Range(), "data %q has no column %q%s", parts[0], parts[1], nearest(parts[1], keys(table)))
		return
	}
	c.build.Column(i)
}

// keys are in order, so that errors and trials are the same each time.
func keys[V any](m map[string]V) []string {
	var names []string
	for name := range m {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// pathOf gives the parts of a path such as msg.data[0].name as texts.
func pathOf(t hcl.Traversal) []string {
	var parts []string
	for _, step := range t[1:] {
		switch s := step.(type) {
		case hcl.TraverseAttr:
			parts = append(parts, s.Name)
		case hcl.TraverseIndex:
			if s.Key.Type() == cty.String {
				parts = append(parts, s.Key.AsString())
			} else {
				n, _ := s.Key.AsBigFloat().Int64()
				parts = append(parts, strconv.FormatInt(n, 10))
			}
		}
	}
	return parts
}

// figure compiles a figure of the run.
func (c *compiler) figure(name string) {
	i := slices.Index(*c.r.figures, name)
	if i < 0 {
		i = len(*c.r.figures)
		*c.r.figures = append(*c.r.figures, name)
	}
	c.build.Figure(i)
}

// call compiles a function call. match and field have arguments that are fixed,
// so that they are prepared once.
func (c *compiler) call(e *hclsyntax.FunctionCallExpr) {
	switch e.Name {
	case "match":
		c.match(e)
		return
	case "field":
		c.pick(e)
		return
	}
	f := expr.FunctionNamed(e.Name)
	if f == nil {
		known := []string{"match", "field"}
		for _, f := range expr.Functions() {
			known = append(known, f.Name)
		}
		c.wrong(e.Range(), "there is no function %q%s", e.Name, nearest(e.Name, known))
		return
	}
	for _, a := range e.Args {
		c.expression(a)
	}
	if !c.build.Call(f, len(e.Args)) {
		c.r.fail(e.Range(), "%s takes (%s), not %d arguments", f.Name, f.Args, len(e.Args))
	}
}

// fixed reads an argument that must be a fixed text.
func (c *compiler) fixed(e hcl.Expression) (string, bool) {
	v, diags := e.Value(&c.r.vars)
	if diags.HasErrors() || !v.IsKnown() || v.IsNull() || v.Type() != cty.String {
		c.wrong(e.Range(), "this must be a fixed text")
		return "", false
	}
	return v.AsString(), true
}

// match compiles match(text, pattern, group). The pattern must be fixed: it is
// compiled once here, and RE2 has no pattern that takes for ever.
func (c *compiler) match(e *hclsyntax.FunctionCallExpr) {
	if len(e.Args) < 2 || len(e.Args) > 3 {
		c.wrong(e.Range(), "match takes (text, pattern) and perhaps the number of a group")
		return
	}
	text, ok := c.fixed(e.Args[1])
	if !ok {
		return
	}
	re, err := regexp.Compile(text)
	if err != nil {
		c.wrong(e.Args[1].Range(), "the pattern cannot be read: %s",
			strings.TrimPrefix(err.Error(), "error parsing regexp: "))
		return
	}
	group := min(1, re.NumSubexp()) // without a group it is all that matches
	if len(e.Args) == 3 {
		v, diags := e.Args[2].Value(&c.r.vars)
		if diags.HasErrors() || v.IsNull() || !v.IsKnown() || v.Type() != cty.Number {
			c.wrong(e.Args[2].Range(), "the group must be a fixed number")
			return
		}
		n, _ := v.AsBigFloat().Int64()
		if n < 0 || int(n) > re.NumSubexp() {
			c.wrong(e.Args[2].Range(), "the pattern has %d groups", re.NumSubexp())
			return
		}
		group = int(n)
	}
	c.expression(e.Args[0])
	c.build.Match(re, group)
}

// pick compiles field(text, path), for JSON inside a text; the path must be fixed,
// like those of msg.
func (c *compiler) pick(e *hclsyntax.FunctionCallExpr) {
	if len(e.Args) != 2 {
		c.wrong(e.Range(), `field takes (text, path), such as field(msg.data, "berth.name")`)
		return
	}
	path, ok := c.fixed(e.Args[1])
	if !ok {
		return
	}
	c.expression(e.Args[0])
	c.build.Pick(strings.Split(path, ".")...)
}
