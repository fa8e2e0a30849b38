package chart

import (
	"io"

	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
)

// A Table is figures in rows; the first column is the names, the last row may
// be the sum.
type Table struct {
	Title  string
	Notes  []string
	Header []string
	Rows   [][]string
	Sum    []string // under a rule; nil for none
}

const rowHeight = vg.Length(15)

// Write draws the table, as high as it needs to be.
func (t *Table) Write(w io.Writer, f Format) error {
	rows := len(t.Rows) + 3
	out, err := newCanvas(f, max(height, vg.Length(rows)*rowHeight+vg.Length(len(t.Notes)+3)*14+2*margin))
	if err != nil {
		return err
	}
	body := head(draw.New(out), t.Title, t.Notes)
	y := body.Max.Y - rowHeight
	y = t.row(body, y, t.Header, soft)
	rule(body, y+rowHeight-3)
	for _, r := range t.Rows {
		y = t.row(body, y, r, ink)
	}
	if len(t.Rows) == 0 {
		body.FillText(textStyle(11), vg.Point{X: body.Min.X, Y: y}, "nothing was measured in this window")
		y -= rowHeight
	}
	if t.Sum != nil {
		rule(body, y+rowHeight-3)
		t.row(body, y, t.Sum, ink)
	}
	_, err = out.WriteTo(w)
	return err
}

func rule(c draw.Canvas, y vg.Length) {
	c.StrokeLine2(draw.LineStyle{Color: soft, Width: 0.5}, c.Min.X, y, c.Max.X, y)
}

// row writes one row: the name flush left, figures flush right, and returns
// where the next goes.
func (t *Table) row(c draw.Canvas, y vg.Length, cells []string, in interface {
	RGBA() (r, g, b, a uint32)
}) vg.Length {
	size := vg.Length(10)
	if len(t.Header) > 12 {
		size = 8
	}
	style := textStyle(size)
	style.Color = in
	const nameWidth = 130
	each := (c.Max.X - c.Min.X - nameWidth) / vg.Length(max(1, len(t.Header)-1))
	for i, cell := range cells {
		x := c.Min.X
		style.XAlign = draw.XLeft
		if i > 0 {
			x += nameWidth + vg.Length(i)*each
			style.XAlign = draw.XRight
		}
		c.FillText(style, vg.Point{X: x, Y: y}, safe(cell))
	}
	return y - rowHeight
}
