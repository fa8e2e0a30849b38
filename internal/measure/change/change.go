// Package change says how what came of a text differs from what was said: where the first byte is that differs, what
// stands around it on both sides, and what the change is called, if servers are known to make it.
//
// It reads no clock, and keeps nothing.
package change

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"html"
	"net/url"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/unicode/norm"

	"tidepull/internal/base/units"
)

// A Text is one side: what was said, or what came.
type Text struct {
	Head   []byte // the beginning of it, or all of it
	Size   int    // how many bytes it has; more than Head if that is cut
	Binary bool   // the message that held it was a binary one
}

func (t *Text) cut() bool { return t.Size > len(t.Head) }

// Whole is a text that is not cut.
func Whole(text string) Text { return Text{Head: []byte(text), Size: len(text)} }

// First is the first byte that differs; the length of the shorter one if that is the beginning of the other.
func First(said, came Text) int {
	n := min(len(said.Head), len(came.Head))
	for i := range n {
		if said.Head[i] != came.Head[i] {
			return i
		}
	}
	return n
}

// Around gives what stands around a byte of a text, and where in it the byte is; it does not cut a character.
func (t *Text) Around(at int) (part []byte, in int) {
	const before, behind = 24, 40
	from, to := max(0, at-before), min(len(t.Head), at+behind)
	if from > to {
		from = to
	}
	for from > 0 && from < len(t.Head) && !utf8.RuneStart(t.Head[from]) && at-from < before+4 {
		from--
	}
	for to < len(t.Head) && !utf8.RuneStart(t.Head[to]) && to-at < behind+4 {
		to++
	}
	return t.Head[from:to], at - from
}

// The names of changes that have none: nothing is known of it, or it is behind what is kept of both.
const (
	Unnamed   = "something else came"
	FurtherOn = "it differs further on than its beginning, which is all that is kept"
)

// Name says what a change is called, in a few words that hold of every change of its sort; Unnamed if no rule fits.
// What is cut is compared as far as it goes.
func Name(said, came Text) string {
	switch {
	case len(came.Head) == 0 && said.Size > 0:
		return "nothing came of the text"
	case said.Binary != came.Binary && bytes.Equal(said.Head, came.Head) && said.Size == came.Size:
		return typeNames[came.Binary]
	case came.Size > said.Size && !came.cut() && !said.cut() && bytes.HasPrefix(came.Head, said.Head):
		return "something was put behind it"
	case came.Size < said.Size && bytes.HasPrefix(said.Head, came.Head):
		return fmt.Sprintf("cut at %s bytes", units.Count(int64(came.Size)))
	case said.cut() && came.cut() && bytes.Equal(said.Head, came.Head):
		return FurtherOn
	}
	if name := named(said, came); name != "" {
		return name
	}
	if said.Binary != came.Binary {
		return typeNames[came.Binary]
	}
	for _, of := range []func(said, came Text) string{partly, twofold, words} {
		if name := of(said, came); name != "" {
			return name
		}
	}
	return Unnamed
}

// named is the name of the one rule that fits; "" if none does.
func named(said, came Text) string {
	for i := range rules {
		if rules[i].fits(said, came) {
			return rules[i].name
		}
	}
	return ""
}

// twofold names two changes at once: with one of them undone, another rule fits, or the rest is cut.
func twofold(said, came Text) string {
	for i := range rules {
		r := &rules[i]
		if (r.undo == nil) == (r.do == nil) || r.whole && (said.cut() || came.cut()) {
			continue
		}
		s, c, ok := said, came, false
		if r.undo != nil {
			c, ok = came.by(r.undo)
		} else {
			s, ok = said.by(r.do)
		}
		if !ok {
			continue
		}
		if name := named(s, c); name != "" {
			return r.name + ", and " + name
		}
		if same := First(s, c); same >= max(leastLeft, len(c.Head)-inEscape, len(c.Head)/2) &&
			len(c.Head) < len(s.Head) {
			return fmt.Sprintf("%s, and cut at %s bytes", r.name, units.Count(int64(came.Size)))
		}
	}
	return ""
}

// leastLeft is how much of a text must be left for it to be one that was cut, if it was changed as well; inEscape is
// how much of the end may differ, as an escape may be cut in its middle.
const (
	leastLeft = 8
	inEscape  = 12
)

// by is a text changed by a rule; false if that does not change it.
func (t *Text) by(change func(string) (string, bool)) (changed Text, ok bool) {
	text, ok := change(string(t.Head))
	return Text{Head: []byte(text), Size: t.Size - len(t.Head) + len(text), Binary: t.Binary}, ok &&
		text != string(t.Head)
}

