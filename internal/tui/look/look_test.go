package look

import (
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
)

// words are pieces of text of all widths.
var words = []string{"", "a", "lock-1", "水門水門水門", "e\u0301e\u0301", "a long label that goes on and on and on",
	"128,400"}

// TestWidths: whatever is drawn into a width has that width.
func TestWidths(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	p := NewPalette(true, colorprofile.TrueColor)
	word := func() string { return p.Draw(Ink(r.IntN(int(numInks))), words[r.IntN(len(words))]) }
	for range 3000 {
		w := 10 + r.IntN(120)
		for name, s := range map[string]string{"Rule": p.Rule(word(), word(), w), "Rule without": p.Rule(word(), "", w),
			"Fit": Fit(word()+word(), w)} {
			if got := ansi.StringWidth(s); got != w {
				t.Fatalf("%s into %d has %d: %q", name, w, got, ansi.Strip(s))
			}
		}
	}
	for range 500 {
		w := 40 + r.IntN(60)
		line := p.Line("delivered", w, 11, word(), "7")
		if got := ansi.StringWidth(line); got < w && !strings.HasSuffix(ansi.Strip(line), "7") {
			t.Fatalf("Line into %d has %d: %q", w, got, ansi.Strip(line))
		}
	}
	if got := ansi.Strip(p.Line("owed", 30, 10, "4,612", "128,400")); got != "owed ......... 4,612   128,400" {
		t.Errorf("%q", got)
	}
	if got := ansi.Strip(p.Heading("ledger", 40, 11, "last 10 s",
		"whole run")); got != "── ledger ────────── last 10 s  whole run" && ansi.StringWidth(got) != 40 {
		t.Errorf("%q", got)
	}
}

// TestDots sets random dots and characters and reads the drawing back from its
// Braille characters.
func TestDots(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 2))
	p := NewPalette(true, colorprofile.TrueColor)
	for range 200 {
		w, h := 1+r.IntN(20), 1+r.IntN(6)
		d := NewDots(w, h)
		set, chars := map[[2]int]bool{}, map[[2]int]rune{}
		for range r.IntN(80) {
			x, y := r.IntN(2*w+4)-2, r.IntN(4*h+4)-2
			if r.IntN(10) == 0 {
				d.Char(x>>1, y>>2, '╳', Beware)
				if x >= 0 && y >= 0 && x>>1 < w && y>>2 < h {
					chars[[2]int{x >> 1, y >> 2}] = '╳'
				}
				continue
			}
			d.Dot(x, y, Water)
			if _, covered := chars[[2]int{x / 2, y / 4}]; x >= 0 && y >= 0 && x < 2*w && y < 4*h && !covered {
				set[[2]int{x, y}] = true
			}
		}
		for y, line := range d.Lines(&p) {
			runes := []rune(ansi.Strip(line))
			if len(runes) != w {
				t.Fatalf("a row has %d characters, want %d", len(runes), w)
			}
			for x, c := range runes {
				if want, ok := chars[[2]int{x, y}]; ok {
					if c != want {
						t.Fatalf("%q, want %q", c, want)
					}
					continue
				}
				bits := uint8(0)
				if c != ' ' {
					bits = uint8(c - 0x2800)
				}
				for dy := range 4 {
					for dx := range 2 {
						if (bits&brailleBits[dy][dx] != 0) != set[[2]int{2*x + dx, 4*y + dy}] {
							t.Fatalf("dot %d,%d is wrong", 2*x+dx, 4*y+dy)
						}
					}
				}
			}
		}
	}
}

// TestSignals: shape and word alone tell the signals apart.
func TestSignals(t *testing.T) {
	p := NewPalette(false, colorprofile.NoTTY)
	seen := map[string]bool{}
	for s := AllWell; s <= InDanger; s++ {
		text := ansi.Strip(p.Signal(s, ""))
		if seen[text] || seen[s.Shape()] || !strings.HasPrefix(text, s.Shape()+" ") {
			t.Errorf("%q is not distinguished", text)
		}
		seen[text], seen[s.Shape()] = true, true
	}
}
