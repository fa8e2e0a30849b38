// Package found is the view that answers: what is wrong with the server?
package found

import (
	"fmt"
	"math"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/finding"
	"tidepull/internal/measure/lane"
	"tidepull/internal/tui/glance"
	"tidepull/internal/tui/lanes"
	"tidepull/internal/tui/look"
	"tidepull/internal/tui/scene"
)

// Help explains the view in words.
const Help = `Findings answers: what is wrong with the server?

A finding is a weakness that is known of such servers, recognised in what was measured. Several
symptoms of one cause are one finding. The list has the worst first; below it stands the one that
is chosen, with its words, and with what happened around one case.

  loss: messages do not arrive, or reach somebody they are not for
  wrong: something is not as it was said, or as the server promised
  slow: it works, and takes too long

  how often: the share that was seen. The stroke shows where the true share lies with 95 % certainty,
  between a hundred-thousandth and all; the dot is what was seen
  seen: the first cases, each of another message or client. Enter goes to them: the arrows choose
  one, and enter shows it in the lanes
  ruled out: what else could have been the reason, and was looked at
  usually: what makes servers do this, and where to look
  to confirm: an experiment that would show it again, alone

Nothing is found unless chance would hardly do it, and nothing of what the tool or the trial may have caused.`

// A Model is the view's state.
type Model struct {
	at     int  // which finding
	inside bool // the cases are gone through
	which  int  // which case
	offset int  // how far the words are scrolled
	drawn  lanes.Model
	of     drawnOf
}

// drawnOf is what the lanes below are of.
type drawnOf struct {
	at, which int
	records   int
	width     int
}

// A Place is where a case can be looked at.
type Place struct {
	Message uint64 // lane.NoMessage: it is about what happened to a client
	Client  int32
}

// IsDown reports whether esc goes back to the list.
func (m Model) IsDown() bool { return m.inside }

// Update handles a key; done reports whether it was one of the view's, and to is where to go; nil: nowhere.
func (m Model) Update(msg tea.KeyPressMsg, sc scene.Scene) (next Model, to *Place, done bool) {
	all := sc.Run.Findings
	if len(all) == 0 {
		return m, nil, false
	}
	m.at = min(m.at, len(all)-1)
	cases := len(all[m.at].Evidence)
	switch msg.String() {
	case "down", "j":
		m.step(1, len(all), cases)
	case "up", "k":
		m.step(-1, len(all), cases)
	case "pgdown":
		m.offset += pageBy
	case "pgup":
		m.offset = max(0, m.offset-pageBy)
	case "enter":
		switch {
		case cases == 0:
		case m.inside:
			return m, placeOf(&all[m.at].Evidence[m.which]), true
		default:
			m.inside, m.which = true, 0
		}
	case "esc":
		if !m.inside {
			return m, nil, false
		}
		m.inside = false
	default:
		return m, nil, false
	}
	return m, nil, true
}

const pageBy = 8

func (m *Model) step(by, findings, cases int) {
	if m.inside {
		m.which = max(0, min(cases-1, m.which+by))
		return
	}
	m.at, m.which, m.offset = max(0, min(findings-1, m.at+by)), 0, 0
}

// Click chooses the finding on a line of the view.
func (m Model) Click(y int, sc scene.Scene) Model {
	if i := y - 1 + m.first(sc); y >= 1 && y <= listed(sc) && i < len(sc.Run.Findings) {
		m.at, m.which, m.offset, m.inside = i, 0, 0, false
	}
	return m
}

func placeOf(e *finding.Evidence) *Place {
	p := &Place{lane.NoMessage, e.Client}
	if e.Message != nil {
		p.Message = *e.Message
	}
	return p
}

// listed is how many findings are shown in the list.
func listed(sc scene.Scene) int { return min(len(sc.Run.Findings), max(2, sc.Height/5)) }

// first is the first that is.
func (m *Model) first(sc scene.Scene) int { return max(0, m.at-listed(sc)+1) }

