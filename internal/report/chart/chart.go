// Package chart draws charts, tables and documents as SVG and PDF, from data. Lines have colours of different
// lightness, and dashes, and their names: a page that is printed in grey says as much as a screen.
package chart

import (
	"fmt"
	"image/color"
	"io"
	"math"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgsvg"
)

// A Chart is what is drawn over two axes.
type Chart struct {
	Title  string
	Notes  []string // below the title: run, window, version
	X, Y   Axis
	Series []Series
	Above  *Chart // a smaller panel above, on the same x axis; its title and notes are not drawn
	// LeftOut are spans of the x axis that say nothing: they are shaded.
	LeftOut [][2]float64
}

// Style is how a series is drawn.
type Style uint8

// The styles.
const (
	Solid Style = iota
	Dashed
	Dotted
	Points
	Filled // down to the next series, which is the lower edge
	Fine   // a thin line: of what jumps
	DashDot
)

// A Series is a named row of points.
type Series struct {
	Name  string
	Style Style
	X, Y  []float64
}

// Format is a file format.
type Format string

// The formats of drawings.
const (
	SVG Format = "svg"
	PDF Format = "pdf"
)

// The size of a drawing: A4 across, with margins.
const (
	width  = 26 * vg.Centimeter
	height = 17 * vg.Centimeter
	margin = vg.Length(14)
)

var (
	ink  = color.Gray{0x00}
	pale = color.Gray{0xd0}
	soft = color.Gray{0x55}
)

// tones are the colours of a chart's lines, in their order: each of another lightness.
var tones = []color.Color{color.RGBA{0x10, 0x18, 0x20, 0xff}, color.RGBA{0x1f, 0x5f, 0x99, 0xff},
	color.RGBA{0xc6, 0x54, 0x18, 0xff}, color.RGBA{0x48, 0xa0, 0x9c, 0xff}}

// wash is what areas are filled with, and gone what shades spans that say nothing.
var (
	wash = color.RGBA{0xd0, 0xe0, 0xed, 0xff}
	gone = color.RGBA{0xef, 0xe6, 0xd6, 0xff}
)

// tone is the colour of series i: areas have none, and do not count.
func (c *Chart) tone(i int) color.Color {
	n := 0
	for k := range i {
		if c.Series[k].Style != Filled {
			n++
		}
	}
	return tones[n%len(tones)]
}

type canvas interface {
	vg.CanvasSizer
	io.WriterTo
}

func newCanvas(f Format, h vg.Length) (canvas, error) { return newCanvasOf(f, width, h) }

func newCanvasOf(f Format, w, h vg.Length) (canvas, error) {
	switch f {
	case SVG:
		c := vgsvg.New(w, h)
		ground(draw.New(c))
		return c, nil
	case PDF:
		return newPDF(w, h), nil
	}
	return nil, fmt.Errorf("no drawing can be made as %q; there are svg and pdf", f)
}

// ground makes a page white, whatever it is looked at on.
func ground(page draw.Canvas) {
	page.SetColor(color.White)
	page.Fill(page.Rectangle.Path())
}

// Write draws the chart.
func (c *Chart) Write(w io.Writer, f Format) error {
	out, err := newCanvas(f, height)
	if err != nil {
		return err
	}
	if err := c.drawOn(head(draw.New(out), c.Title, c.Notes)); err != nil {
		return err
	}
	_, err = out.WriteTo(w)
	return err
}

// drawOn draws the chart, without its title and notes.
func (c *Chart) drawOn(body draw.Canvas) error {
	across := c.reach(func(xy plotter.XY) float64 { return xy.X })
	if c.Above != nil {
		above := c.Above.reach(func(xy plotter.XY) float64 { return xy.X })
		across = reach{min(across.least, above.least), max(across.most, above.most)}
	}
	below, err := c.plot(across)
	if err != nil {
		return err
	}
	if c.Above == nil {
		c.draw(below, body)
	} else {
		c.Above.X = Axis{Clock: c.X.Clock, Log: c.X.Log, Name: c.X.Name}
		above, err := c.Above.plot(across)
		if err != nil {
			return err
		}
		cut := (body.Max.Y - body.Min.Y) * 0.35
		upper, lower := draw.Crop(body, 0, 0, body.Max.Y-body.Min.Y-cut, 0), draw.Crop(body, 0, 0, 0, -cut)
		// The two stand on one another: the same second is in the same place.
		a, b := above.DataCanvas(upper), below.DataCanvas(lower)
		upper, lower = draw.Crop(upper, max(0, b.Min.X-a.Min.X), -max(0, a.Max.X-b.Max.X), 0, 0),
			draw.Crop(lower, max(0, a.Min.X-b.Min.X), -max(0, b.Max.X-a.Max.X), 0, 0)
		c.Above.draw(above, upper)
		c.draw(below, lower)
	}
	return nil
}

