package tui

import (
	"fmt"
	"math"
	"slices"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/run"
	"tidepull/internal/trial"
	"tidepull/internal/tui/look"
)

// A faultPane is the list of what can be broken by hand, on the screen in the view's place.
type faultPane struct {
	open bool
	at   int
}

const faultHelp = "what can be broken by hand, now: pick it, and enter begins it; enter again ends what goes on"

// press handles a key while the pane is open; throw is the fault to be thrown, -1: none; whom and
// more say how the one at the cursor is to be changed. Nothing but enter breaks anything.
func (f *faultPane) press(name string, all []run.LiveFault) (throw, whom, more int) {
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
	case "enter":
		return f.at, 0, 0
	case "esc", "f", "q":
		*f = faultPane{}
	default:
		if i := slices.IndexFunc(all, func(l run.LiveFault) bool { return l.Key == name && name != "" }); i >= 0 {
			f.at = i
		}
	}
	f.at = min(max(0, f.at), max(0, len(all)-1))
	return -1, 0, 0
}

// view draws the list, scrolled so that the line at hand stays in its middle, and below it what enter does.
func (f *faultPane) view(p *look.Palette, all []run.LiveFault, open, width, height int) []string {
	lines := []string{p.Rule("break something", "", width), p.Draw(look.Faint, look.Fit("  "+faultHelp, width))}
	room := max(1, height-len(lines)-2)
	from := max(0, min(f.at-room/2, len(all)-room))
	for i := from; i < len(all) && i < from+room; i++ {
		l := &all[i]
		mark := "  "
		if i == f.at {
			mark = "> "
		}
		state := ""
		if l.Since != 0 {
			state = "goes on since " + units.Clock(l.Since)
			if l.Ends {
				state += ", enter ends it"
			}
			state += "  "
		}
		text := p.Draw(look.Strong, mark+look.Fit(l.Key, 1)+"  ") + look.Fit(plain.Text(l.Fault.Name, 60), 26) + " " +
			p.Draw(look.Beware, state) + p.Draw(look.Faint, plain.Text(l.Fault.Words(), 200))
		lines = append(lines, look.Fit(text, width))
	}
	if f.at < len(all) {
		lines = append(lines, "", p.Draw(look.Beware, look.Fit("  enter: "+hits(&all[f.at], open), width)))
	}
	return lines
}

// hits says what a fault will hit, and for how long, with so many connections open.
func hits(l *run.LiveFault, open int) string {
	f := l.Fault
	if l.Since != 0 && l.Ends {
		return "ends " + plain.Text(f.Name, 60)
	}
	text := "hits "
	switch w := f.Whom; {
	case f.Do.AtServer():
		text += fmt.Sprintf("the server, and with it all %s that are connected", units.Plural(open, "client"))
	case w.Crew >= 0 || w.Node >= 0 || w.Room != "":
		text += "those clients alone that it names: " + plain.Text(f.Words(), 200)
	default:
		text += fmt.Sprintf("%.0f of the %s that are connected", math.Ceil(w.Share*float64(open)),
			units.Plural(open, "client"))
	}
	switch {
	case f.Lasts > 0:
		text += ", for " + units.Duration(f.Lasts)
	case f.Do.AtOnce():
		text += ", once"
	case f.Do == trial.StopServer:
		text += ", for good"
	case l.Ends:
		text += ", until enter ends it"
	}
	return text
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