// View draws the view.
func (m *Model) View(sc scene.Scene) []string {
	p, all := sc.Palette, sc.Run.Findings
	if len(all) == 0 {
		return nothing(sc)
	}
	m.at = min(m.at, len(all)-1)
	f := &all[m.at]
	m.which = max(0, min(m.which, len(f.Evidence)-1))
	right := units.Plural(len(all), "finding")
	if !sc.Run.Finished {
		right += " so far"
	}
	lines := []string{p.Rule("what is wrong with the server", p.Draw(look.Faint, right), sc.Width)}
	from := m.first(sc)
	for i := from; i < min(len(all), from+listed(sc)); i++ {
		lines = append(lines, row(sc, &all[i], i == m.at && !m.inside))
	}
	words := m.words(sc, f)
	room := sc.Height - len(lines) - 1
	below := 0
	if spare := room - len(words) - 1; (len(f.Evidence) > 0 || isSlow(f)) && spare >= leastLanes {
		below = spare
	}
	m.offset = max(0, min(m.offset, len(words)-room))
	title := p.Signal(signalOf(f), f.Title)
	if f.Weakness > 0 {
		title += p.Draw(look.Faint, fmt.Sprintf("  no. %d", f.Weakness))
	}
	lines = append(lines, p.Rule(title, p.Draw(look.Faint, string(f.Severity)), sc.Width))
	lines = append(lines, words[m.offset:min(len(words), m.offset+room)]...)
	if below > 0 {
		lines = append(lines, "")
		lines = append(lines, m.drawing(sc, f, below)...)
	}
	return lines
}

// leastLanes is how many lines the lanes of a case need to show anything.
const leastLanes = 9

// isSlow reports whether a finding is about how soon messages come: then the run as a whole shows it, and not one case.
func isSlow(f *finding.Finding) bool {
	return f.Weakness > 0 && finding.Catalogue[f.Weakness-1].Question == finding.HowSoon
}

// growsWith is the number of the weakness that is about the size of rooms.
const growsWith = 26

// drawing is what shows a finding: a chart of the run, or the case that is chosen.
func (m *Model) drawing(sc scene.Scene, f *finding.Finding, height int) []string {
	p := sc.Palette
	switch {
	case f.Weakness == growsWith && sc.Run.Total != nil:
		return append([]string{p.Rule("half of the deliveries took this long, and 99 in 100", "", sc.Width)},
			glance.Sizes(p, sc.Run, min(sc.Width, 150), height-1)...)
	case isSlow(f):
		return append([]string{p.Rule("what came in each second, and how long its median and its last recipient took",
			"",
			sc.Width)}, glance.Seconds(p, sc.Run, min(sc.Width, 150), min(height-1, highest))...)
	}
	return m.lanes(sc, f, height)
}

// highest is how many lines a chart takes at most.
const highest = 14

// lanes draws the case that is chosen.
func (m *Model) lanes(sc scene.Scene, f *finding.Finding, height int) []string {
	sc.Height = height
	of := drawnOf{m.at, m.which, len(sc.Run.Lanes), sc.Width}
	if m.of != of {
		to := placeOf(&f.Evidence[m.which])
		m.drawn, m.of = lanes.Model{}.FocusOn(sc, to.Message, to.Client), of
	}
	return m.drawn.View(sc, scene.Span{})
}

// nothing says that nothing was found.
func nothing(sc scene.Scene) []string {
	p := sc.Palette
	text := "Nothing was found."
	if !sc.Run.Finished {
		text = "Nothing is found so far."
	}
	says := text + " Each message that is owed was followed to each of its recipients, and what is measured here is " +
		"compared with the weaknesses that are known of such servers. What a trial does not do cannot be found by it."
	lines := []string{p.Rule("what is wrong with the server", "", sc.Width)}
	for _, l := range wrapped(says, min(sc.Width, 100)-2) {
		lines = append(lines, "  "+l)
	}
	return lines
}

func signalOf(f *finding.Finding) look.Signal {
	if f.Severity == finding.Loss {
		return look.SomethingLost
	}
	return look.Attention
}

// row is one line of the list.
func row(sc scene.Scene, f *finding.Finding, chosen bool) string {
	p := sc.Palette
	mark := "  "
	ink := look.Text
	if chosen {
		mark, ink = p.Draw(look.Strong, "▸ "), look.Strong
	}
	signal := signalOf(f)
	return look.Fit(mark+p.Draw(signal.Ink(), signal.Shape())+" "+p.Draw(ink, f.Title)+"  "+
		p.Draw(look.Faint, plain.Text(f.Says, 400)), sc.Width)
}

// At is the view with the first finding of a weakness chosen.
func At(all []finding.Finding, weakness int) (m Model) {
	for i := range all {
		if all[i].Weakness == weakness {
			m.at = i
			break
		}
	}
	return m
}

