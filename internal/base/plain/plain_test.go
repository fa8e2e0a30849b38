package plain

import (
	"testing"
	"unicode"
)

func TestText(t *testing.T) {
	for in, want := range map[string]string{
		"gate 4 is open":         "gate 4 is open",
		"\x1b[31mred\x1b[0m\r\n": "␛[31mred␛[0m␍␊",
		"del\x7f nul\x00":        "del␡ nul␀",
		"bad \xff\xc3(":          `bad \xff\xc3(`,
		"c1 \u009b2J":            `c1 \u{9b}2J`,
		"rtl \u202eabc":          `rtl \u{202e}abc`,
		"Schleuse Süd 水":         "Schleuse Süd 水",
	} {
		if got := Text(in, 0); got != want {
			t.Errorf("Text(%q) = %q, want %q", in, got, want)
		}
	}
	if got := Text("abcdef", 3); got != "abc…" {
		t.Errorf("cut text is %q", got)
	}
}

func FuzzText(f *testing.F) {
	f.Add("\x1b]0;title\x07")
	f.Fuzz(func(t *testing.T, s string) {
		for _, r := range Text(s, 0) {
			if !unicode.IsPrint(r) {
				t.Fatalf("Text(%q) lets %U through", s, r)
			}
		}
	})
}
