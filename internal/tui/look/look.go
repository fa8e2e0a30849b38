// Package look is how the interface looks: the palette, the shapes and the
// grid. Views use these and nothing else.
//
// The model is a printed tide table on chart paper: hairlines with a label set
// into them, figures in columns with dotted leaders, water drawn in dots, and
// the sea-marks of every chart as signals.
package look

import (
	"image/color"
	"strings"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
)

// Ink is one of the few ways in which a character is drawn.
type Ink uint8

// The inks. Colour only repeats what words and shapes say.
const (
	Text   Ink = iota // the terminal's own
	Faint             // rules, leaders, units
	Strong            // what the eye should find first
	Water             // what is: curves, the surface
	Deep              // below the surface
	Plan              // what should be
	Good              // a cone
	Lost              // a can
	Beware            // a cross
	Danger            // two balls
	numInks
)

// Palette draws text in the inks.
type Palette struct{ styles [numInks]lipgloss.Style }

// NewPalette makes the palette for a dark or a light background, and for what
// the terminal can show: with 16 colours or fewer the terminal's own are named.
func NewPalette(dark bool, profile colorprofile.Profile) Palette {
	pick := lipgloss.LightDark(dark)
	few := profile <= colorprofile.ANSI
	ink := func(onLight, onDark, ofFew string) lipgloss.Style {
		if few {
			return lipgloss.NewStyle().Foreground(lipgloss.Color(ofFew))
		}
		return lipgloss.NewStyle().Foreground(pick(lipgloss.Color(onLight), lipgloss.Color(onDark)))
	}
	var p Palette
	p.styles = [numInks]lipgloss.Style{
		Text:   lipgloss.NewStyle(),
		Faint:  ink("#8a8574", "#7d786a", "8"), // pencil
		Strong: lipgloss.NewStyle().Bold(true),
		Water:  ink("#0b6e8f", "#7cc7d9", "14"), // the surface
		Deep:   ink("#9cc3d1", "#2f6b80", "6"),  // deep water; no dark blue, which cannot be read on black
		Plan:   ink("#9a3b86", "#c98bbd", "5"),  // the magenta of chart notes
		Good:   ink("#3b7a3b", "#9fbf7f", "2"),
		Lost:   ink("#b03a2e", "#e08573", "1").Bold(true),
		Beware: ink("#946c00", "#dcb35c", "3"),
		Danger: ink("#b03a2e", "#ff6f5e", "9").Bold(true),
	}
	if few && !dark { // the terminal's yellow and bright cyan cannot be read on white
		p.styles[Water] = lipgloss.NewStyle().Foreground(lipgloss.Color("4"))
		p.styles[Beware] = lipgloss.NewStyle().Bold(true).Underline(true)
		p.styles[Danger] = lipgloss.NewStyle().Foreground(lipgloss.Color("1")).Bold(true)
	}
	return p
}

// Draw draws s in an ink.
func (p *Palette) Draw(ink Ink, s string) string {
	if ink == Text {
		return s
	}
	return p.styles[ink].Render(s)
}

// Color gives an ink's colour, nil for those without one.
func (p *Palette) Color(ink Ink) color.Color { return p.styles[ink].GetForeground() }

// A Signal is a sea-mark with its word.
type Signal uint8

// The signals.
const (
	AllWell Signal = iota
	SomethingLost
	Attention
	InDanger
)

var signals = [...]struct {
	shape, word string
	ink         Ink
}{
	AllWell:       {"▲", "all well", Good},
	SomethingLost: {"■", "something lost", Lost},
	Attention:     {"╳", "attention", Beware},
	InDanger:      {"●●", "danger", Danger},
}

// Shape is the signal's shape alone.
func (s Signal) Shape() string { return signals[s].shape }

// Meaning says what the signal stands for, for those who see it for the first
// time.
func (s Signal) Meaning() string {
	return [...]string{
		AllWell:       "all is well",
		SomethingLost: "something was lost, or a limit is broken",
		Attention:     "attention: something else is wrong, or a limit is not proven",
		InDanger:      "danger: connections were refused, broken or not to the protocol",
	}[s]
}

// Ink is the signal's ink.
func (s Signal) Ink() Ink { return signals[s].ink }