// empty reports whether there is nothing to draw.
func (c *Chart) empty() bool {
	for i := range c.Series {
		if len(c.points(&c.Series[i])) > 0 {
			return false
		}
	}
	return true
}

// draw draws a plot with the key to its series, or says that there is nothing.
func (c *Chart) draw(p *plot.Plot, on draw.Canvas) {
	left := c.key(on)
	p.Draw(left)
	if c.empty() {
		style := textStyle(11)
		style.XAlign = draw.XCenter
		left.FillText(style, left.Center(), "nothing was measured in this window")
	}
}

// plot makes the axes and series.
func (c *Chart) plot(across reach) (*plot.Plot, error) {
	p := plot.New()
	p.BackgroundColor = color.White
	p.X.Label.Text, p.Y.Label.Text = safe(c.X.Label), safe(c.Y.Label)
	for _, s := range []*draw.TextStyle{&p.X.Label.TextStyle, &p.Y.Label.TextStyle, &p.X.Tick.Label, &p.Y.Tick.Label,
		&p.Legend.TextStyle} {
		s.Font.Variant, s.Font.Size = "Sans", 9
	}
	grid := plotter.NewGrid()
	for _, l := range []*draw.LineStyle{&grid.Vertical, &grid.Horizontal} {
		l.Color, l.Width = pale, 0.4
	}
	if len(c.LeftOut) > 0 {
		p.Add(leftOut(c.LeftOut))
	}
	p.Add(grid)
	for i := 0; i < len(c.Series); i++ {
		s := &c.Series[i]
		if s.Style == Filled && i+1 < len(c.Series) {
			if err := c.fill(p, s, &c.Series[i+1]); err != nil {
				return nil, err
			}
			continue
		}
		if err := c.add(p, s, c.tone(i)); err != nil {
			return nil, err
		}
	}
	// Behind the series, which widen the axes as they are added.
	c.X.apply(&p.X, across)
	c.Y.apply(&p.Y, c.reach(func(xy plotter.XY) float64 { return xy.Y }))
	return p, nil
}

// key names the series in a row at the top and returns what is left below.
func (c *Chart) key(on draw.Canvas) draw.Canvas {
	style := textStyle(9)
	x, y := on.Min.X+vg.Length(30), on.Max.Y-12
	const sample = 24
	for i := range c.Series {
		s := &c.Series[i]
		if len(s.X) == 0 {
			continue
		}
		if wide := sample + 5 + style.Width(safe(s.Name)); x+wide > on.Max.X && x > on.Min.X+30 { // in another row
			x, y = on.Min.X+30, y-13
		}
		middle := y + 3
		switch s.Style {
		case Points:
			on.DrawGlyph(draw.GlyphStyle{Color: c.tone(i), Radius: 2.5, Shape: draw.CircleGlyph{}},
				vg.Point{X: x + sample/2, Y: middle})
		case Filled:
			on.FillPolygon(wash, []vg.Point{{X: x, Y: y - 1}, {X: x + sample, Y: y - 1}, {X: x + sample, Y: y + 8},
				{X: x, Y: y + 8}})
		default:
			on.StrokeLine2(lineStyle(s.Style, c.tone(i)), x, middle, x+sample, middle)
		}
		on.FillText(style, vg.Point{X: x + sample + 5, Y: y}, safe(s.Name))
		x += sample + 5 + style.Width(safe(s.Name)) + 16
	}
	return draw.Crop(on, 0, 0, 0, y-8-on.Max.Y)
}

