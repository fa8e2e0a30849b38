package home

import (
	"encoding/json"
	"fmt"
	"math"
	"os"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/finding"
	"tidepull/internal/report/store"
	"tidepull/internal/run"
	"tidepull/internal/trial"
	"tidepull/internal/trial/language"
	"tidepull/internal/tui/found"
	"tidepull/internal/tui/look"
	"tidepull/trials"
)

// A preview is what is known of the selected thing. It is made when it is
// selected and not at each picture.
type preview struct {
	of    string // what it is of
	trial *trial.Trial
	err   error
	sum   *run.Summary
	past  *store.Preview
}

// look makes the preview of what is under the cursor, if it is not that
// already.
func (m Model) look() Model {
	switch r := m.at(); {
	case m.cursor == 0:
		if m.preview.of != "demo" {
			t, err := language.Parse(trials.Demo, trials.DemoName, language.Options{})
			m.preview = preview{of: "demo", trial: t, err: err}
		}
	case r != nil:
		of := fmt.Sprintf("run %d %s %v", r.ID, r.State, r.Elapsed)
		if m.preview.of == of {
			break
		}
		p := preview{of: of}
		var sum run.Summary
		if json.Unmarshal(r.Summary, &sum) == nil {
			p.sum = &sum
		}
		p.past, p.err = m.store.Preview(r.ID)
		m.preview = p
	case m.cursor <= len(m.trials):
		path := m.trials[m.cursor-1]
		of := path
		if info, err := os.Stat(path); err == nil {
			of += info.ModTime().String()
		}
		if m.preview.of != of {
			t, err := language.Load(path, language.Options{})
			m.preview = preview{of: of, trial: t, err: err}
		}
	}
	return m
}

// side draws the preview.
func (m Model) side(p *look.Palette, width, height int) []string {
	r := m.at()
	switch v := &m.preview; {
	case r != nil:
		return m.runSide(p, r, width, height)
	case v.err != nil:
		lines := []string{p.Rule("what is wrong with it", "", width)}
		for _, l := range strings.Split(v.err.Error(), "\n") {
			lines = append(lines, p.Draw(look.Beware, look.Fit(plain.Text(l, 0), width)))
		}
		return lines
	case v.trial != nil:
		return planSide(p, v.trial, width, height)
	}
	return nil
}

// planSide is what a trial is going to do.
func planSide(p *look.Palette, t *trial.Trial, width, height int) []string {
	lines := []string{p.Rule("the plan of "+plain.Text(t.Name, 40), p.Draw(look.Faint, units.Clock(t.Length())), width)}
	lines = append(lines, drawTide(p, t.Length(), t.Clients(), func(at time.Duration) int { return t.Planned(at) }, nil,
		width, min(8, max(3, height/5)))...)
	each := min(width, 76)
	line := func(name, value string) {
		lines = append(lines, p.Line(name, each, 0, look.Clip(value, each-len(name)-4)))
	}
	lines = append(lines, "")
	line("target", plain.Text(t.Shown().Target.Address, 80))
	line("dialect", plain.Text(t.Dialect.Name, 40))
	if rooms := rooms(t); rooms != "" {
		line("rooms", rooms)
	}
	lines = append(lines, "", p.Rule("crews", p.Draw(look.Faint, units.Count(int64(t.Clients()))+" clients"), each))
	for i, c := range t.Crews {
		if i == 6 {
			lines = append(lines, p.Draw(look.Faint, fmt.Sprintf("and %d more", len(t.Crews)-i)))
			break
		}
		line(plain.Text(c.Name, 30), fmt.Sprintf("%s clients, session %s", units.Count(int64(c.Clients)),
			plain.Text(c.Session.Name, 30)))
	}
	lines = append(lines, "", p.Rule("limits", p.Draw(look.Faint,
		fmt.Sprintf("and %d implied", len(run.Limits(t))-len(t.Limits))), each))
	if len(t.Limits) == 0 {
		lines = append(lines, p.Draw(look.Faint, "none of its own"))
	}
	for _, l := range t.Limits {
		f := run.Judgement{Limit: l}
		line(plain.Text(l.Name, 36), f.Wanted())
	}
	return lines
}

// rooms names the rooms that sessions enter, with an ellipsis for what differs
// from client to client.
func rooms(t *trial.Trial) string {
	var all []string
	for _, c := range t.Crews {
		for i := range c.Session.Steps {
			if s := &c.Session.Steps[i]; s.Do == trial.Enter && s.Room != nil {
				if name := plain.Text(s.Room.Shape(), 30); !slices.Contains(all, name) {
					all = append(all, name)
				}
			}
		}
	}
	return strings.Join(all, ", ")
}

// andMore is how a verdict's reason says that there are others.
var andMore = regexp.MustCompile(`; and \d+ more$`)

// mostFindings bounds the findings of a run that are named.
const mostFindings = 4

// findings are those of the run that is chosen.
func (v *preview) findings() []finding.Finding {
	if v.sum == nil {
		return nil
	}
	return v.sum.Findings
}

