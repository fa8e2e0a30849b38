package language

import (
	"fmt"
	"slices"
	"strings"

	"github.com/hashicorp/hcl/v2"
	"github.com/hashicorp/hcl/v2/hclsyntax"
	"github.com/hashicorp/hcl/v2/hclwrite"

	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial/expr"
)

// Reference writes the whole vocabulary as Markdown, out of the tables that the
// reader itself uses. Of the stand-in, which the language knows nothing of, it has the switches that
// are given: names, and what each does.
func Reference(switches [][2]string) string {
	var b strings.Builder
	p := func(format string, a ...any) { fmt.Fprintf(&b, format+"\n", a...) }
	p("# The trial language\n")
	p("Written by `tidepull words` from the code that reads trials. A trial is a file in")
	p("HCL that ends in `.trial.hcl`; `tidepull check` reports every error in it at once,")
	p("`tidepull format` lays it out.\n")
	p("## Blocks\n")
	seen := map[string]bool{}
	for _, name := range vocabulary[""].blocks {
		writeBlock(p, name, "", seen)
	}
	p("## In texts and conditions\n")
	p("`${...}` in a text, and conditions, know these names:\n")
	p("| name | what it is |\n| --- | --- |")
	for i, name := range expr.VarNames {
		p("| `%s` | %s |", name, varDocs[i])
	}
	p("| `msg` | in conditions: the message at hand, such as `msg.kind` or `msg.list[0]`; a field that it does not " +
		"have is `null` |")
	p("| `my.NAME` | what the client remembers, by `capture` or `set` |")
	p("| `var.NAME`, `secret.NAME`, `data.NAME.COLUMN` | a variable, a secret, the client's row of data |")
	p("\nThere are `+ - * / %%`, `== != < <= > >=`, `&& || !`, `a ? b : c` and brackets.\n")
	p("## Functions\n")
	p("| function | what it gives |\n| --- | --- |")
	for _, f := range expr.Functions() {
		p("| `%s(%s)` | %s |", f.Name, f.Args, f.Doc)
	}
	p("| `match(text, pattern, group)` | the part of it that a group of a regular expression matches, or null; the " +
		"first group where none is given |")
	p("| `field(text, path)` | a field of a JSON text, such as `field(msg.data, \"berth.name\")` |")
	p("")
	p("## The stand-in's switches\n")
	p("Thrown by `tidepull standin --wrong NAME=VALUE`, or by `POST /switches?NAME=VALUE`; a number")
	p("from 0 to 1 is a probability.\n")
	p("| switch | what it does |\n| --- | --- |")
	for _, s := range switches {
		p("| `%s` | %s |", s[0], s[1])
	}
	p("")
	p("## Figures\n")
	p("What a `limit` may be `of`. Durations are limited by durations, counts by numbers. In conditions, as of")
	p("`assert` and `final_check`, a duration is its microseconds.\n")
	p("| figure | what it is |\n| --- | --- |")
	for _, name := range logbook.FigureNames() {
		f := logbook.FigureNamed(name)
		unit := ""
		if f.Unit == logbook.Duration {
			unit = " (duration)"
		}
		p("| `%s` | %s%s |", name, f.Doc, unit)
	}
	return b.String()
}

var varDocs = [expr.NumVars]string{
	expr.VarN:         "the client's number in its crew, from 0",
	expr.VarName:      "the client's name",
	expr.VarCrew:      "its crew's name",
	expr.VarRoom:      "the room it entered last; in `enter` and `leave` of a dialect the room that is asked for",
	expr.VarMark:      "the mark of the message being said",
	expr.VarRound:     "how often the innermost `repeat` has run, from 0",
	expr.VarTo:        "in a whisper, the name of the client it is for",
	expr.VarGroup:     "the client's group in its crew, from 0; see `groups_of`",
	expr.VarPlace:     "its place in the group, from 0",
	expr.VarNode:      "which of the target's `nodes` the client is connected to, from 0",
	expr.VarPayload:   "the payload of the message being said",
	expr.VarMarkBytes: "the mark in its binary form, 26 bytes",
	expr.VarText:      "the whole message or answer at hand",
	expr.VarStatus:    "the status of the HTTP answer at hand",
	expr.VarLast: "in a `resume`, the number (`seq` of the dialect's `heard` or `past`) of the last message that " +
		"came to " +
		"the client; -1 if none has",
}

// writeBlock writes a block and those inside it, each once.
func writeBlock(p func(string, ...any), name, inside string, seen map[string]bool) {
	if seen[name] {
		return
	}
	seen[name] = true
	w := vocabulary[name]
	title := "`" + lastPart(name)
	if w.label != "" {
		title += ` "` + strings.ToUpper(w.label) + `"`
	}
	title += "`"
	if slices.Contains(steps, name) {
		inside = "session"
	}
	if inside != "" {
		title += " in `" + inside + "`"
	}
	p("### %s\n\n%s.\n", title, w.doc)
	if w.free {
		p("Any names with their values.\n")
	}
	if len(w.attrs) > 0 {
		p("| attribute | | |\n| --- | --- | --- |")
		for _, a := range w.attrs {
			doc := a.doc
			if a.required {
				doc += " (must be given)"
			}
			p("| `%s` | %s | %s |", a.name, strings.ReplaceAll(a.form, "|", `\|`), strings.TrimSpace(doc))
		}
		p("")
	}
	if e := examples[name]; e != "" {
		p("```hcl\n%s\n```\n", e)
	}
	var inner []string
	for _, b := range w.blocks {
		inner = append(inner, "`"+lastPart(b)+"`")
	}
	if len(inner) > 0 {
		p("Inside: %s.\n", strings.Join(inner, ", "))
	}
	for _, b := range w.blocks {
		if !slices.Contains(vocabulary[""].blocks, b) {
			writeBlock(p, b, lastPart(name), seen)
		}
	}
}

// Format lays a trial out in the usual way: indented by two, equals signs below
// each other. A file with wrong syntax is not touched; the error is an
// *Errors.
func Format(src []byte, name string) ([]byte, error) {
	if _, diags := hclsyntax.ParseConfig(src, name, hcl.InitialPos); diags.HasErrors() {
		return nil, &Errors{diags, map[string][]byte{name: src}}
	}
	return hclwrite.Format(src), nil
}
