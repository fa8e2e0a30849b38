// Package surveying is the screen that answers: what is wrong with this server, of all that is known to go wrong with
// such servers? It shows a survey while it goes on, and what came of it.
package surveying

import (
	"fmt"
	"math"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/finding"
	"tidepull/internal/run"
	"tidepull/internal/survey"
	"tidepull/internal/tui/found"
	"tidepull/internal/tui/glance"
	"tidepull/internal/tui/look"
	"tidepull/internal/tui/scene"
)

// Help explains the screen in words.
const Help = `A survey answers: what is wrong with this server, of all that is known to go wrong with such servers?

It runs short experiments, one after another, made of the trial's own words. Each row is a weakness,
with its number in the catalogue, grouped by what a developer asks.

  ■  it was found
  ▲  it was looked for and not found; beside it, how rare it must be not to have been seen (95 %)
  ○  something of it was seen that follows from another weakness that was found
  ◇  noted: right for some servers, and wrong for others
  ●  it is being looked for now
  ·  an experiment that is still to come is about it
  –  it was not tried; below stands why, and which line of the trial would allow it

The arrows choose a row; below stands what is known of it. Enter shows the run in which it was found,
with the evidence: enter again goes through the cases, esc comes back.

The experiment under way has its deliveries in each second, and how long they took: the line is the
median, the dots above it the last recipient.`

// A Step is one experiment as the survey goes by.
type Step struct {
	Name, Shows string
	Rows        []int
	Skipped     bool // it is not done
}

// A State is a survey as it stands. It is not changed any more.
type State struct {
	Target string
	Report survey.Report
	Steps  []Step
	At     int // the experiment under way; as many as there are once it is over
	Runs   map[string]*run.Snapshot
	Run    *run.Snapshot // the experiment's, as it goes; nil: none is under way
	Does   string        // what it does to the server
	Waits  bool          // it has not begun: Does is to be read
	Over   bool
	Why    string // why there are no more experiments; "": all are done
}

// A Model is what the user looks at.
type Model struct {
	at     int // which row, by its place on the screen
	offset int // how far the words of the row are scrolled
	deep   bool
	found  found.Model
}

// A line is one of the list: a heading, or a row.
type line struct {
	heading finding.Question
	row     *survey.Row
}

// list has the rows by their question, with headings.
func (s *State) list() (all []line) {
	for _, q := range finding.Questions {
		all = append(all, line{heading: q})
		for i := range s.Report.Rows {
			if r := &s.Report.Rows[i]; r.Weakness.Question == q {
				all = append(all, line{row: r})
			}
		}
	}
	return all
}

// rows are the rows alone, in the same order.
func (s *State) rows() (all []*survey.Row) {
	for _, l := range s.list() {
		if l.row != nil {
			all = append(all, l.row)
		}
	}
	return all
}

// chosen is the row under the cursor; nil if there is none.
func (m *Model) chosen(s *State) *survey.Row {
	rows := s.rows()
	if len(rows) == 0 {
		return nil
	}
	m.at = max(0, min(m.at, len(rows)-1))
	return rows[m.at]
}

// snapshot is the run in which the chosen row was found; nil if there is none.
func (m *Model) snapshot(s *State) *run.Snapshot {
	if r := m.chosen(s); r != nil && r.Finding != nil {
		return s.Runs[r.Shown]
	}
	return nil
}

// IsDown reports whether esc goes back to the list.
func (m *Model) IsDown() bool { return m.deep }

// Update handles a key; it reports whether it was one of the screen's.
func (m *Model) Update(msg tea.KeyPressMsg, s *State, p *look.Palette, width, height int) bool {
	if m.deep {
		next, _, done := m.found.Update(msg, m.scene(s, p, width, height))
		m.found = next
		if !done && msg.String() == "esc" {
			m.deep = false
			return true
		}
		return done
	}
	switch msg.String() {
	case "down", "j":
		m.Move(1, s)
	case "up", "k":
		m.Move(-1, s)
	case "right", "l":
		m.sideways(1, s, width)
	case "left", "h":
		m.sideways(-1, s, width)
	case "pgdown":
		m.offset += pageBy
	case "pgup":
		m.offset = max(0, m.offset-pageBy)
	case "home":
		m.at, m.offset = 0, 0
	case "end":
		m.Move(len(s.Report.Rows), s)
	case "n":
		m.next(s)
	case "enter":
		if snap := m.snapshot(s); snap != nil {
			m.deep, m.found = true, found.At(snap.Findings, m.chosen(s).Weakness.Number)
		}
	default:
		return false
	}
	return true
}

