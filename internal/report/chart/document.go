package chart

import (
	"fmt"
	"io"

	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
)

// A Document is a text with drawings on pages of A4: as PDF all of them, as SVG each by itself.
type Document struct {
	Title  string
	Notes  []string // below the title
	Foot   string   // at the foot of each page, beside its number
	Blocks []Block
}

// A Block is a piece of a document. What it needs of height depends on the width that it is given.
type Block interface {
	// height is what all of it needs.
	height(width vg.Length) vg.Length
	// split gives the part of it that fits a height, and the rest; the first is nil if nothing of it should stand
	// there, the second if all does.
	split(width, room vg.Length) (now, later Block)
	draw(c draw.Canvas)
	// leads reports whether it must not be the last on a page.
	leads() bool
}

// A page of A4, and what its edges leave.
const (
	pageWide  = 21 * vg.Centimeter
	pageHigh  = 29.7 * vg.Centimeter
	edge      = 1.9 * vg.Centimeter
	footRoom  = vg.Length(24)
	textLine  = vg.Length(13.5)
	textSize  = vg.Length(9.5)
	labelWide = vg.Length(64)
	between   = vg.Length(7) // blocks
	leastLeft = 2            // lines of a paragraph that stand alone at the top or the foot of a page
)

// pages deals the blocks out. Drawings are made a little lower if that saves a page with next to nothing on it.
func (d *Document) pages() (all [][]Block) {
	best := d.deal(1)
	for _, scale := range []float64{0.92, 0.85, 0.78, 0.7} {
		if len(best) < 2 || !d.isLonely(best[len(best)-1]) {
			break
		}
		if fewer := d.deal(scale); len(fewer) < len(best) {
			best = fewer
		}
	}
	return best
}

// isLonely reports whether there is little on a page.
func (d *Document) isLonely(page []Block) bool {
	used := vg.Length(0)
	for _, b := range page {
		used += b.height(pageWide-2*edge) + between
	}
	return used < (pageHigh-2*edge)/4
}

// deal deals the blocks out, with figures of a share of their heights.
func (d *Document) deal(scale float64) (all [][]Block) {
	across := pageWide - 2*edge
	top := vg.Length(len(d.Notes))*textLine + 44
	full := pageHigh - 2*edge - footRoom
	room, page := full-top, []Block(nil)
	next := func() {
		all, page, room = append(all, page), nil, full
	}
	rest := append([]Block(nil), d.Blocks...)
	for i := range rest {
		if f, is := rest[i].(Figure); is {
			f.High *= scale
			rest[i] = f
		}
	}
	for len(rest) > 0 {
		b := rest[0]
		// What leads goes where some of what it leads to can stand as well.
		led, need := 0, vg.Length(0)
		for led < len(rest)-1 && rest[led].leads() {
			need += rest[led].height(across) + between
			led++
		}
		if led > 0 && len(page) > 0 {
			if now, _ := rest[led].split(across, room-need); now == nil {
				next()
				continue
			}
		}
		switch now, later := b.split(across, room); {
		case now == nil && len(page) > 0:
			next()
			continue
		case now == nil: // it is higher than a page
			page, rest = append(page, b), rest[1:]
			next()
			continue
		default:
			page = append(page, now)
			room -= now.height(across) + between
			rest = rest[1:]
			if later != nil {
				rest = append([]Block{later}, rest...)
				next()
			}
		}
	}
	if len(page) > 0 || len(all) == 0 {
		all = append(all, page)
	}
	return all
}

// Write draws all pages into a PDF.
func (d *Document) Write(w io.Writer, f Format) error {
	if f != PDF {
		return fmt.Errorf("a document of several pages is no %s; its pages are", f)
	}
	out := newPDF(pageWide, pageHigh)
	pages := d.pages()
	for n, blocks := range pages {
		if n > 0 {
			out.NextPage()
		}
		d.draw(draw.New(out), blocks, n, len(pages))
	}
	_, err := out.WriteTo(w)
	return err
}

// WritePages has page write each page as an SVG, the first being 1.
func (d *Document) WritePages(page func(n int, write func(io.Writer) error) error) error {
	pages := d.pages()
	for n, blocks := range pages {
		out, err := newCanvasOf(SVG, pageWide, pageHigh)
		if err != nil {
			return err
		}
		d.draw(draw.New(out), blocks, n, len(pages))
		err = page(n+1, func(w io.Writer) error {
			_, err := out.WriteTo(w)
			return err
		})
		if err != nil {
			return err
		}
	}
	return nil
}

