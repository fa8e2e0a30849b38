package export

import (
	"fmt"
	"strings"

	"tidepull/internal/base/plain"
	"tidepull/internal/report/chart"
)

// markdown writes a document for a pull request; figure gives the name of the file that a drawing is in.
func markdown(d *chart.Document, figure func(chart.Figure) (string, error)) (string, error) {
	var b strings.Builder
	p := func(text string, args ...any) { fmt.Fprintf(&b, text+"\n", args...) }
	p("# %s\n", inMarkdown(d.Title))
	for _, n := range d.Notes {
		p("%s\n", inMarkdown(n))
	}
	for _, block := range d.Blocks {
		switch x := block.(type) {
		case chart.Heading:
			p("## %s\n", inMarkdown(x.Text))
		case chart.Lines:
			switch {
			case x.Strong && x.Label != "":
				p("### %s: %s\n", inMarkdown(x.Label), inMarkdown(x.Text))
			case x.Strong:
				p("### %s\n", inMarkdown(x.Text))
			case x.Label != "":
				p("**%s:** %s\n", inMarkdown(x.Label), inMarkdown(x.Text))
			default:
				p("%s\n", inMarkdown(x.Text))
			}
		case chart.Grid:
			row := func(cells []string) {
				line := "|"
				for _, cell := range cells {
					line += " " + inMarkdown(cell) + " |"
				}
				p("%s", line)
			}
			row(x.Header)
			line := "|"
			for i := range x.Header {
				if i == 0 || x.Texts[i] {
					line += " --- |"
				} else {
					line += " ---: |"
				}
			}
			p("%s", line)
			for _, cells := range x.Rows {
				row(cells)
			}
			p("")
		case chart.Figure:
			name, err := figure(x)
			if err != nil {
				return "", err
			}
			p("![%s](%s)\n", inMarkdown(x.Caption), name)
		}
	}
	return b.String(), nil
}

// inMarkdown makes a text, which may be a server's, mean nothing but itself in Markdown.
func inMarkdown(s string) string {
	return strings.NewReplacer("\\", "\\\\", "`", "\\`", "*", "\\*", "_", "\\_", "[", "\\[", "]", "\\]", "<", "&lt;",
		">", "&gt;", "|", "\\|", "#", "\\#", "!", "\\!", "&", "&amp;").Replace(plain.Text(s, 0))
}