const pageBy = 5

// next goes to the next row that was found.
func (m *Model) next(s *State) {
	rows := s.rows()
	for k := 1; k <= len(rows); k++ {
		if i := (m.at + k) % len(rows); rows[i].State == survey.Found {
			m.at, m.offset = i, 0
			return
		}
	}
}

// Move moves the cursor down the rows.
func (m *Model) Move(by int, s *State) {
	if m.deep {
		return
	}
	m.at, m.offset = max(0, min(m.at+by, len(s.Report.Rows)-1)), 0
}

// Click chooses the row at a place of the screen, its own first line being 0.
func (m *Model) Click(x, y int, s *State, p *look.Palette, width, height int) {
	if m.deep {
		m.found = m.found.Click(y, m.scene(s, p, width, height))
		return
	}
	columns, each := m.columns(s, width, height)
	if y--; y < 0 { // the rule above
		return
	}
	if c := x / each; c < len(columns) && y < len(columns[c]) {
		if r := columns[c][y].row; r != nil {
			m.at, m.offset = slices.Index(s.rows(), r), 0
		}
	}
}

// scene is what the run in which a row was found is drawn with.
func (m *Model) scene(s *State, p *look.Palette, width, height int) scene.Scene {
	snap := m.snapshot(s)
	if snap == nil {
		snap = &run.Snapshot{}
	}
	return scene.Scene{Palette: p, Run: snap, Window: snap.Total, Entries: snap.Entries, Width: width, Height: height}
}

// View draws the screen.
func (m *Model) View(p *look.Palette, s *State, width, height int) []string {
	if m.deep && m.snapshot(s) != nil {
		r := m.chosen(s)
		head := p.Rule(fmt.Sprintf("no. %d %s, in the experiment '%s'", r.Weakness.Number, r.Weakness.Title, r.Shown),
			p.Draw(look.Faint, "esc goes back"), width)
		return append([]string{head}, m.found.View(m.scene(s, p, width, height-1))...)
	}
	m.deep = false
	columns, each := m.columns(s, width, height)
	lines := []string{p.Rule(tally(s), p.Draw(look.Faint, left(s)), width)}
	chosen := m.chosen(s)
	tall := 0
	for _, c := range columns {
		tall = max(tall, len(c))
	}
	for y := range tall {
		text := ""
		for x, c := range columns {
			cell := ""
			if y < len(c) {
				cell = s.cell(p, c[y], c[y].row != nil && c[y].row == chosen, each-2)
			}
			if x < len(columns)-1 {
				cell = look.Fit(cell, each)
			}
			text += cell
		}
		lines = append(lines, look.Clip(text, width))
	}
	rest := height - len(lines)
	picture := 0
	if rest >= leastWords+leastPicture {
		picture = min(mostPicture, rest-leastWords)
	}
	if s.Waits {
		lines = append(lines, p.Rule("it begins in a moment", p.Draw(look.Faint, "ctrl+c ends it"), width))
		lines = append(lines, found.Labelled(p, "does", s.Does, width)...)
	} else if picture > 0 {
		lines = append(lines, s.now(p, width, picture)...)
	}
	return append(lines, m.words(p, s, width, height-len(lines))...)
}

// Lines that the parts of the screen take.
const (
	leastWords   = 5
	leastPicture = 5
	mostPicture  = 11
	leastList    = 4
)

// columnsIn is how many columns the list has.
func columnsIn(width int) int { return max(1, min(3, width/50)) }