// partly names a change by which a part of what was said came, or all of it beside something else.
func partly(said, came Text) string {
	if said.cut() || came.cut() {
		return ""
	}
	s, c := string(said.Head), string(came.Head)
	for _, end := range []string{"...", "…", "[...]", "(...)"} {
		if head, is := strings.CutSuffix(c, end); is && head != "" && strings.HasPrefix(s, strings.TrimSpace(head)) {
			return "cut, with " + end + " at its end"
		}
	}
	switch {
	case s != "" && strings.HasSuffix(c, s):
		return "something was put in front of it"
	case s != "" && strings.Contains(c, s):
		return "something was put around it"
	case strings.HasSuffix(s, c):
		return "its beginning is missing"
	case strings.Contains(s, c):
		return "only a part of it came"
	}
	return ""
}

// words names a change by which as many words came, and some are others.
func words(said, came Text) string {
	if said.cut() || came.cut() {
		return ""
	}
	was, is := strings.Fields(string(said.Head)), strings.Fields(string(came.Head))
	if len(was) != len(is) || len(was) < 2 {
		return ""
	}
	other, masked, number := 0, 0, 0
	for i := range was {
		if was[i] == is[i] {
			continue
		}
		other++
		if strings.Count(is[i], "*")+strings.Count(is[i], "#") > len(is[i])/2 {
			masked++
		}
		if strings.ContainsAny(was[i], "0123456789") && strings.ContainsAny(is[i], "0123456789") {
			number++
		}
	}
	switch {
	case other == len(was):
		return ""
	case masked == other:
		return "words were masked"
	case number == other:
		return "numbers were changed"
	}
	return "words were replaced"
}

var typeNames = map[bool]string{true: "text came as a binary message", false: "a binary message came as text"}

// A rule recognises a change. One of undo, which makes what was said of what came, and do, which makes what comes of
// what was said, is given; or both change what they are given to something that must be the same of both.
type rule struct {
	name  string
	undo  func(came string) (string, bool)
	do    func(said string) (string, bool)
	whole bool // it can be told only of texts that are not cut

	longer bool // what comes is longer than what was said
}

// fits reports whether a rule makes one side of the other. Of texts that are cut the shorter must be the beginning of
// the longer, near its end.
func (r *rule) fits(said, came Text) bool {
	if r.whole && (said.cut() || came.cut()) || r.longer && came.Size <= said.Size {
		return false
	}
	s, c, ok := string(said.Head), string(came.Head), true
	if r.undo != nil {
		if c, ok = r.undo(c); !ok {
			return false
		}
	}
	if r.do != nil {
		if s, ok = r.do(s); !ok {
			return false
		}
	}
	if !said.cut() && !came.cut() {
		return s == c
	}
	n := min(len(s), len(c))
	return n > 4*inEscape && s[:n-inEscape] == c[:n-inEscape]
}

func sure(f func(string) string) func(string) (string, bool) {
	return func(s string) (string, bool) { return f(s), true }
}

func unquoted(s string) (string, bool) {
	if !strings.ContainsAny(s, `\"`) {
		return s, false
	}
	if !strings.HasPrefix(s, `"`) {
		s = `"` + s + `"`
	}
	var text string
	return text, json.Unmarshal([]byte(s), &text) == nil
}