// Signal draws a signal with a word, its own where none is given.
func (p *Palette) Signal(s Signal, word string) string {
	if word == "" {
		word = signals[s].word
	}
	return p.Draw(signals[s].ink, signals[s].shape+" "+word)
}

// The grid: a gutter on the left for the scales' figures, and columns of
// figures side by side with a gap between them.
const (
	Gutter    = 8
	columnMin = 36
	ColumnGap = 3
)

// Columns says how many columns of figures fit, and how wide each is.
func Columns(width, most int) (n, each int) {
	n = max(1, min(most, (width+ColumnGap)/(columnMin+ColumnGap)))
	return n, (width - (n-1)*ColumnGap) / n
}

// Rule draws a hairline of a width with a label set into it, and more at its
// right end. Both may be drawn already.
func (p *Palette) Rule(label, right string, width int) string {
	if room := width - ansi.StringWidth(label) - 8; ansi.StringWidth(right) > room {
		right = ansi.Truncate(right, max(0, room), "…")
	}
	b := p.Draw(Faint, "──") + " " + label + " "
	used := ansi.StringWidth(b)
	if right == "" {
		return Fit(b+p.Draw(Faint, strings.Repeat("─", max(0, width-used))), width)
	}
	tail := " " + right + " " + p.Draw(Faint, "──")
	return Fit(b+p.Draw(Faint, strings.Repeat("─", max(0, width-used-ansi.StringWidth(tail))))+tail, width)
}

// Heading is a Rule that names columns of figures at its right end, each of a width.
func (p *Palette) Heading(label string, width, each int, columns ...string) string {
	tail := ""
	for _, c := range columns {
		tail += Right(c, each)
	}
	tail = " " + strings.TrimLeft(tail, " ")
	return p.Rule(label, "", max(0, width-len(tail))) + p.Draw(Faint, tail)
}

// Line draws a name, a dotted leader and figures flush right, each in a column
// of its own width.
func (p *Palette) Line(name string, width, each int, figures ...string) string {
	tail := ""
	for _, f := range figures {
		tail += Right(f, each)
	}
	lead := strings.TrimLeft(tail, " ")
	room := width - ansi.StringWidth(name) - ansi.StringWidth(lead) - 2
	if room < 1 {
		return name + Right(lead, width-ansi.StringWidth(name))
	}
	return name + " " + p.Draw(Faint, strings.Repeat(".", room)) + " " + lead
}

// Right sets s flush right in a width.
func Right(s string, width int) string {
	return strings.Repeat(" ", max(0, width-ansi.StringWidth(s))) + s
}

// Clip cuts s to a width, with dots where something is missing.
func Clip(s string, width int) string { return ansi.Truncate(s, max(0, width), "…") }

// Name cuts a client's name to a width, and keeps its end: that is its number.
func Name(s string, width int) string {
	const end = 6
	if ansi.StringWidth(s) <= width || width <= end+2 {
		return Clip(s, width)
	}
	return ansi.Truncate(s, width-end-1, "") + "…" + ansi.TruncateLeft(s, ansi.StringWidth(s)-end, "")
}

// Fit cuts or fills s to a width.
func Fit(s string, width int) string {
	w := ansi.StringWidth(s)
	if w > width {
		s = ansi.Truncate(s, max(0, width), "…")
		w = ansi.StringWidth(s) // may be one less: half a wide character is none
	}
	return s + strings.Repeat(" ", max(0, width-w))
}

// Beside sets blocks of lines side by side, each filled to its width, with the
// grid's gap between them.
func Beside(height int, width int, blocks ...[]string) []string {
	lines := make([]string, height)
	for i := range lines {
		parts := make([]string, len(blocks))
		for k, b := range blocks {
			s := ""
			if i < len(b) {
				s = b[i]
			}
			parts[k] = Fit(s, width)
		}
		lines[i] = strings.Join(parts, strings.Repeat(" ", ColumnGap))
	}
	return lines
}

// Bar draws how much of something is done, a share, in some cells.
func (p *Palette) Bar(done float64, cells int) string {
	full := min(cells, int(done*float64(cells)))
	return p.Draw(Water, strings.Repeat("▄", full)) + p.Draw(Faint, strings.Repeat("·", cells-full))
}