// A reach is the least and the greatest of what is drawn on an axis.
type reach struct{ least, most float64 }

func (c *Chart) reach(of func(plotter.XY) float64) reach {
	r := reach{math.Inf(1), math.Inf(-1)}
	for i := range c.Series {
		for _, xy := range c.points(&c.Series[i]) {
			r.least, r.most = min(r.least, of(xy)), max(r.most, of(xy))
		}
	}
	return r
}

func (c *Chart) points(s *Series) plotter.XYs {
	var xys plotter.XYs
	for i := range s.X {
		if c.X.Log && s.X[i] <= 0 || c.Y.Log && s.Y[i] <= 0 || math.IsNaN(s.Y[i]) {
			continue // a logarithmic axis has no place for it
		}
		xys = append(xys, plotter.XY{X: s.X[i], Y: s.Y[i]})
	}
	return xys
}

func (c *Chart) add(p *plot.Plot, s *Series, tone color.Color) error {
	xys := c.points(s)
	if len(xys) == 0 {
		return nil
	}
	if s.Style == Points {
		dots, err := plotter.NewScatter(xys)
		if err != nil {
			return err
		}
		dots.GlyphStyle = draw.GlyphStyle{Color: tone, Radius: 2.5, Shape: draw.CircleGlyph{}}
		p.Add(dots)
		return nil
	}
	line, err := plotter.NewLine(xys)
	if err != nil {
		return err
	}
	line.LineStyle = lineStyle(s.Style, tone)
	p.Add(line)
	return nil
}

func lineStyle(s Style, tone color.Color) draw.LineStyle {
	style := draw.LineStyle{Color: tone, Width: 1.2}
	switch s {
	case Fine:
		style.Width = 0.6
	case DashDot:
		style.Dashes = []vg.Length{6, 2, 1.5, 2}
	case Dashed:
		style.Dashes = []vg.Length{6, 3}
	case Dotted:
		style.Dashes = []vg.Length{1.5, 2.5}
	}
	return style
}

// fill draws the area between two series in a pale grey.
func (c *Chart) fill(p *plot.Plot, upper, lower *Series) error {
	a, b := c.points(upper), c.points(lower)
	if len(a) == 0 || len(b) == 0 {
		return nil
	}
	ring := append(plotter.XYs{}, a...)
	for i := len(b) - 1; i >= 0; i-- {
		ring = append(ring, b[i])
	}
	area, err := plotter.NewPolygon(ring)
	if err != nil {
		return err
	}
	area.Color, area.LineStyle.Width = wash, 0
	p.Add(area)
	return nil
}

// leftOut shades spans of the x axis.
type leftOut [][2]float64

// Plot implements plot.Plotter.
func (l leftOut) Plot(c draw.Canvas, p *plot.Plot) {
	at, _ := p.Transforms(&c)
	for _, span := range l {
		from, to := max(c.Min.X, at(span[0])), min(c.Max.X, at(span[1]))
		if to > from {
			c.FillPolygon(gone, []vg.Point{{X: from, Y: c.Min.Y}, {X: to, Y: c.Min.Y}, {X: to, Y: c.Max.Y},
				{X: from, Y: c.Max.Y}})
		}
	}
}

// head writes the title and the notes at the top of a page and returns what is
// left of it.
func head(page draw.Canvas, title string, notes []string) draw.Canvas {
	body := draw.Crop(page, margin, -margin, margin, -margin)
	style := textStyle(14)
	y := body.Max.Y - 14
	body.FillText(style, vg.Point{X: body.Min.X, Y: y}, safe(title))
	style = textStyle(9)
	style.Color = soft
	for _, n := range notes {
		y -= 12
		body.FillText(style, vg.Point{X: body.Min.X, Y: y}, safe(n))
	}
	return draw.Crop(body, 0, 0, 0, y-10-body.Max.Y)
}

func textStyle(size vg.Length) draw.TextStyle {
	s := plot.New().Title.TextStyle
	s.Font.Size = size
	s.Font.Variant = "Sans"
	s.Color = ink
	s.XAlign, s.YAlign = draw.XLeft, draw.YBottom
	return s
}
