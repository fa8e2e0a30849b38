// Package capacity is the screen that answers: how much does the server bear? It shows a search while it goes on.
package capacity

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	search "tidepull/internal/capacity"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/run"
	"tidepull/internal/tui/look"
)

// Help explains the screen in words.
const Help = `Capacity answers: how much does the server bear before a limit breaks?

Each window is a run of the trial with another load. It breaks a limit (■, above),
or holds (▲, below), or proves nothing, as this machine was the bottleneck (╳, in
the list alone). The load is doubled until a window breaks; then it goes up and
down by ever smaller steps.

The curve is how likely a window is to break at a load, fitted to all windows that
prove something. The upright in the middle is where half of them break: that is
the capacity. The outer two hold the truth in 95 of 100 searches.

The list has the windows, the last first; below stands who suffered in the one
under the cursor, and what is known so far.`

// A Try is one window.
type Try struct {
	Load    float64
	Verdict run.Verdict
	Why     string
	Example string // of what broke it; "": none
}

// A State is a search as it stands. It is not changed any more.
type State struct {
	Target string
	Of     string // what the load is of, such as "clients"
	Tries  []Try
	Fit    *search.Fit // nil: nothing is known yet
	Says   []string    // what is known, in sentences
	Over   bool

	Load float64       // of the window under way
	Run  *run.Snapshot // likewise; nil: none is
}

// A Model is what the user looks at.
type Model struct{ back int } // windows back from the last

// Update handles the screen's keys.
func (m *Model) Update(msg tea.KeyPressMsg, s *State) {
	switch msg.String() {
	case "up", "k":
		m.Move(-1, s)
	case "down", "j":
		m.Move(1, s)
	case "home":
		m.back = 0
	case "end":
		m.Move(len(s.Tries), s)
	}
}

// Move moves the cursor down the list.
func (m *Model) Move(by int, s *State) { m.back = min(max(0, m.back+by), max(0, len(s.Tries)-1)) }

// Added keeps the cursor on its window when others are added before it; one on the newest stays on the newest.
func (m *Model) Added(n int) {
	if m.back > 0 {
		m.back += n
	}
}

// View draws the screen.
func (m *Model) View(p *look.Palette, s *State, width, height int) []string {
	m.back = min(m.back, max(0, len(s.Tries)-1))
	says := s.says(p, width, max(3, height/4))
	rows := max(4, (height-len(says)-5)/2)
	lines := append([]string{p.Rule("share of windows that break", p.Draw(look.Faint, "by "+plain.Text(s.Of, 40)),
		width)},
		s.curve(p, width, rows)...)
	lines = append(lines, s.now(p, width))
	room := max(2, height-len(lines)-len(says)-2)
	return append(append(lines, m.list(p, s, width, room)...), says...)
}

// now says what is under way.
func (s *State) now(p *look.Palette, width int) string {
	switch {
	case s.Over:
		return look.Clip(p.Draw(look.Strong, "the search is over"), width)
	case s.Run == nil:
		return p.Draw(look.Faint, "the next window begins")
	}
	text := fmt.Sprintf("window %d: %s %s", len(s.Tries)+1, units.ThreeDigits(s.Load), plain.Text(s.Of, 40))
	if l := s.Run.Trial.Length(); l > 0 {
		text += "  " + p.Bar(s.Run.Elapsed.Seconds()/l.Seconds(), 24)
	}
	text += fmt.Sprintf("  %s said", units.Count(s.Run.Total.Counts.Sent))
	if h := s.Run.Total.Fanout(); h.Count() > 0 {
		text += fmt.Sprintf(", fan-out p99 %s", units.Round(h.Quantile(0.99)))
	}
	if n, ok := logbook.FigureNamed("ledger.lost").Of(s.Run.Total); ok && n > 0 {
		text += p.Draw(look.Lost, fmt.Sprintf(", %.0f lost", n))
	}
	return look.Clip(text, width)
}

// list has the windows, the last first.
func (m *Model) list(p *look.Palette, s *State, width, rows int) []string {
	right := ""
	if m.back > 0 {
		right = p.Draw(look.Faint, fmt.Sprintf("%d of %d", len(s.Tries)-m.back, len(s.Tries)))
	}
	lines := []string{p.Rule("windows", right, width)}
	if len(s.Tries) == 0 {
		lines = append(lines, p.Draw(look.Faint, "  none is over yet"))
	}
	first := max(0, m.back-(rows-2))
	for k := first; k < len(s.Tries) && len(lines) < rows; k++ {
		i := len(s.Tries) - 1 - k
		t := &s.Tries[i]
		mark := "  "
		if k == m.back {
			mark = p.Draw(look.Strong, "▸ ")
		}
		signal, word := signalOf(t.Verdict)
		head := mark + look.Right(strconv.Itoa(i+1), 3) + "  " + look.Right(units.ThreeDigits(t.Load), 8) + "  " +
			look.Fit(p.Signal(signal, word), 13) + "  "
		indent := ansi.StringWidth(head)
		why := []string{plain.Text(t.Why, 400)}
		if k == m.back { // of this one it is said in full
			why = strings.Split(ansi.Wrap(why[0], max(20, width-indent), ""), "\n")
			if t.Example != "" {
				for _, l := range strings.Split(ansi.Wrap(plain.Text(t.Example, 400), max(20, width-indent), ""),
					"\n") {
					why = append(why, p.Draw(look.Faint, l))
				}
			}
		}
		for n, text := range why {
			if n > 0 {
				head = strings.Repeat(" ", indent)
			}
			if len(lines) < rows {
				lines = append(lines, look.Clip(head+text, width))
			}
		}
	}
	for len(lines) < rows {
		lines = append(lines, "")
	}
	return lines
}