// laidOut is the list in columns: groups stay whole, and the columns are as even as that allows.
func (s *State) laidOut(n int) [][]line {
	var groups [][]line
	for _, l := range s.list() {
		if l.row == nil {
			groups = append(groups, nil)
		}
		groups[len(groups)-1] = append(groups[len(groups)-1], l)
	}
	best, least := [][]line(nil), math.MaxInt
	var deal func(columns [][]line, rest [][]line)
	deal = func(columns [][]line, rest [][]line) {
		if len(rest) == 0 {
			tall := 0
			for _, c := range columns {
				tall = max(tall, len(c))
			}
			if tall < least {
				best, least = slices.Clone(columns), tall
			}
			return
		}
		if len(columns) < n {
			deal(append(slices.Clip(columns), rest[0]), rest[1:])
		}
		if len(columns) > 0 {
			next := slices.Clone(columns)
			next[len(next)-1] = slices.Concat(next[len(next)-1], rest[0])
			deal(next, rest[1:])
		}
	}
	deal(nil, groups)
	return best
}

// columns lays the list out; of one that does not fit, what is around the cursor.
func (m *Model) columns(s *State, width, height int) (columns [][]line, each int) {
	columns = s.laidOut(columnsIn(width))
	each = width / max(1, len(columns))
	most := max(leastList, height-1-leastWords)
	chosen := m.chosen(s)
	for i, c := range columns {
		if len(c) <= most {
			continue
		}
		at := max(0, slices.IndexFunc(c, func(l line) bool { return l.row != nil && l.row == chosen }))
		from := max(0, min(at-most/2, len(c)-most))
		columns[i] = c[from : from+most]
	}
	return columns, each
}

// sideways goes to the row beside the chosen one.
func (m *Model) sideways(by int, s *State, width int) {
	columns, chosen := s.laidOut(columnsIn(width)), m.chosen(s)
	for x, c := range columns {
		y := slices.IndexFunc(c, func(l line) bool { return l.row != nil && l.row == chosen })
		if y < 0 || x+by < 0 || x+by >= len(columns) {
			continue
		}
		to := columns[x+by]
		y = min(y, len(to)-1)
		if to[y].row == nil {
			y++
		}
		m.at, m.offset = slices.Index(s.rows(), to[y].row), 0
		return
	}
}

// tally counts the states. What was not tried, or not yet, is not told.
func tally(s *State) string {
	n := s.Report.Count()
	parts := []string{fmt.Sprintf("%d found", n[survey.Found])}
	if from := n[survey.FollowsFrom]; from == 1 {
		parts = append(parts, "1 follows from those")
	} else if from > 1 {
		parts = append(parts, fmt.Sprintf("%d follow from those", from))
	}
	parts = append(parts, fmt.Sprintf("%d not found", n[survey.NotFound]))
	if noted := n[survey.Noted]; noted > 0 {
		parts = append(parts, fmt.Sprintf("%d noted", noted))
	}
	return fmt.Sprintf("of %d weaknesses %s", len(s.Report.Rows), strings.Join(parts, ", "))
}

// left says how far the survey is.
func left(s *State) string {
	switch {
	case s.Over && s.Why != "":
		return plain.Text(s.Why, 100)
	case s.Over:
		return "the survey is over"
	}
	return fmt.Sprintf("experiment %d of %d", min(s.At+1, len(s.Steps)), len(s.Steps))
}

// isTried reports whether the experiment under way is about a row, and whether one to come is.
func (s *State) isTried(number int) (now, later bool) {
	for i, step := range s.Steps {
		if s.Over || step.Skipped || !slices.Contains(step.Rows, number) {
			continue
		}
		now, later = now || i == s.At, later || i > s.At
	}
	return now, later
}

// cell is one line of the list.
func (s *State) cell(p *look.Palette, l line, chosen bool, width int) string {
	if l.row == nil {
		text := string(l.heading)
		return p.Draw(look.Strong, strings.ToUpper(text[:1])+text[1:])
	}
	r := l.row
	shape, ink := s.mark(r)
	pointer, name := "  ", look.Text
	if chosen {
		pointer, name = p.Draw(look.Strong, "▸ "), look.Strong
	}
	if r.State == survey.NotTried && shape != "●" {
		name = look.Faint
		if chosen {
			name = look.Strong
		}
	}
	text := pointer + p.Draw(ink, shape) + " " + p.Draw(look.Faint, look.Right(fmt.Sprint(r.Weakness.Number), 2)) +
		" " +
		p.Draw(name, r.Weakness.Title)
	tail := tailOf(r)
	if room := width - ansi.StringWidth(text) - 2; tail != "" && room >= ansi.StringWidth(tail) {
		text += strings.Repeat(" ", width-ansi.StringWidth(text)-ansi.StringWidth(tail)) + p.Draw(look.Faint, tail)
	}
	return look.Clip(text, width)
}

