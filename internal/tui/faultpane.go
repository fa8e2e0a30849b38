package tui

import (
	"fmt"
	"strings"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/run"
	"tidepull/internal/tui/look"
)

// A faultPane is the list of what can be broken by hand, on the screen in the view's place.
type faultPane struct {
	open bool
	at   int
}

// faultKeys are the keys of the faults, in their order; j and k move, and q closes.
const faultKeys = "abcdefghilmnoprstuvwxyz"

const faultHelp = "what can be broken by hand, now; the same key ends what goes on"

// press handles a key while the pane is open; throw is the fault to be thrown, -1: none; whom and
// more say how the one at the cursor is to be changed.
func (f *faultPane) press(name string, n int) (throw, whom, more int) {
	switch name {
	case "left":
		return -1, -1, 0
	case "right":
		return -1, 1, 0
	case "-":
		return -1, 0, -1
	case "+", "=":
		return -1, 0, 1
	case "up", "k":
		f.at--
	case "down", "j":
		f.at++
	case "enter", "space":
		return f.at, 0, 0
	default:
		if i := strings.Index(faultKeys, name); len(name) == 1 && i >= 0 && i < n {
			f.at = i
			return i, 0, 0
		}
		*f = faultPane{}
	}
	f.at = min(max(0, f.at), max(0, n-1))
	return -1, 0, 0
}

// view draws the list, scrolled so that the line at hand stays in its middle.
func (f *faultPane) view(p *look.Palette, all []run.LiveFault, width, height int) []string {
	lines := []string{p.Rule("break something", "", width), p.Draw(look.Faint, look.Fit("  "+faultHelp, width))}
	room := max(1, height-len(lines))
	from := max(0, min(f.at-room/2, len(all)-room))
	for i := from; i < len(all) && i < from+room; i++ {
		l := &all[i]
		mark, key := "  ", " "
		if i < len(faultKeys) {
			key = faultKeys[i : i+1]
		}
		if i == f.at {
			mark = "> "
		}
		state := ""
		if l.Since != 0 {
			state = "goes on since " + units.Clock(l.Since)
			if l.Ends {
				state += ", again ends it"
			}
			state += "  "
		}
		text := p.Draw(look.Strong, mark+key+"  ") + look.Fit(plain.Text(l.Fault.Name, 60), 26) + " " +
			p.Draw(look.Beware, state) + p.Draw(look.Faint, plain.Text(l.Fault.Words(), 200))
		lines = append(lines, look.Fit(text, width))
	}
	return lines
}

// throw makes a fault happen by hand, or ends it.
func (v *runView) throw(i int) {
	all := v.source.Faults()
	if i < 0 || i >= len(all) {
		return
	}
	if err := v.source.Throw(i); err != nil {
		v.notice = "nothing was broken: " + err.Error()
		return
	}
	v.notice = fmt.Sprintf("thrown: %s", plain.Text(all[i].Fault.Name, 60))
	if all[i].Since != 0 {
		v.notice = fmt.Sprintf("ended: %s", plain.Text(all[i].Fault.Name, 60))
	}
}