// rules are tried in order: the more certain ones first.
var rules = []rule{
	{name: "HTML-escaped", undo: sure(html.UnescapeString)},
	{name: "HTML escapes in it were undone", do: sure(html.UnescapeString)},
	{name: "HTML-escaped", longer: true, undo: sure(html.UnescapeString), do: sure(html.UnescapeString)}, // in part
	{name: "JSON encoded twice", undo: func(s string) (text string, ok bool) {
		text, ok = unquoted(s)
		return text, ok && text != s
	}},
	{name: "escapes in it were undone", do: unquoted},
	{name: "encoded for an address (%..)", undo: func(s string) (string, bool) {
		text, err := url.QueryUnescape(s)
		return text, err == nil
	}},
	{name: "encoded for an address (%..)", undo: func(s string) (string, bool) {
		text, err := url.PathUnescape(s)
		return text, err == nil
	}},
	{name: "escapes of an address in it were undone", do: func(s string) (string, bool) {
		text, err := url.QueryUnescape(s)
		return text, err == nil
	}},
	{name: "encoded as base64", whole: true, undo: func(s string) (string, bool) {
		b, err := base64.StdEncoding.DecodeString(s)
		return string(b), err == nil
	}},
	{name: "UTF-8 read as Latin-1", do: latin1},
	{name: "UTF-8 read as Windows-1252", do: windows1252},
	{name: "not UTF-8: sent as Latin-1", undo: latin1},
	{name: "another normal form of Unicode", undo: sure(norm.NFC.String), do: sure(norm.NFC.String)},
	{name: "another normal form of Unicode", undo: sure(norm.NFKC.String), do: sure(norm.NFKC.String)},
	{name: "bytes that are no UTF-8 were replaced", do: func(s string) (string, bool) {
		return strings.ToValidUTF8(s, "\ufffd"), !utf8.ValidString(s)
	}, undo: sure(runs('\ufffd'))},
	{name: "characters beyond ASCII were replaced", whole: true, do: sure(beyondASCII('?')),
		undo: sure(beyondASCII('?'))},
	{name: "characters beyond 16 bits were replaced", whole: true, do: sure(astral), undo: sure(astral)},
	{name: "line ends were changed", do: sure(lineEnds), undo: sure(lineEnds)},
	{name: "space around it was taken away", do: sure(strings.TrimSpace)},
	{name: "space in it was changed", do: sure(spaces), undo: sure(spaces)},
	{name: "control characters were taken away", whole: true, do: sure(without(func(r rune) bool {
		return r < ' ' || r == 0x7f
	}))},
	{name: "lower case", do: sure(strings.ToLower)},
	{name: "upper case", do: sure(strings.ToUpper)},
	{name: "upper and lower case were changed", do: sure(strings.ToLower), undo: sure(strings.ToLower)},
	{name: "markup was taken away", whole: true, do: func(s string) (string, bool) {
		text := untagged(s)
		return text, text != s
	}},
	{name: "characters beyond ASCII were taken away", whole: true, do: sure(without(func(r rune) bool {
		return r > 0x7e
	}))},
	{name: "quotation marks and dashes were made typographic", do: sure(typography), undo: sure(typography)},
}

func latin1(s string) (string, bool) {
	text, err := charmap.ISO8859_1.NewDecoder().String(s)
	return text, err == nil && text != s
}

// windows1252 reads bytes as browsers do: what that leaves undefined is a control character of Latin-1.
func windows1252(s string) (string, bool) {
	var b strings.Builder
	for i := range len(s) {
		r := charmap.Windows1252.DecodeByte(s[i])
		if r == utf8.RuneError {
			r = rune(s[i])
		}
		b.WriteRune(r)
	}
	return b.String(), b.String() != s
}

// beyondASCII writes each run of characters beyond ASCII, and of what stands for one, as one.
func beyondASCII(as rune) func(string) string {
	return func(s string) string {
		s = strings.Map(func(r rune) rune {
			if r > 0x7e {
				return as
			}
			return r
		}, s)
		return runs(as)(s)
	}
}

func runs(of rune) func(string) string {
	return func(s string) string {
		last := rune(-1)
		return strings.Map(func(r rune) rune {
			if r == of && last == of {
				return -1
			}
			last = r
			return r
		}, s)
	}
}

// astral writes each run of characters beyond 16 bits, and of what is put for them, as one.
func astral(s string) string {
	return runs('?')(strings.Map(func(r rune) rune {
		if r > 0xffff || r == 0xfffd {
			return '?'
		}
		return r
	}, s))
}

func lineEnds(s string) string {
	return strings.ReplaceAll(strings.ReplaceAll(s, "\r\n", "\n"), "\r", "\n")
}

func spaces(s string) string { return strings.Join(strings.Fields(s), " ") }

func without(is func(rune) bool) func(string) string {
	return func(s string) string {
		return strings.Map(func(r rune) rune {
			if is(r) {
				return -1
			}
			return r
		}, s)
	}
}

// untagged takes out what stands between < and >.
func untagged(s string) string {
	var b strings.Builder
	for {
		from := strings.IndexByte(s, '<')
		to := -1
		if from >= 0 {
			to = strings.IndexByte(s[from:], '>')
		}
		if to < 0 {
			return b.String() + s
		}
		b.WriteString(s[:from])
		s = s[from+to+1:]
	}
}

func typography(s string) string {
	return strings.NewReplacer("“", `"`, "”", `"`, "‘", "'", "’", "'", "–", "-", "—", "-", "--", "-", "…", "...").
		Replace(s)
}