func (d *Document) draw(c draw.Canvas, blocks []Block, n, of int) {
	c = draw.Crop(c, edge, -edge, edge, -edge)
	foot := textStyle(8)
	foot.Color = soft
	c.FillText(foot, vg.Point{X: c.Min.X, Y: c.Min.Y}, safe(d.Foot))
	foot.XAlign = draw.XRight
	c.FillText(foot, vg.Point{X: c.Max.X, Y: c.Min.Y}, fmt.Sprintf("%d / %d", n+1, of))
	c = draw.Crop(c, 0, 0, footRoom, 0)
	if n == 0 {
		y := c.Max.Y - 18
		c.FillText(textStyle(18), vg.Point{X: c.Min.X, Y: y}, safe(d.Title))
		style := textStyle(textSize)
		style.Color = soft
		for _, note := range d.Notes {
			y -= textLine
			c.FillText(style, vg.Point{X: c.Min.X, Y: y}, safe(note))
		}
		rule(c, y-8)
		c = draw.Crop(c, 0, 0, 0, y-20-c.Max.Y)
	}
	for _, b := range blocks {
		high := b.height(c.Max.X - c.Min.X)
		b.draw(draw.Crop(c, 0, 0, c.Max.Y-c.Min.Y-high, 0))
		c = draw.Crop(c, 0, 0, 0, -high-between)
	}
}

// A Heading begins a part.
type Heading struct{ Text string }

func (h Heading) height(vg.Length) vg.Length { return 26 }
func (h Heading) leads() bool                { return true }

func (h Heading) split(_, room vg.Length) (now, later Block) {
	if room < h.height(0) {
		return nil, h
	}
	return h, nil
}

func (h Heading) draw(c draw.Canvas) {
	c.FillText(textStyle(13), vg.Point{X: c.Min.X, Y: c.Min.Y + 5}, safe(h.Text))
}

// A Lines is a paragraph, wrapped, with a word left of it.
type Lines struct {
	Label, Text string
	Strong      bool // in a larger size: it says what those after it are about
	Keeps       bool // with what comes after it
	wrapped     []string
	rest        bool // of one that began on the page before
}

func (p Lines) size() (size, line vg.Length) {
	if p.Strong {
		return textSize + 1.5, textLine + 2
	}
	return textSize, textLine
}

func (p Lines) lines(width vg.Length) []string {
	if p.wrapped != nil {
		return p.wrapped
	}
	size, _ := p.size()
	return wrap(textStyle(size), safe(p.Text), width-labelWide)
}

func (p Lines) height(width vg.Length) vg.Length {
	_, line := p.size()
	return line * vg.Length(len(p.lines(width)))
}

func (p Lines) leads() bool { return p.Strong || p.Keeps }

func (p Lines) split(width, room vg.Length) (now, later Block) {
	all := p.lines(width)
	_, line := p.size()
	n := int(room / line)
	switch {
	case n >= len(all):
		return p, nil
	case n < leastLeft || len(all) < 2*leastLeft:
		return nil, p
	}
	n = min(n, len(all)-leastLeft)
	first, second := p, p
	first.wrapped, second.wrapped, second.rest = all[:n], all[n:], true
	return first, second
}

func (p Lines) draw(c draw.Canvas) {
	size, line := p.size()
	y := c.Max.Y - line + 3
	if p.Label != "" && !p.rest {
		style := textStyle(textSize)
		style.Color = soft
		c.FillText(style, vg.Point{X: c.Min.X, Y: y}, safe(p.Label))
	}
	for _, text := range p.lines(c.Max.X - c.Min.X) {
		c.FillText(textStyle(size), vg.Point{X: c.Min.X + labelWide, Y: y}, text)
		y -= line
	}
}

// A Grid is a small table: the first column flush left, the others right, or left if they are Texts. A text in the last
// column goes on in further lines.
type Grid struct {
	Header []string
	Rows   [][]string
	Widths []float64 // the shares of the width that columns take
	Texts  []bool    // which columns are texts
}

const (
	gridLine = vg.Length(13)
	gridSize = vg.Length(8.5)
	gridHead = gridLine + 4
)

// last are the lines of a row's last cell.
func (g Grid) last(row int, width vg.Length) []string {
	n := len(g.Header) - 1
	if !g.Texts[n] {
		return g.Rows[row][n:]
	}
	return wrap(textStyle(gridSize), safe(g.Rows[row][n]), width*vg.Length(g.Widths[n])-4)
}

