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
	p("`tidepull format` lays it out. How to do what people usually want stands in [recipes.md](recipes.md).\n")
	p("## A whole trial\n\n%s\n```hcl\n%s```\n", wholeSays, WholeTrial)
	writeContents(p)
	p("## Blocks\n")
	p("Attributes that few trials need stand in a [section of their own](#rarely-needed).\n")
	seen := map[string]bool{}
	for _, name := range vocabulary[""].blocks {
		writeBlock(p, name, "", seen)
	}
	writeRare(p)
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

// titleOf is a block's heading.
func titleOf(name, inside string) string {
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
	return title
}

// eachBlock calls f with every block and where it stands, in the order of the reference, each once.
func eachBlock(f func(name, inside string)) {
	seen := map[string]bool{}
	var walk func(name, inside string)
	walk = func(name, inside string) {
		if seen[name] {
			return
		}
		seen[name] = true
		f(name, inside)
		for _, b := range vocabulary[name].blocks {
			if !slices.Contains(vocabulary[""].blocks, b) {
				walk(b, lastPart(name))
			}
		}
	}
	for _, name := range vocabulary[""].blocks {
		walk(name, "")
	}
}

// anchor is where a heading leads to, as renderers of Markdown make it.
func anchor(title string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r == ' ':
			return '-'
		case r == '-' || r == '_' || r >= 'a' && r <= 'z' || r >= '0' && r <= '9':
			return r
		}
		return -1
	}, strings.ToLower(title))
}

// writeContents lists what there is, with links.
func writeContents(p func(string, ...any)) {
	p("## Contents\n")
	top, inner := "", map[string][]string{}
	var order []string
	eachBlock(func(name, inside string) {
		if inside == "" {
			top = name
			order = append(order, name)
		}
		title := titleOf(name, inside)
		inner[top] = append(inner[top], fmt.Sprintf("[`%s`](#%s)", lastPart(name), anchor(title)))
	})
	for _, name := range order {
		p("- %s", strings.Join(inner[name], " "))
	}
	p("- [rarely needed attributes](#rarely-needed)")
	p("- [names in texts and conditions](#in-texts-and-conditions), [functions](#functions), [the stand-in's " +
		"switches](#the-stand-ins-switches), [figures](#figures)\n")
}

// rare are the attributes that few trials need, by block.
var rare = map[string][]string{
	"trial":     {"path", "loops"},
	"target":    append([]string{"from", "keepalive", "proxy", "connect_to", "remote"}, rareOfRoutes...),
	"route":     rareOfRoutes,
	"tls":       {"least", "most", "protocols", "resume", "insecure"},
	"connect":   {"early", "nameless", "malformed", "status", "words"},
	"request":   {"redirects", "form", "type"},
	"repeat":    {"pattern", "closed"},
	"crew":      {"promote", "settle", "retry", "groups_of"},
	"reconnect": {"budget", "obey", "not_after", "elsewhere", "anew", "resumed"},
	"fault":     {"jitter", "spread", "bytes_per_second", "bytes", "chance", "status", "rude", "reset"},
	"server":    {"connections", "members", "presence", "metrics"},
}

var rareOfRoutes = []string{"deflate", "deflate_fresh", "deflate_window", "urgent", "urgent_framed", "every",
	"method", "post_type",
	"post_end", "first_within"}

func isRare(block, attribute string) bool {
	return slices.Contains(rare[block], attribute) || slices.Contains(rare[lastPart(block)], attribute)
}

// writeRare lists the attributes that few trials need.
func writeRare(p func(string, ...any)) {
	p("## Rarely needed\n")
	eachBlock(func(name, inside string) {
		var some []word
		for _, a := range vocabulary[name].attrs {
			if isRare(name, a.name) {
				some = append(some, a)
			}
		}
		if len(some) > 0 {
			p("Of %s:\n", titleOf(name, inside))
			writeAttributes(p, some)
		}
	})
}

func writeAttributes(p func(string, ...any), all []word) {
	p("| attribute | | |\n| --- | --- | --- |")
	for _, a := range all {
		doc := a.doc
		if a.required {
			doc += " (must be given)"
		}
		p("| `%s` | %s | %s |", a.name, strings.ReplaceAll(a.form, "|", `\|`), strings.TrimSpace(doc))
	}
	p("")
}

// writeBlock writes a block and those inside it, each once.
func writeBlock(p func(string, ...any), name, inside string, seen map[string]bool) {
	if seen[name] {
		return
	}
	seen[name] = true
	w := vocabulary[name]
	p("### %s\n\n%s.\n", titleOf(name, inside), w.doc)
	if w.free {
		p("Any names with their values.\n")
	}
	var often, seldom []word
	for _, a := range w.attrs {
		if isRare(name, a.name) {
			seldom = append(seldom, a)
		} else {
			often = append(often, a)
		}
	}
	if len(often) > 0 {
		writeAttributes(p, often)
	}
	if len(seldom) > 0 {
		var names []string
		for _, a := range seldom {
			names = append(names, "`"+a.name+"`")
		}
		p("And, [rarely needed](#rarely-needed): %s.\n", strings.Join(names, ", "))
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
