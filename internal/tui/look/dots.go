package look

import "strings"

// Dots is a drawing in Braille dots, two across and four down in each
// character, each character in one ink. Characters may be set as well.
type Dots struct {
	Width, Height int // in characters
	cells         []dotCell
}

type dotCell struct {
	dots uint8
	char rune
	ink  Ink
}

// NewDots makes an empty drawing.
func NewDots(width, height int) *Dots {
	width, height = max(0, width), max(0, height)
	return &Dots{Width: width, Height: height, cells: make([]dotCell, width*height)}
}

// brailleBits are the bits of the dots of a Braille character, by row and
// column (Unicode, U+2800 block).
var brailleBits = [4][2]uint8{{0x01, 0x08}, {0x02, 0x10}, {0x04, 0x20}, {0x40, 0x80}}

// Dot sets a dot; x runs to 2*Width, y to 4*Height, from the top left. The
// character takes the ink, unless one that was set later in the list of inks
// is there already.
func (d *Dots) Dot(x, y int, ink Ink) {
	if x < 0 || y < 0 || x >= 2*d.Width || y >= 4*d.Height {
		return
	}
	c := &d.cells[y/4*d.Width+x/2]
	if c.char != 0 {
		return
	}
	if c.dots == 0 || rank[ink] > rank[c.ink] {
		c.ink = ink
	}
	c.dots |= brailleBits[y%4][x%2]
}

// rank orders the inks for characters in which two meet.
var rank = [numInks]uint8{Plan: 1, Deep: 2, Faint: 3, Text: 4, Water: 5, Good: 6, Beware: 7, Lost: 8, Danger: 9,
	Strong: 10}

// Char sets a whole character, which covers dots.
func (d *Dots) Char(x, y int, r rune, ink Ink) {
	if x >= 0 && y >= 0 && x < d.Width && y < d.Height {
		d.cells[y*d.Width+x] = dotCell{char: r, ink: ink}
	}
}

// Text sets characters from x on, as far as there is room.
func (d *Dots) Text(x, y int, s string, ink Ink) {
	for _, r := range s {
		d.Char(x, y, r, ink)
		x++
	}
}

// Ink gives the ink of a character, Text if there is none.
func (d *Dots) Ink(x, y int) Ink {
	if x < 0 || y < 0 || x >= d.Width || y >= d.Height {
		return Text
	}
	return d.cells[y*d.Width+x].ink
}

// Lines draws the rows.
func (d *Dots) Lines(p *Palette) []string {
	lines := make([]string, d.Height)
	for y := range lines {
		lines[y] = d.line(p, d.cells[y*d.Width:(y+1)*d.Width])
	}
	return lines
}

// line is one line of text: cells of the same ink are drawn together, as each change of ink takes bytes.
func (d *Dots) line(p *Palette, cells []dotCell) string {
	var out, run strings.Builder
	ink := Text
	flush := func() {
		if run.Len() > 0 {
			out.WriteString(p.Draw(ink, run.String()))
			run.Reset()
		}
	}
	for _, c := range cells {
		r, next := c.char, c.ink
		switch {
		case r != 0:
		case c.dots != 0:
			r = 0x2800 + rune(c.dots)
		default:
			r, next = ' ', ink
		}
		if next != ink {
			flush()
			ink = next
		}
		run.WriteRune(r)
	}
	flush()
	return out.String()
}

// Scaled is Lines with the figures of a scale in the gutter beside them: at its top, in the middle and at the bottom.
func (d *Dots) Scaled(p *Palette, upper, middle, lower string) []string {
	labels := make([]string, d.Height)
	if d.Height > 0 {
		labels[d.Height/2], labels[d.Height-1] = middle, lower
		labels[0] = upper
	}
	return d.Labelled(p, labels)
}

// Labelled is Lines with a label in the gutter beside each.
func (d *Dots) Labelled(p *Palette, labels []string) []string {
	lines := d.Lines(p)
	for i := range lines {
		lines[i] = p.Draw(Faint, Right(labels[i], Gutter-1)) + " " + lines[i]
	}
	return lines
}
