package language

import (
	"bytes"
	"fmt"
	"slices"
	"sort"
	"strings"
	"unicode/utf8"

	"github.com/charmbracelet/x/ansi"
	"github.com/hashicorp/hcl/v2"

	"tidepull/internal/base/plain"
)

// Errors are all that is wrong with a trial.
type Errors struct {
	diags   hcl.Diagnostics
	sources map[string][]byte
}

// Len is how many errors there are.
func (e *Errors) Len() int { return len(e.diags) }

// Error writes every error with its place, the line, and the text concerned
// underlined:
//
//	harbour.trial.hcl:12:5: there is no figure "fanout.p98"; did you mean "fanout.p99"?
//	    12 |   of = fanout.p98
//	       |        ^^^^^^^^^^
func (e *Errors) Error() string {
	diags := append(hcl.Diagnostics(nil), e.diags...)
	sort.SliceStable(diags, func(i, j int) bool { return before(diags[i], diags[j]) })
	diags = slices.CompactFunc(diags, func(a, b *hcl.Diagnostic) bool { // one forgotten brace is many to the parser
		return a.Summary == b.Summary && a.Detail == b.Detail && a.Subject != nil && b.Subject != nil &&
			*a.Subject == *b.Subject
	})
	var b strings.Builder
	for i, d := range diags {
		if i > 0 {
			b.WriteByte('\n')
		}
		if i == maxShown {
			fmt.Fprintf(&b, "... and %d more", len(diags)-maxShown)
			break
		}
		e.write(&b, d)
	}
	return strings.TrimRight(b.String(), "\n")
}

// maxShown bounds the errors that are written out: a file with more is no trial.
const maxShown = 100

func before(a, b *hcl.Diagnostic) bool {
	if a.Subject == nil || b.Subject == nil {
		return a.Subject == nil && b.Subject != nil
	}
	if a.Subject.Filename != b.Subject.Filename {
		return a.Subject.Filename < b.Subject.Filename
	}
	return a.Subject.Start.Byte < b.Subject.Start.Byte
}

// write writes one error: what, where, the line itself, and a caret below the place.
// HCL's own words are turned into ours.
func (e *Errors) write(b *strings.Builder, d *hcl.Diagnostic) {
	text := d.Summary
	if d.Detail != "" {
		text = d.Detail
	}
	text = plain.Text(ourWords.Replace(strings.Join(strings.Fields(text), " ")), 0)
	if d.Subject == nil {
		fmt.Fprintf(b, "%s\n", text)
		return
	}
	at := *d.Subject
	fmt.Fprintf(b, "%s:%d:%d: %s\n", at.Filename, at.Start.Line, at.Start.Column, text)
	line, ok := lineOf(e.sources[at.Filename], at.Start.Line)
	if !ok {
		return
	}
	from := min(at.Start.Byte-offsetOf(e.sources[at.Filename], at.Start.Line), len(line))
	to := len(line)
	if at.End.Line == at.Start.Line {
		to = min(from+at.End.Byte-at.Start.Byte, len(line))
	}
	line, from, to = around(line, from, to)
	fmt.Fprintf(b, "%6d | %s\n", at.Start.Line, plain.Text(line, 0))
	shown := func(s string) int { return ansi.StringWidth(plain.Text(s, 0)) }
	fmt.Fprintf(b, "       | %s%s\n", strings.Repeat(" ", shown(line[:from])),
		strings.Repeat("^", max(1, shown(line[from:to]))))
}

// around cuts a long line to what stands around a part of it.
func around(line string, from, to int) (string, int, int) {
	const before, behind = 60, 100
	if to = min(to, from+behind); len(line) <= before+behind {
		return line, from, to
	}
	cut := max(0, from-before)
	for cut > 0 && cut < len(line) && !utf8.RuneStart(line[cut]) {
		cut++
	}
	end := min(len(line), from+behind)
	for end < len(line) && !utf8.RuneStart(line[end]) {
		end++
	}
	return line[cut:end], from - cut, to - cut
}

// ourWords makes the parser's words ours: what stands as NAME = VALUE is an
// attribute in the reference, and here.
var ourWords = strings.NewReplacer("An argument named", "An attribute named", "The argument", "The attribute",
	"An argument or block definition", "An attribute or a block")

// offsetOf gives where a line begins, in bytes; lines count from 1.
func offsetOf(src []byte, line int) int {
	at := 0
	for ; line > 1; line-- {
		i := bytes.IndexByte(src[at:], '\n')
		if i < 0 {
			return len(src)
		}
		at += i + 1
	}
	return at
}

// lineOf gives the text of a line, if there is one.
func lineOf(src []byte, line int) (string, bool) {
	at := offsetOf(src, line)
	if src == nil || at > len(src) {
		return "", false
	}
	rest := src[at:]
	if i := bytes.IndexByte(rest, '\n'); i >= 0 {
		rest = rest[:i]
	}
	return strings.TrimRight(strings.ReplaceAll(string(rest), "\t", " "), "\r"), true
}
