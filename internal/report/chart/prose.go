package chart

import (
	"io"
	"strings"

	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
)

// A Prose is paragraphs, each with a word beside it that says what it is.
type Prose struct {
	Title string
	Notes []string
	Paras []Para
}

// A Para is one paragraph.
type Para struct {
	Label  string // stands left of it; "" for none
	Text   string
	Header bool // it begins something new: a rule above it, in a larger size
}

const (
	proseLine  = vg.Length(14)
	proseSize  = vg.Length(10)
	proseLabel = vg.Length(74)
)

// Write draws the paragraphs, on a page as high as it needs to be.
func (t *Prose) Write(w io.Writer, f Format) error {
	style := textStyle(proseSize)
	room := width - 2*margin - proseLabel
	high := vg.Length(0)
	lines := make([][]string, len(t.Paras))
	for i, p := range t.Paras {
		lines[i] = wrap(style, safe(p.Text), room)
		high += proseLine * vg.Length(len(lines[i]))
		if p.Header {
			high += 2 * proseLine
		}
	}
	out, err := newCanvas(f, max(height, high+vg.Length(len(t.Notes)+4)*14+2*margin))
	if err != nil {
		return err
	}
	body := head(draw.New(out), t.Title, t.Notes)
	y := body.Max.Y - proseLine
	for i, p := range t.Paras {
		at := style
		if p.Header {
			y -= proseLine
			rule(body, y+proseLine)
			at = textStyle(proseSize + 2)
		}
		label := style
		label.Color = soft
		if p.Label != "" {
			body.FillText(label, vg.Point{X: body.Min.X, Y: y}, safe(p.Label))
		}
		for _, line := range lines[i] {
			body.FillText(at, vg.Point{X: body.Min.X + proseLabel, Y: y}, line)
			y -= proseLine
		}
		if p.Header {
			y -= proseLine / 2
		}
	}
	_, err = out.WriteTo(w)
	return err
}

// wrap breaks a text into lines of a width. A word that is wider has a line of its own.
func wrap(style draw.TextStyle, text string, room vg.Length) (lines []string) {
	line := ""
	for _, word := range strings.Fields(text) {
		next := strings.TrimSpace(line + " " + word)
		if line != "" && style.Width(next) > room {
			lines, next = append(lines, line), word
		}
		line = next
	}
	return append(lines, line)
}