func (g Grid) height(width vg.Length) vg.Length {
	high := gridHead
	for i := range g.Rows {
		high += gridLine * vg.Length(len(g.last(i, width)))
	}
	return high
}

func (g Grid) leads() bool { return false }

func (g Grid) split(width, room vg.Length) (now, later Block) {
	n := 0
	for high := gridHead; n < len(g.Rows); n++ {
		if high += gridLine * vg.Length(len(g.last(n, width))); high > room {
			break
		}
	}
	switch {
	case n == len(g.Rows):
		return g, nil
	case n < leastLeft || len(g.Rows) < 2*leastLeft:
		return nil, g
	}
	n = min(n, len(g.Rows)-leastLeft)
	first, second := g, g
	first.Rows, second.Rows = g.Rows[:n], g.Rows[n:]
	return first, second
}

func (g Grid) draw(c draw.Canvas) {
	y, across := c.Max.Y-gridLine+3, c.Max.X-c.Min.X
	style := textStyle(gridSize)
	row := func(cells, last []string) {
		x := c.Min.X
		for i, cell := range cells[:len(cells)-1] {
			wide := across * vg.Length(g.Widths[i])
			g.cell(c, style, i, cell, x, y, wide)
			x += wide
		}
		for _, line := range last {
			g.cell(c, style, len(cells)-1, line, x, y, across*vg.Length(g.Widths[len(cells)-1]))
			y -= gridLine
		}
	}
	style.Color = soft
	row(g.Header, g.Header[len(g.Header)-1:])
	rule(c, y+gridLine-3)
	y -= 2
	style.Color = ink
	for i, cells := range g.Rows {
		row(cells, g.last(i, across))
	}
}

// cell writes one cell, or a line of it.
func (g Grid) cell(c draw.Canvas, style draw.TextStyle, column int, text string, x, y, wide vg.Length) {
	style.XAlign = draw.XLeft
	if column > 0 && !g.Texts[column] {
		style.XAlign, x = draw.XRight, x+wide
	}
	c.FillText(style, vg.Point{X: x, Y: y}, fitted(style, safe(text), wide-4))
}

// fitted cuts a text to a width.
func fitted(style draw.TextStyle, text string, room vg.Length) string {
	if style.Width(text) <= room {
		return text
	}
	runes := []rune(text)
	for len(runes) > 0 && style.Width(string(runes)+"…") > room {
		runes = runes[:len(runes)-1]
	}
	return string(runes) + "…"
}

// A Figure is a drawing with a line below it that says what it shows.
type Figure struct {
	Caption string
	High    float64 // in centimetres
	Chart   *Chart
	Lanes   *Lanes
}

func (f Figure) height(vg.Length) vg.Length {
	return vg.Length(f.High)*vg.Centimeter + textLine
}

func (f Figure) leads() bool { return false }

func (f Figure) split(width, room vg.Length) (now, later Block) {
	if room < f.height(width) {
		return nil, f
	}
	return f, nil
}

func (f Figure) draw(c draw.Canvas) {
	style := textStyle(8.5)
	style.Color = soft
	c.FillText(style, vg.Point{X: c.Min.X, Y: c.Min.Y + 2}, safe(f.Caption))
	f.drawBody(draw.Crop(c, 0, 0, textLine+2, 0))
}

// drawBody draws what the figure shows.
func (f Figure) drawBody(c draw.Canvas) {
	switch {
	case f.Lanes != nil:
		l := *f.Lanes
		l.Rows = l.Rows[:min(len(l.Rows), max(1, int((c.Max.Y-c.Min.Y)/laneRow)-2))]
		l.body(c, l.Rows)
	case f.Chart != nil:
		if err := f.Chart.drawOn(c); err != nil {
			c.FillText(textStyle(textSize), c.Center(), safe("it could not be drawn: "+err.Error()))
		}
	}
}

// WriteSVG draws the figure by itself.
func (f Figure) WriteSVG(w io.Writer) error {
	wide, high := pageWide-2*edge, vg.Length(f.High)*vg.Centimeter
	out, err := newCanvasOf(SVG, wide+16, high+16)
	if err != nil {
		return err
	}
	g := f
	c := draw.Crop(draw.New(out), 8, -8, 8, -8)
	g.drawBody(c)
	_, err = out.WriteTo(w)
	return err
}
