package chart

import (
	"fmt"
	"strings"
	"sync"

	"codeberg.org/go-fonts/liberation/liberationsansregular"
	"golang.org/x/image/font/sfnt"

	"tidepull/internal/base/plain"
)

// safe makes a text fit to be drawn: on one line, with nothing in it that is
// invisible, turns the text round, or has no place in XML. What the embedded
// font has no letter for is written as its number, so that nothing is lost.
func safe(s string) string {
	s = plain.Text(s, 0)
	for _, r := range s {
		if !drawable(r) {
			var b strings.Builder
			for _, r := range s {
				if drawable(r) {
					b.WriteRune(r)
				} else {
					fmt.Fprintf(&b, `\u{%x}`, r)
				}
			}
			return b.String()
		}
	}
	return s
}

var liberation = sync.OnceValue(func() *sfnt.Font {
	f, err := sfnt.Parse(liberationsansregular.TTF)
	if err != nil {
		return nil // every letter beyond ASCII is written as its number then
	}
	return f
})

func drawable(r rune) bool {
	if r >= ' ' && r < 0x7f {
		return true
	}
	f := liberation()
	if f == nil || r > 0xffff { // PDF's simple Unicode fonts end there
		return false
	}
	var b sfnt.Buffer
	glyph, err := f.GlyphIndex(&b, r)
	return err == nil && glyph != 0
}