func signalOf(v run.Verdict) (look.Signal, string) {
	switch v {
	case run.Broken:
		return look.SomethingLost, "broke"
	case run.Holds:
		return look.AllWell, "held"
	}
	return look.Attention, "not proven"
}

// says is what is known so far.
func (s *State) says(p *look.Palette, width, most int) []string {
	label := "known so far"
	if s.Over {
		label = "the result"
	}
	lines := []string{p.Rule(label, "", width)}
	for i, text := range s.Says {
		ink := look.Text
		if i == 0 {
			ink = look.Strong
		}
		for _, l := range strings.Split(ansi.Wrap(plain.Text(text, 600), width, ""), "\n") {
			if len(lines) < most {
				lines = append(lines, p.Draw(ink, l))
			}
		}
	}
	if len(s.Says) == 0 {
		lines = append(lines, p.Draw(look.Faint, "nothing"))
	}
	return lines
}

// A scale maps loads to dots, by their logarithms.
type scale struct {
	low, high float64 // logarithms
	dots      int
}

func (s *State) scale(dots int) scale {
	low, high := math.Inf(1), math.Inf(-1)
	see := func(load float64) {
		if load > 0 {
			low, high = min(low, math.Log(load)), max(high, math.Log(load))
		}
	}
	for i := range s.Tries {
		see(s.Tries[i].Load)
	}
	see(s.Load)
	if math.IsInf(low, 1) {
		low, high = 0, 1
	}
	// A little room at both ends, and some for a single load.
	edge := max(0.08*(high-low), 0.1)
	return scale{low - edge, high + edge, dots}
}

func (a scale) x(load float64) int {
	return int(math.Round((math.Log(load) - a.low) / (a.high - a.low) * float64(a.dots-1)))
}

func (a scale) load(x int) float64 {
	return math.Exp(a.low + (a.high-a.low)*float64(x)/float64(max(1, a.dots-1)))
}

// curve draws how likely a window is to break, with the windows.
func (s *State) curve(p *look.Palette, width, rows int) []string {
	d := look.NewDots(width-look.Gutter, rows-1)
	a := s.scale(2 * d.Width)
	top := 4*d.Height - 1
	// The rows at the edges are the windows'.
	y := func(share float64) int { return top - 4 - int(math.Round(share*float64(max(0, top-8)))) }
	upright := func(load float64, every int, ink look.Ink) {
		for k := 0; load > 0 && k <= top; k += every {
			d.Dot(a.x(load), k, ink)
		}
	}
	if f := s.Fit; f != nil && f.At > 0 {
		upright(f.Low, 3, look.Plan)
		if !math.IsInf(f.High, 1) {
			upright(f.High, 3, look.Plan)
		}
		last := -1
		for x := range a.dots {
			at := y(f.Breaks(a.load(x)))
			if last < 0 {
				last = at
			}
			for k := min(last, at); k <= max(last, at); k++ {
				d.Dot(x, k, look.Water)
			}
			last = at
		}
		upright(f.At, 2, look.Strong)
	}
	if s.Run != nil && !s.Over {
		upright(s.Load, 4, look.Faint)
	}
	// Windows at one place stand above each other.
	taken := map[[2]int]int{}
	for i := range s.Tries {
		t := &s.Tries[i]
		x := min(max(0, a.x(t.Load)/2), d.Width-1)
		row, by, signal := 0, 1, look.SomethingLost
		switch t.Verdict {
		case run.Broken:
		case run.Holds:
			row, by, signal = d.Height-1, -1, look.AllWell
		default:
			continue
		}
		n := taken[[2]int{x, row}]
		taken[[2]int{x, row}]++
		if n < max(1, d.Height/3) {
			d.Char(x, row+by*n, []rune(signal.Shape())[0], signal.Ink())
		}
	}
	return append(d.Scaled(p, "all", "half", "none"), a.ruler(p, d.Width))
}

// ruler labels loads below the drawing: all digits of each decade, as far as there is room, or 1, 2 and 5.
func (a scale) ruler(p *look.Palette, width int) string {
	d := look.NewDots(width, 1)
	digits := []float64{1, 2, 5}
	if a.high-a.low < 1.5*math.Ln10 {
		digits = []float64{1, 1.5, 2, 2.5, 3, 4, 5, 6, 8}
	}
	free := 0
	for e := math.Floor(a.low / math.Ln10); e <= math.Ceil(a.high/math.Ln10); e++ {
		for _, m := range digits {
			load := m * math.Pow(10, e)
			x, name := a.x(load)/2, units.ThreeDigits(load)
			if x < free || x+1+len(name) > width || x < 0 {
				continue
			}
			d.Char(x, 0, '╵', look.Faint)
			d.Text(x+1, 0, name, look.Faint)
			free = x + len(name) + 3
		}
	}
	return look.Right("", look.Gutter) + d.Lines(p)[0]
}