// Words says all there is to say of a finding.
func Words(p *look.Palette, f *finding.Finding, width int) []string { return wordsOf(p, f, width, -1) }

// words is Words, with the case that is chosen.
func (m *Model) words(sc scene.Scene, f *finding.Finding) []string {
	which := -1
	if m.inside {
		which = m.which
	}
	return wordsOf(sc.Palette, f, sc.Width, which)
}

// label is how wide the names before the words are.
const label = 13

// Labelled is a text with a name before it, wrapped.
func Labelled(p *look.Palette, name, text string, width int) []string {
	return labelled(p, name, text, look.Text, min(width, 140)-label-1)
}

func labelled(p *look.Palette, name, text string, ink look.Ink, width int) (lines []string) {
	for i, l := range wrapped(text, width) {
		head := strings.Repeat(" ", label)
		if i == 0 {
			head = look.Fit("  "+p.Draw(look.Faint, name), label)
		}
		lines = append(lines, head+p.Draw(ink, l))
	}
	return lines
}

func wordsOf(p *look.Palette, f *finding.Finding, screen, which int) (lines []string) {
	width := min(screen, 140) - label - 1
	add := func(name, text string, ink look.Ink) {
		lines = append(lines, labelled(p, name, text, ink, width)...)
	}
	add("", f.Says, look.Strong)
	if f.Share != nil {
		add("how often", f.Share.Words(), look.Text)
		if width >= 60 {
			lines = append(lines, strings.Repeat(" ", label)+stroke(p, f.Share, min(70, width)))
		}
	}
	for i := range f.Evidence {
		name, ink := "", look.Text
		if i == 0 {
			name = "seen"
		}
		text := f.Evidence[i].Says
		if i == which {
			text, ink = "▸ "+text, look.Strong
		}
		add(name, text, ink)
	}
	for i, what := range f.RuledOut {
		name := ""
		if i == 0 {
			name = "ruled out"
		}
		add(name, what, look.Text)
	}
	add("usually", f.Usually, look.Text)
	add("to confirm", f.Experiment, look.Text)
	return lines
}

func wrapped(text string, width int) []string {
	return strings.Split(ansi.Wordwrap(plain.Text(text, 1200), max(20, width), " "), "\n")
}

// rarest is the left end of the scale of shares.
const rarest = 1e-5

// stroke draws a share, and between what it lies, on a scale from a hundred-thousandth to all.
func stroke(p *look.Palette, s *finding.Share, width int) string {
	left, right := "0.001 % ", " 100 %"
	cells := width - len(left) - len(right)
	at := func(share float64) int {
		x := math.Log(max(rarest, share)/rarest) / math.Log(1/rarest)
		return max(0, min(cells-1, int(math.Round(x*float64(cells-1)))))
	}
	low, high, seen := at(s.Low), at(s.High), at(float64(s.N)/float64(s.Of))
	var b strings.Builder
	for i := range cells {
		switch {
		case i == seen:
			b.WriteString(p.Draw(look.Strong, "●"))
		case i >= low && i <= high:
			b.WriteString(p.Draw(look.Water, "━"))
		default:
			b.WriteString(p.Draw(look.Faint, "·"))
		}
	}
	return p.Draw(look.Faint, left) + b.String() + p.Draw(look.Faint, right)
}

// Lines are the first findings, each in a line; none if there are none.
func Lines(p *look.Palette, all []finding.Finding, width, most int) (lines []string) {
	for i := range all {
		if i == most {
			return append(lines, p.Draw(look.Faint, fmt.Sprintf("and %d more", len(all)-most)))
		}
		f := &all[i]
		lines = append(lines, look.Fit(p.Signal(signalOf(f), f.Title)+"  "+plain.Text(f.Says, 400), width))
	}
	return lines
}

// Line is a finding in one line, for other views: its sign, its name and what it says; and how many more there are.
func Line(p *look.Palette, all []finding.Finding, width int) string {
	f := &all[0]
	width-- // the screen's last column stays empty
	tail := "  8 shows it"
	if n := len(all) - 1; n > 0 {
		tail = fmt.Sprintf("  and %d more: 8 shows them", n)
	}
	text := p.Signal(signalOf(f), f.Title) + "  " + plain.Text(f.Says, 400)
	return look.Fit(look.Fit(text, max(0, width-len(tail)))+p.Draw(look.Faint, tail), width)
}
