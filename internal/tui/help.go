package tui

import (
	"strings"

	"charm.land/bubbles/v2/key"
	"github.com/charmbracelet/x/ansi"

	"tidepull/internal/tui/look"
)

// A helpPane is the explanation of a view, on the screen in its place.
type helpPane struct {
	open   bool
	offset int
}

// press handles a key while the pane is open: it scrolls, or closes it.
func (h *helpPane) press(name string) {
	switch name {
	case "up", "k":
		h.offset--
	case "down", "j":
		h.offset++
	case "pgup":
		h.offset -= 10
	case "pgdown", "space":
		h.offset += 10
	case "home":
		h.offset = 0
	default:
		*h = helpPane{}
	}
}

// view draws the pane: the text, wrapped, the shapes with their meaning, and
// every key of the view.
func (h *helpPane) view(p *look.Palette, title, text string, keys []key.Binding, width, height int) []string {
	lines := wrapped(text, width)
	lines = append(lines, "", p.Rule("shapes", "", width))
	for _, s := range []look.Signal{look.AllWell, look.SomethingLost, look.Attention, look.InDanger} {
		lines = append(lines, "  "+look.Fit(p.Draw(s.Ink(), s.Shape()), 4)+s.Meaning())
	}
	lines = append(lines, "  "+look.Fit(p.Draw(look.Faint, "╱"), 4)+"a second that says nothing of the server: the "+
		"tool or the machine was the bottleneck")
	lines = append(lines, "", p.Rule("keys", "", width))
	for _, k := range keys {
		lines = append(lines, "  "+look.Fit(p.Draw(look.Strong, k.Help().Key), 14)+k.Help().Desc)
	}
	room := max(1, height-1)
	h.offset = min(max(0, h.offset), max(0, len(lines)-room))
	right := ""
	if len(lines) > room {
		right = p.Draw(look.Faint, "up and down scroll")
	}
	return append([]string{p.Rule("help: "+title, right, width)}, lines[h.offset:min(len(lines), h.offset+room)]...)
}

// wrapped fits a text to a width. Lines that begin with blanks are a name and
// what it means: what does not fit goes on below the meaning.
func wrapped(text string, width int) (lines []string) {
	paragraph := ""
	flush := func() {
		if paragraph != "" {
			lines = append(lines, strings.Split(ansi.Wordwrap(paragraph, width-1, ""), "\n")...)
			paragraph = ""
		}
	}
	for _, line := range strings.Split(text, "\n") {
		switch {
		case line == "":
			flush()
			lines = append(lines, "")
		case strings.HasPrefix(line, "  "):
			flush()
			name, meaning, _ := strings.Cut(strings.TrimSpace(line), ": ")
			const indent = 24
			for i, part := range strings.Split(ansi.Wordwrap(meaning, max(20, width-indent-1), ""), "\n") {
				if i > 0 {
					name = ""
				}
				lines = append(lines, "  "+look.Fit(name, indent-2)+part)
			}
		default:
			if paragraph != "" {
				paragraph += " "
			}
			paragraph += line
		}
	}
	flush()
	return lines
}

// hintsWithin shows as many keys as a width has room for, those that matter most
// first.
func hintsWithin(p *look.Palette, width int, bindings ...key.Binding) string {
	text := ""
	for _, b := range bindings {
		if !b.Enabled() {
			continue
		}
		next := p.Draw(look.Strong, b.Help().Key) + " " + p.Draw(look.Faint, b.Help().Desc)
		if text != "" {
			next = text + "   " + next
		}
		if ansi.StringWidth(next) > width {
			break
		}
		text = next
	}
	return text
}
