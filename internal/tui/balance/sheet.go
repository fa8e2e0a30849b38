package balance

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/run"
	"tidepull/internal/tui/look"
	"tidepull/internal/tui/scene"
	"tidepull/internal/tui/watch"
)

// name is what a line of the sheet is about, in the order at hand.
func (m Model) name(sc scene.Scene, key int) string {
	switch {
	case m.by == 0 && key == private:
		return "(private)"
	case m.by == 0 && key < len(sc.Run.Rooms):
		return plain.Text(sc.Run.Rooms[key], 24)
	case m.by == 1 && key < len(sc.Run.Trial.Crews):
		return plain.Text(sc.Run.Trial.Crews[key].Name, 24)
	case m.by == 2:
		return ledger.Kind(key).String()
	}
	return fmt.Sprint(key)
}

// private is the key of private messages in the order of rooms: they are for nobody's room.
const private = 1 << 30

// key is what the ledger's cells are summed up by, in the order at hand.
func (m Model) key(c ledger.Cell) int {
	switch {
	case m.by == 1:
		return int(c.Crew)
	case m.by == 2:
		return int(c.Kind)
	case c.Kind == ledger.Whisper:
		return private
	}
	return int(c.Room)
}

// A field is a column of the sheet.
type field struct {
	name  string
	of    func(*ledger.Tally) int64
	wrong look.Ink
}

// fields are the columns, the more important ones first: narrow screens show less.
var fields = func() []field {
	fate := func(f ledger.Fate) field {
		return field{f.Title(), func(t *ledger.Tally) int64 { return *t.Of(f) }, scene.InkOf(f)}
	}
	return []field{
		{"sent", func(t *ledger.Tally) int64 { return t.Said }, look.Text},
		{"owed", func(t *ledger.Tally) int64 { return t.Owed }, look.Text}, fate(ledger.Delivered), fate(ledger.Late),
		fate(ledger.Lost), fate(ledger.Excused), {"open", (*ledger.Tally).Open, look.Text}, fate(ledger.Duplicate),
		fate(ledger.Stray), {"defects", (*ledger.Tally).Defects, look.Beware}, fate(ledger.Allowed), fate(ledger.Past),
		fate(ledger.CaughtUp),
	}
}()

const (
	nameWidth  = 16
	fieldWidth = 11
)

// always are the fields that are shown in any case, from the front; narrow screens show of the others what is not 0.
const always = 3

// shown are the fields that there is room for, those that count something first, and how many are left out. Each page
// has others beside those that are always there.
func shown(sc scene.Scene, page int) (those []field, more int) {
	room := max(always, (sc.Width-nameWidth-2-moreWidth)/fieldWidth)
	if room >= len(fields) {
		return fields, 0
	}
	rest := slices.Clone(fields[always:])
	slices.SortStableFunc(rest, func(a, b field) int {
		return cmp.Compare(min(1, b.of(&sc.Window.Total)), min(1, a.of(&sc.Window.Total)))
	})
	each := max(1, room-always)
	from := page % ((len(rest) + each - 1) / each) * each
	those = rest[from:min(len(rest), from+each)]
	if from == 0 { // in their usual order
		slices.SortFunc(those, func(a, b field) int { return cmp.Compare(placeOf(a.name), placeOf(b.name)) })
	}
	most := always
	if room == always { // there is room for these alone
		most = always - 1
	}
	return slices.Concat(fields[:most], those), len(fields) - most - len(those)
}

func placeOf(name string) int {
	return slices.IndexFunc(fields, func(f field) bool { return f.name == name })
}

// moreWidth is room for how many columns are left out.
const moreWidth = 8

// heading names the columns.
func (m Model) heading(sc scene.Scene) string {
	those, more := shown(sc, m.page)
	s := look.Fit("", nameWidth+2)
	for _, f := range those {
		s += look.Right(f.name, fieldWidth)
	}
	if more > 0 {
		s += fmt.Sprintf("  +%d tab", more)
	}
	return s
}

// lines are the rows of the sheet: those with something wrong first.
func (m Model) lines(sc scene.Scene) []row {
	var rows []row
	all := sc.Window.By(m.key)
	for _, wrong := range []bool{true, false} {
		for i := range all {
			if l := &all[i]; isWrong(&l.Tally) == wrong {
				rows = append(rows, row{fmt.Sprint(l.Key), m.tallyLine(sc, m.name(sc, l.Key), &l.Tally),
					&place{what: line, key: l.Key}})
			}
		}
	}
	return rows
}

func isWrong(t *ledger.Tally) bool {
	return t.Lost+t.Late+t.Duplicate+t.Stray+t.Overdue+t.Defects() > 0
}

// tallyLine is one line of the sheet: only what is wrong has an ink of its own.
func (m Model) tallyLine(sc scene.Scene, name string, t *ledger.Tally) string {
	s := look.Fit(name, nameWidth)
	those, _ := shown(sc, m.page)
	for _, f := range those {
		v := f.of(t)
		ink := f.wrong
		if v == 0 {
			ink = look.Text
		}
		s += look.Right(sc.Palette.Draw(ink, units.Count(v)), fieldWidth)
	}
	return s
}

// foot sums the sheet up, and says whether the books of clients, ledger and meters agree.
func (m Model) foot(sc scene.Scene, here place) []string {
	if here.what == message {
		return whole(sc, here)
	}
	if here.what != sheet {
		return nil
	}
	why, signal := "adds up", look.AllWell
	if problem := sc.Run.Total.Imbalance(); problem != "" {
		why, signal = problem, look.InDanger
	}
	return append([]string{
		sc.Palette.Draw(look.Faint, strings.Repeat("─", sc.Width)),
		"  " + m.tallyLine(sc, "sum", &sc.Window.Total),
		"  " + sc.Palette.Signal(signal, why),
	}, checks(sc)...)
}

// checks lists the trial's checks, those that failed first, and the final checks,
// as far as there is room.
func checks(sc scene.Scene) (lines []string) {
	p := sc.Palette
	all := run.ChecksOf(sc.Run.Trial, sc.Window)
	slices.SortStableFunc(all, func(a, b run.CheckSummary) int {
		return cmp.Compare(min(1, b.Failed), min(1, a.Failed))
	})
	most := max(0, min(len(all), (sc.Height-8)/2))
	if most == 0 {
		return nil
	}
	each := min(sc.Width, 110)
	lines = append(lines, "", p.Heading("checks", each, 12, "passed", "failed"))
	for _, c := range all[:most] {
		name := look.Fit(plain.Text(c.Kind, 12), 13) + plain.Text(c.Name, 60)
		failed := units.Count(c.Failed)
		if c.Failed > 0 {
			failed = p.Draw(look.Beware, failed)
		}
		lines = append(lines, "  "+p.Line(name, each-2, 12, units.Count(c.Held), failed))
	}
	if most < len(all) {
		lines = append(lines, p.Draw(look.Faint, fmt.Sprintf("  and %d more", len(all)-most)))
	}
	lines = append(lines, watch.WordLines(p, sc.Run, sc.Width, max(2, sc.Height/6))...)
	for _, r := range sc.Run.FinalResults {
		signal := map[run.Verdict]look.Signal{run.Holds: look.AllWell, run.Broken: look.SomethingLost,
			run.NotProven: look.Attention}[r.Verdict]
		lines = append(lines, look.Fit("  "+p.Signal(signal, "final_check "+plain.Text(r.Name, 40)+" "+
			string(r.Verdict))+"  "+p.Draw(look.Faint, plain.Text(r.Why, 200)), sc.Width))
	}
	return lines
}