// tailOf is what stands behind a row, in a few characters.
func tailOf(r *survey.Row) string {
	switch r.State {
	case survey.Found:
		if f := r.Finding; f != nil && f.Share != nil {
			return fmt.Sprintf("%s of %s", units.Count(f.Share.N), units.Count(f.Share.Of))
		}
	case survey.NotFound:
		if rare, is := strings.CutPrefix(r.Says, "fewer than 1 in "); is {
			n, _, _ := strings.Cut(rare, " ")
			return "< 1 in " + n
		}
		if times, is := strings.CutPrefix(r.Says, survey.RefusedEachTime); is {
			n, _, _ := strings.Cut(times, ";")
			return n + " refused"
		}
	case survey.FollowsFrom:
		if r.From > 0 {
			return fmt.Sprintf("from %d", r.From)
		}
	}
	return ""
}

// mark is the shape of a row's state.
func (s *State) mark(r *survey.Row) (string, look.Ink) {
	now, later := s.isTried(r.Weakness.Number)
	switch {
	case r.State == survey.Found:
		return look.SomethingLost.Shape(), look.SomethingLost.Ink()
	case now:
		return "●", look.Water
	case r.State == survey.NotFound:
		return look.AllWell.Shape(), look.AllWell.Ink()
	case r.State == survey.FollowsFrom:
		return "○", look.Beware
	case r.State == survey.Noted:
		return "◇", look.Text
	case later:
		return "·", look.Faint
	}
	return "–", look.Faint
}

// words are what is known of the row under the cursor.
func (m *Model) words(p *look.Palette, s *State, width, height int) []string {
	r := m.chosen(s)
	if r == nil || height < 2 {
		return nil
	}
	right := ""
	if m.snapshot(s) != nil {
		right = p.Draw(look.Faint, "enter shows the run")
	}
	shape, ink := s.mark(r)
	title := p.Draw(ink, shape) + " " + fmt.Sprintf("%d %s", r.Weakness.Number, r.Weakness.Title)
	state := string(r.State)
	if now, later := s.isTried(r.Weakness.Number); now {
		state = "is being looked for"
	} else if later && r.State == survey.NotTried {
		state = "still to come"
	}
	lines := []string{p.Rule(title+p.Draw(look.Faint, "  "+state), right, width)}
	var text []string
	if r.Finding != nil {
		text = found.Words(p, r.Finding, width)
	} else {
		says := r.Says
		if state == "is being looked for" || state == "still to come" {
			says = ""
		}
		for _, part := range [][2]string{{"", says}, {"shown by", r.Shown}, {"usually", r.Weakness.Usually},
			{"experiment", r.Weakness.Experiment}} {
			if part[1] != "" {
				text = append(text, found.Labelled(p, part[0], part[1], width)...)
			}
		}
	}
	room := height - 1
	m.offset = max(0, min(m.offset, len(text)-room))
	text = text[m.offset:]
	if len(text) > room {
		text = append(text[:room-1], p.Draw(look.Faint, "  pgdn: more"))
	}
	return append(lines, text...)
}

// now is the experiment under way, with its deliveries and latencies by the second.
func (s *State) now(p *look.Palette, width, height int) []string {
	if s.Over || s.At >= len(s.Steps) {
		return nil
	}
	step := &s.Steps[s.At]
	right := ""
	if s.Run != nil && s.Run.Trial != nil {
		if l := s.Run.Trial.Length(); l > 0 {
			right = p.Bar(min(1, s.Run.Elapsed.Seconds()/l.Seconds()), 24)
		}
	}
	label := "now: " + step.Name
	if width >= 130 {
		label += p.Draw(look.Faint, "  what came in each second, and how long its median and its last recipient took")
	}
	lines := []string{p.Rule(label, right, width), look.Clip("  "+p.Draw(look.Faint, step.Shows), width)}
	if s.Run == nil || s.Run.Total == nil {
		return lines
	}
	return append(lines, glance.Seconds(p, s.Run, min(width, 150), height-len(lines)-1)...)
}
