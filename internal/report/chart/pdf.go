package chart

import (
	"image"
	"image/color"
	"io"
	"math"

	"codeberg.org/go-fonts/liberation/liberationsansregular"
	"codeberg.org/go-pdf/fpdf"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/vg"
)

// A pdfCanvas draws on the pages of a PDF. Its texts are in Unicode, in a font
// that is embedded as far as it is used: the plotting library's own canvas knows
// the letters of one code page alone.
type pdfCanvas struct {
	doc   *fpdf.Fpdf
	w, h  vg.Length
	now   pdfState
	stack []pdfState
}

// A pdfState is what Push keeps: a transformation (x' = a x + c y + e, and so
// on), and how things are drawn.
type pdfState struct {
	a, b, c, d, e, f float64
	color            color.Color
	width            vg.Length
	dashes           []vg.Length
	offset           vg.Length
}

// family is the name of the font in the document.
const family = "sans"

func newPDF(w, h vg.Length) *pdfCanvas {
	doc := fpdf.NewCustom(&fpdf.InitType{UnitStr: "pt", Size: fpdf.SizeType{Wd: w.Points(), Ht: h.Points()}})
	doc.SetAutoPageBreak(false, 0)
	doc.SetMargins(0, 0, 0)
	doc.SetCatalogSort(true)
	doc.AddUTF8FontFromBytes(family, "", liberationsansregular.TTF)
	c := &pdfCanvas{doc: doc, w: w, h: h}
	c.NextPage()
	return c
}

// NextPage begins another page.
func (c *pdfCanvas) NextPage() {
	c.doc.AddPage()
	c.now, c.stack = pdfState{a: 1, d: 1, color: color.Black, width: 1}, nil
}

// Size implements vg.CanvasSizer.
func (c *pdfCanvas) Size() (w, h vg.Length) { return c.w, c.h }

// WriteTo implements io.WriterTo.
func (c *pdfCanvas) WriteTo(w io.Writer) (int64, error) {
	n := &counter{w: w}
	err := c.doc.Output(n)
	return n.n, err
}

type counter struct {
	w io.Writer
	n int64
}

func (c *counter) Write(b []byte) (int, error) {
	n, err := c.w.Write(b)
	c.n += int64(n)
	return n, err
}

func (c *pdfCanvas) SetLineWidth(w vg.Length) { c.now.width = w }

func (c *pdfCanvas) SetLineDash(pattern []vg.Length, offset vg.Length) {
	c.now.dashes, c.now.offset = pattern, offset
}

func (c *pdfCanvas) SetColor(clr color.Color) {
	if clr == nil {
		clr = color.Black
	}
	c.now.color = clr
}

func (c *pdfCanvas) Rotate(rad float64) {
	s, k := math.Sin(rad), math.Cos(rad)
	c.transform(k, s, -s, k, 0, 0)
}

func (c *pdfCanvas) Translate(p vg.Point) { c.transform(1, 0, 0, 1, p.X.Points(), p.Y.Points()) }

func (c *pdfCanvas) Scale(x, y float64) { c.transform(x, 0, 0, y, 0, 0) }

func (c *pdfCanvas) transform(a, b, k, d, e, f float64) {
	m := c.now
	c.now.a, c.now.b = m.a*a+m.c*b, m.b*a+m.d*b
	c.now.c, c.now.d = m.a*k+m.c*d, m.b*k+m.d*d
	c.now.e, c.now.f = m.a*e+m.c*f+m.e, m.b*e+m.d*f+m.f
}

func (c *pdfCanvas) Push() { c.stack = append(c.stack, c.now) }

func (c *pdfCanvas) Pop() {
	c.now = c.stack[len(c.stack)-1]
	c.stack = c.stack[:len(c.stack)-1]
}

// at gives a point on the page; its y runs downwards.
func (c *pdfCanvas) at(p vg.Point) (x, y float64) {
	px, py := p.X.Points(), p.Y.Points()
	return c.now.a*px + c.now.c*py + c.now.e, c.h.Points() - (c.now.b*px + c.now.d*py + c.now.f)
}

func (c *pdfCanvas) scale() float64 { return math.Hypot(c.now.a, c.now.b) }

func (c *pdfCanvas) rgb() (r, g, b int) {
	cr, cg, cb, _ := c.now.color.RGBA()
	return int(cr >> 8), int(cg >> 8), int(cb >> 8)
}

func (c *pdfCanvas) Stroke(p vg.Path) {
	if c.now.width <= 0 {
		return
	}
	c.doc.SetDrawColor(c.rgb())
	c.doc.SetLineWidth(c.now.width.Points() * c.scale())
	dashes := make([]float64, len(c.now.dashes))
	for i, d := range c.now.dashes {
		dashes[i] = d.Points() * c.scale()
	}
	c.doc.SetDashPattern(dashes, c.now.offset.Points())
	c.path(p)
	c.doc.DrawPath("D")
}

func (c *pdfCanvas) Fill(p vg.Path) {
	c.doc.SetFillColor(c.rgb())
	c.path(p)
	c.doc.DrawPath("F")
}

// arcStep is the angle that one straight piece of an arc takes.
const arcStep = math.Pi / 24

func (c *pdfCanvas) path(p vg.Path) {
	for _, comp := range p {
		x, y := c.at(comp.Pos)
		switch comp.Type {
		case vg.MoveComp:
			c.doc.MoveTo(x, y)
		case vg.LineComp:
			c.doc.LineTo(x, y)
		case vg.ArcComp:
			steps := max(1, int(math.Ceil(math.Abs(comp.Angle)/arcStep)))
			for i := range steps + 1 {
				angle := comp.Start + comp.Angle*float64(i)/float64(steps)
				c.doc.LineTo(c.at(vg.Point{X: comp.Pos.X + comp.Radius*vg.Length(math.Cos(angle)),
					Y: comp.Pos.Y + comp.Radius*vg.Length(math.Sin(angle))}))
			}
		case vg.CurveComp:
			switch len(comp.Control) {
			case 1:
				x0, y0 := c.at(comp.Control[0])
				c.doc.CurveTo(x0, y0, x, y)
			case 2:
				x0, y0 := c.at(comp.Control[0])
				x1, y1 := c.at(comp.Control[1])
				c.doc.CurveBezierCubicTo(x0, y0, x1, y1, x, y)
			}
		case vg.CloseComp:
			c.doc.ClosePath()
		}
	}
}

func (c *pdfCanvas) FillString(f font.Face, p vg.Point, s string) {
	x, y := c.at(p)
	c.doc.SetTextColor(c.rgb())
	c.doc.SetFont(family, "", f.Font.Size.Points()*c.scale())
	angle := math.Atan2(c.now.b, c.now.a) * 180 / math.Pi
	if angle != 0 {
		c.doc.TransformBegin()
		c.doc.TransformRotate(angle, x, y)
		defer c.doc.TransformEnd()
	}
	c.doc.Text(x, y, s)
}

// DrawImage does not happen: no chart has one.
func (c *pdfCanvas) DrawImage(vg.Rectangle, image.Image) {}
