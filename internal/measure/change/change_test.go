package change

import (
	"html"
	"net/url"
	"strconv"
	"strings"
	"testing"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"
)

// TestNames makes each change that has a name, and some that have none, of a text that has something of everything.
func TestNames(t *testing.T) {
	const said = "Schleuße <b>3</b> & \"Nord\" — 12 Boote,\r\nétat: 100% ⚓ 🚢 \tbereit"
	mojibake := ""
	for _, b := range []byte(said) {
		mojibake += string(rune(b))
	}
	quoted := strconv.Quote("a \\ b \u00e9")
	for _, c := range []struct{ said, came, want string }{
		{said, html.EscapeString(said), "HTML-escaped"},
		{said, strings.NewReplacer("<", "&lt;", ">", "&gt;").Replace(said), "HTML-escaped"},
		{"a &lt; b", "a < b", "HTML escapes in it were undone"},
		{"he said \"go\"\n", `he said \"go\"\n`, "JSON encoded twice"},
		{"go\t3", `"go\t3"`, "JSON encoded twice"},
		{quoted[1 : len(quoted)-1], "a \\ b \u00e9", "escapes in it were undone"},
		{said, url.QueryEscape(said), "encoded for an address (%..)"},
		{said, url.PathEscape(said), "encoded for an address (%..)"},
		{"lock", "bG9jaw==", "encoded as base64"},
		{said, mojibake, "UTF-8 read as Latin-1"},
		{"Schleuße “3”", "SchleuÃŸe â€œ3â€\u009d", "UTF-8 read as Windows-1252"},
		{"Schleuße", "Schleu\xdfe", "not UTF-8: sent as Latin-1"},
		{said, norm.NFD.String(said), "another normal form of Unicode"},
		{"ﬁnal ½", "final 1⁄2", "another normal form of Unicode"},
		{said, strings.Map(func(r rune) rune {
			if r > 126 {
				return '?'
			}
			return r
		}, said), "characters beyond ASCII were replaced"},
		{"ship 🚢 é", "ship \ufffd\ufffd é", "characters beyond ASCII were replaced"},
		{"a\xffb", "a\ufffdb", "bytes that are no UTF-8 were replaced"},
		{said, strings.ReplaceAll(said, "\r\n", "\n"), "line ends were changed"},
		{" a b \n", "a b", "space around it was taken away"},
		{"a  b\tc", "a b c", "space in it was changed"},
		{"a\x00b\x1bc", "abc", "control characters were taken away"},
		{said, strings.ToLower(said), "lower case"},
		{said, strings.ToUpper(said), "upper case"},
		{"Lock Three", "LOCK three", "upper and lower case were changed"},
		{"<b>go</b> on", "go on", "markup was taken away"},
		{"go 🚢 on", "go  on", "characters beyond ASCII were taken away"},
		{`the "gate"`, "the “gate”", "quotation marks and dashes were made typographic"},
		{"lock three", "lock th", "cut at 7 bytes"},
		{"lock three is open", "lock three…", "cut, with … at its end"},
		{"lock three", "", "nothing came of the text"},
		{"lock three", "lock three (edited)", "something was put behind it"},
		{"lock three", "Notice: lock three", "something was put in front of it"},
		{"lock three", "[lock three]", "something was put around it"},
		{"lock three", "three", "its beginning is missing"},
		{"the damned lock", "the ****** lock", "words were masked"},
		{"lock 9007199254740993 open", "lock 9007199254740992 open", "numbers were changed"},
		{"the gate is open", "the gate is shut", "words were replaced"},
		{"the gate is open", "12 boats wait", Unnamed},
		{said, strings.ToLower(html.EscapeString(said)), "HTML-escaped, and lower case"},
		{said, html.EscapeString(said)[:40], "HTML-escaped, and cut at 40 bytes"},
		{"", "12 boats wait", "something was put behind it"},
	} {
		if got := Name(Whole(c.said), Whole(c.came)); got != c.want {
			t.Errorf("%q that came as %q: %s, not '%s'", c.said, c.came, got, c.want)
		}
	}
	binary := Whole("lock")
	binary.Binary = true
	if got := Name(Whole("lock"), binary); got != "text came as a binary message" {
		t.Error(got)
	}
}

// TestCut compares what is known of long texts, of which the beginnings are kept.
func TestCut(t *testing.T) {
	long := strings.Repeat("the gate of lock 3 is <open> & wet; ", 2000)
	head := func(s string, size int) Text { return Text{Head: []byte(s[:4096]), Size: size} }
	for want, came := range map[string]Text{
		"cut at 65,536 bytes": head(long, 65536),
		"HTML-escaped":        head(html.EscapeString(long), len(html.EscapeString(long))),
		"upper case":          head(strings.ToUpper(long), len(long)),
		FurtherOn:             head(long, len(long)),
	} {
		if got := Name(head(long, len(long)), came); got != want {
			t.Errorf("%s, not '%s'", got, want)
		}
	}
}

// FuzzName: whatever comes is named, and what stands around the first byte that differs does stand there.
func FuzzName(f *testing.F) {
	f.Add("a é \U0001f6a2 b", "a e \ufffd b", 3)
	f.Add("", "\xff", 0)
	f.Fuzz(func(t *testing.T, a, b string, cut int) {
		said, came := Whole(a), Whole(b)
		if cut >= 0 && cut < len(b) {
			came.Head = came.Head[:cut]
		}
		at := First(said, came)
		if Name(said, came) == "" {
			t.Error("no name")
		}
		for _, side := range []Text{said, came} {
			part, in := side.Around(at)
			if in < 0 || in > len(part) || utf8.Valid(side.Head) && !utf8.Valid(part) {
				t.Errorf("%q around %d of %q: %q, %d", part, at, side.Head, part, in)
			}
		}
	})
}
