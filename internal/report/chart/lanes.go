package chart

import (
	"fmt"
	"io"

	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
)

// Lanes is a sequence drawing: clients side by side, time downwards. As SVG it
// is one long page, as PDF as many pages as it needs.
type Lanes struct {
	Title string
	Notes []string
	Names []string // of the lanes
	Rows  []LaneRow
}

// Mark is how a row is marked in its lane.
type Mark uint8

// The marks.
const (
	Dot    Mark = iota // said
	Ring               // something that happened
	Cross              // something that went wrong
	Stroke             // a message that came
	Loss               // one that did not: it ends in nothing
	Bar                // a beat
	Gap                // nothing happened for a while
)

// Line is how a lane is drawn.
type Line uint8

// The lines.
const (
	Away Line = iota
	Connected
	Inside
)

// A LaneRow is one thing that happened.
type LaneRow struct {
	Time  string
	Mark  Mark
	Lane  int
	From  int // of Stroke and Loss: the lane it comes from; -1: from a client that is not shown
	Style Style
	Text  string
	Lines []Line // of each lane
}

const (
	laneRow   = vg.Length(13)
	timeWidth = vg.Length(52)
)

// RowsOnPage is about how many rows one page holds.
const RowsOnPage = 22

// Write draws the lanes.
func (l *Lanes) Write(w io.Writer, f Format) error {
	top := vg.Length(len(l.Notes)+3)*13 + 2*margin + 2*laneRow
	perPage := max(1, int((height-top)/laneRow))
	high := height
	if f != PDF {
		perPage = max(1, len(l.Rows))
		high = max(height, top+vg.Length(len(l.Rows))*laneRow)
	}
	out, err := newCanvas(f, high)
	if err != nil {
		return err
	}
	pages := max(1, (len(l.Rows)+perPage-1)/perPage)
	for n := range pages {
		if pdf, ok := out.(*pdfCanvas); ok && n > 0 {
			pdf.NextPage()
		}
		page := draw.New(out)
		l.page(page, l.Rows[n*perPage:min(len(l.Rows), (n+1)*perPage)])
		if pages > 1 {
			style := textStyle(8)
			style.Color, style.XAlign = soft, draw.XRight
			page.FillText(style, vg.Point{X: page.Max.X - margin, Y: page.Min.Y + margin/2},
				fmt.Sprintf("page %d of %d", n+1, pages))
		}
	}
	_, err = out.WriteTo(w)
	return err
}

func (l *Lanes) page(page draw.Canvas, rows []LaneRow) {
	l.body(head(page, l.Title, l.Notes), rows)
}

// body draws rows below the names of their lanes.
func (l *Lanes) body(body draw.Canvas, rows []LaneRow) {
	style := textStyle(9)
	style.XAlign = draw.XCenter
	y := body.Max.Y - laneRow
	for i, name := range l.Names {
		body.FillText(style, vg.Point{X: l.middle(body, i), Y: y}, safe(name))
	}
	rule(body, y-3)
	y -= laneRow
	if len(rows) == 0 {
		body.FillText(textStyle(11), vg.Point{X: body.Min.X + timeWidth, Y: y - laneRow},
			"nothing is kept of these clients in this window")
	}
	for i := range rows {
		l.row(body, y, &rows[i])
		y -= laneRow
	}
}

func (l *Lanes) each(c draw.Canvas) vg.Length {
	return (c.Max.X - c.Min.X - timeWidth) / vg.Length(max(1, len(l.Names)))
}

func (l *Lanes) middle(c draw.Canvas, i int) vg.Length {
	return c.Min.X + timeWidth + l.each(c)*(vg.Length(i)+0.35)
}

func (l *Lanes) row(c draw.Canvas, y vg.Length, r *LaneRow) {
	mid := y + laneRow/2 - 3
	for i, line := range r.Lines {
		if i >= len(l.Names) {
			break
		}
		style := draw.LineStyle{Color: soft, Width: 0.6}
		switch line {
		case Away:
			style.Dashes = []vg.Length{1, 3}
		case Inside:
			style.Width = 1.8
		}
		c.StrokeLine2(style, l.middle(c, i), mid-laneRow/2, l.middle(c, i), mid+laneRow/2)
	}
	style := textStyle(7)
	style.Color = soft
	c.FillText(style, vg.Point{X: c.Min.X, Y: y}, safe(r.Time))
	x := l.middle(c, r.Lane)
	switch r.Mark {
	case Gap:
		return
	case Stroke, Loss:
		l.stroke(c, mid, x, r)
	case Cross:
		cross(c, x, mid)
	case Bar:
		c.StrokeLine2(draw.LineStyle{Color: ink, Width: 0.8}, x-4, mid, x+4, mid)
	case Dot:
		c.DrawGlyph(draw.GlyphStyle{Color: ink, Radius: 2.6, Shape: draw.CircleGlyph{}}, vg.Point{X: x, Y: mid})
	default:
		c.DrawGlyph(draw.GlyphStyle{Color: ink, Radius: 2.6, Shape: draw.RingGlyph{}}, vg.Point{X: x, Y: mid})
	}
	style.Color = ink
	if (r.Mark == Stroke || r.Mark == Loss) && r.From > r.Lane {
		// The stroke runs where the text would stand.
		style.XAlign = draw.XRight
		c.FillText(style, vg.Point{X: x - 5, Y: mid - 2}, safe(r.Text))
		return
	}
	c.FillText(style, vg.Point{X: x + 6, Y: mid - 2}, fitted(style, safe(r.Text), c.Max.X-x-6))
}

func cross(c draw.Canvas, x, y vg.Length) {
	style := draw.LineStyle{Color: ink, Width: 1.2}
	c.StrokeLine2(style, x-3, y-3, x+3, y+3)
	c.StrokeLine2(style, x-3, y+3, x+3, y-3)
}

// stroke draws a message on its way to a lane.
func (l *Lanes) stroke(c draw.Canvas, y, x vg.Length, r *LaneRow) {
	style := lineStyle(r.Style, ink)
	style.Width = 0.9
	from := x - min(l.each(c)*0.6, 40)
	if r.From >= 0 {
		from = l.middle(c, r.From)
	}
	if r.From == r.Lane { // its own
		c.DrawGlyph(draw.GlyphStyle{Color: ink, Radius: 2.6, Shape: draw.PyramidGlyph{}}, vg.Point{X: x, Y: y})
		return
	}
	dir := vg.Length(1)
	if from > x {
		dir = -1
	}
	end := x - dir*2
	if r.Mark == Loss {
		end = x - dir*12
		cross(c, end, y)
	}
	c.StrokeLine2(style, from, y, end, y)
	if r.Mark == Stroke {
		c.FillPolygon(ink, []vg.Point{{X: end, Y: y}, {X: end - dir*5, Y: y + 2.5}, {X: end - dir*5, Y: y - 2.5}})
	}
}