// runSide is how a run ended, and why.
func (m Model) runSide(p *look.Palette, r *store.Run, width, height int) []string {
	lines := []string{p.Rule(fmt.Sprintf("run %d, %s", r.ID, plain.Text(r.Title(), 40)), verdict(p, r), width)}
	why := plain.Text(r.Why, 400)
	if len(m.preview.findings()) > 0 { // they stand below, one by one
		why = andMore.ReplaceAllString(why, "")
	}
	for _, l := range strings.Split(ansi.Wordwrap(why, width-2, ""), "\n") {
		if l != "" {
			lines = append(lines, "  "+p.Draw(look.Strong, l))
		}
	}
	lines = append(lines, found.Lines(p, m.preview.findings(), width, mostFindings)...)
	if v := m.preview.past; v != nil && len(v.Open) > 0 {
		most := 1
		for i := range v.Open {
			most = max(most, v.Open[i], v.Planned[i])
		}
		length := time.Duration(len(v.Open)) * time.Second
		second := func(at time.Duration) int { return min(len(v.Open)-1, int(at/time.Second)) }
		lines = append(lines, drawTide(p, length, most, func(at time.Duration) int { return v.Planned[second(at)] },
			func(at time.Duration) int { return v.Open[second(at)] }, width, min(6, max(3, height/7)))...)
		lines = append(lines, drawBand(p, v, width, min(6, max(3, height/7)))...)
	}
	if r.Note != "" {
		lines = append(lines, "", plain.Text(r.Note, 300))
	}
	s := m.preview.sum
	if s == nil {
		return append(lines, "", p.Draw(look.Faint, "it was killed before it could be summed up; enter shows what "+
			"was kept"))
	}
	each := min(width, 76)
	line := func(name, value string) { lines = append(lines, p.Line(name, each, 0, value)) }
	wrong := func(n int64, ink look.Ink) string {
		if n == 0 {
			ink = look.Text
		}
		return p.Draw(ink, units.Count(n))
	}
	lines = append(lines, "")
	line("started", r.Started.Local().Format("2006-01-02 15:04:05")+", "+units.Clock(r.Elapsed)+" long")
	line("target", look.Clip(plain.Text(r.Target, 80), each-12))
	line("clients", units.Count(int64(r.Clients)))
	line("messages", units.Count(s.Messages.Sent))
	line("owed", units.Count(s.Ledger.Owed))
	line("delivered", units.Count(s.Ledger.Delivered))
	line("lost", wrong(s.Ledger.Lost, look.Lost))
	line("late", wrong(s.Ledger.Late, look.Beware))
	line("duplicate", wrong(s.Ledger.Duplicate, look.Beware))
	line("stray", wrong(s.Ledger.Stray, look.Beware))
	line("fan-out p50", units.Micros(s.Fanout.P50))
	line("fan-out p99", units.Micros(s.Fanout.P99))
	for _, shared := range s.InCommon {
		lines = append(lines, look.Fit(p.Signal(look.SomethingLost, "in common")+"  "+plain.Text(shared.Says, 300),
			width))
	}
	for _, l := range s.Limits {
		if l.Verdict != run.Holds && len(lines) < height {
			signal := look.Attention
			if l.Verdict == run.Broken {
				signal = look.SomethingLost
			}
			got := fmt.Sprintf("%s is %s", l.Figure, units.Figure(l.Unit == "us", l.Measured))
			if l.Why != "" {
				got = plain.Text(l.Why, 200)
			}
			lines = append(lines, look.Fit(p.Draw(signal.Ink(), signal.Shape())+" limit \""+plain.Text(l.Name,
				60)+"\" "+
				string(l.Verdict)+"  "+p.Draw(look.Faint, got), width))
		}
	}
	return lines
}

// drawTide draws numbers of clients over time: the plan as a dotted line, what
// was there as water.
func drawTide(p *look.Palette, length time.Duration, most int, planned, open func(time.Duration) int, width,
	rows int) []string {
	if length <= 0 || width < look.Gutter+10 {
		return nil
	}
	d := look.NewDots(width-look.Gutter, rows)
	top := 4*rows - 1
	high := func(n int) int { return top - int(float64(n)/float64(max(1, most))*float64(top)+0.5) }
	for x := range 2 * d.Width {
		at := time.Duration(float64(length) * float64(x) / float64(2*d.Width))
		if open != nil {
			for y := top; y > high(open(at)); y-- {
				d.Dot(x, y, look.Deep)
			}
			d.Dot(x, high(open(at)), look.Water)
		}
		if x%3 == 0 {
			d.Dot(x, high(planned(at)), look.Plan)
		}
	}
	return d.Scaled(p, units.Count(int64(most)), "", "0")
}

// drawBand draws the median and p99 of the fan-out latency over time.
func drawBand(p *look.Palette, v *store.Preview, width, rows int) []string {
	least, most := math.Inf(1), 0.0
	for i := range v.P50 {
		if v.P50[i] > 0 {
			least, most = min(least, float64(v.P50[i])), max(most, float64(v.P99[i]))
		}
	}
	if most == 0 || width < look.Gutter+10 {
		return nil
	}
	d := look.NewDots(width-look.Gutter, rows)
	top := 4*rows - 1
	span := math.Log(most/least) + 1e-9
	y := func(t time.Duration) int {
		return top - int(math.Round(math.Log(float64(max(t, 1))/least)/span*float64(top)))
	}
	for x := range 2 * d.Width {
		i := min(len(v.P50)-1, x*len(v.P50)/(2*d.Width))
		if v.P50[i] == 0 {
			continue
		}
		for k := y(v.P99[i]); k < y(v.P50[i]); k++ {
			d.Dot(x, k, look.Deep)
		}
		d.Dot(x, y(v.P50[i]), look.Water)
	}
	return d.Scaled(p, units.Duration(time.Duration(most)), "", units.Duration(time.Duration(least)))
}
