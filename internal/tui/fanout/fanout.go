// Package fanout is the view that answers: how soon does the audience have a
// message, and how does that grow with the room?
package fanout

import (
	"fmt"
	"math"
	"time"

	tea "charm.land/bubbletea/v2"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/meter"
	"tidepull/internal/tui/look"
	"tidepull/internal/tui/scene"
)

// Help explains the view in words.
const Help = `Fan-out answers: how soon does the audience have a message, and how does that
grow with the size of the room?

Share reached: of everything owed in the window, the share that had arrived so
long after the message should have been sent. The uprights are the first, median
and last recipient of a typical message (the medians over messages). m and M step
through the single messages of the window, first those with problems, then a
sample of the others.

Percentiles: the latency that a share of the deliveries stayed below. The faint
curve is the tool's own reading lag, which is not part of any latency.

Room size: for audiences of each size the p50 and p99 of their deliveries, and the
line fitted to the last recipient of each message: what a message costs at all,
and what each further recipient adds, with the 95 % uncertainty of that.`

// A Model is the view's state: which message is looked at.
type Model struct{ at int } // 0 is all of the window

// Update handles the view's keys; done reports whether the key was one.
func (m Model) Update(msg tea.KeyPressMsg, sc scene.Scene) (Model, bool) {
	n := len(messages(sc)) + 1
	m.at = min(m.at, n-1)
	switch msg.String() {
	case "m":
		m.at = (m.at + 1) % n
	case "M":
		m.at = (m.at + n - 1) % n
	case "esc":
		if m.at == 0 {
			return m, false
		}
		m.at = 0
	default:
		return m, false
	}
	return m, true
}

// messages are the kept messages of the window, those with problems first.
func messages(sc scene.Scene) (all []*ledger.Message) {
	for _, list := range [][]ledger.Message{sc.Run.Kept, sc.Run.Sampled} {
		for i := range list {
			if sc.Holds(list[i].Due) {
				all = append(all, &list[i])
			}
		}
	}
	return all
}

// message is the one looked at, nil for all of the window.
func (m Model) message(sc scene.Scene) *ledger.Message {
	if all := messages(sc); m.at > 0 && m.at <= len(all) {
		return all[m.at-1]
	}
	return nil
}

// View draws the view.
func (m Model) View(sc scene.Scene) []string {
	upper := max(5, (sc.Height-3)*3/5)
	lower := max(4, sc.Height-upper-3)
	if sc.Width < 110 {
		lines := m.reached(sc, sc.Width, upper-1)
		return append(lines, sizes(sc, sc.Width, lower+1)...)
	}
	each := (sc.Width - look.ColumnGap) / 2
	lines := look.Beside(upper+1, each, m.reached(sc, each, upper), percentiles(sc, each, upper))
	return append(lines, sizes(sc, sc.Width, lower)...)
}

// reached draws the share of the audience that had the message, over time.
func (m Model) reached(sc scene.Scene, width, rows int) []string {
	p := sc.Palette
	var curve meter.Hist
	owed := float64(0)
	label, right := "share reached", sc.Label
	marks := []upright{}
	if msg := m.message(sc); msg != nil {
		for _, o := range msg.Outcomes {
			if o.Fate == ledger.Delivered || o.Fate == ledger.Late {
				curve.Record(o.Latency)
			}
		}
		owed = float64(msg.Owed)
		label = fmt.Sprintf("message %d", msg.Number)
		right = fmt.Sprintf("%s in %s, %d of %d", plain.Text(sc.Run.ClientName(msg.Sender), 20),
			plain.Text(sc.Run.Rooms[msg.Room], 20), msg.Reached, msg.Owed)
	} else {
		curve = *sc.Window.Fanout()
		owed = float64(sc.Window.Total.Owed - sc.Window.Total.Open() - sc.Window.Total.Excused)
		marks = []upright{{"first", sc.Window.First.Quantile(0.5)}, {"median", sc.Window.Median.Quantile(0.5)},
			{"last", sc.Window.Last.Quantile(0.5)}}
	}
	lines := []string{p.Rule(label, p.Draw(look.Faint, right), width)}
	if curve.Count() == 0 {
		return append(lines, look.Right("", look.Gutter)+p.Draw(look.Faint,
			"nothing has been delivered in this window"))
	}
	ax := logAxis(curve.Min(), curve.Max(), 2*(width-look.Gutter))
	d := look.NewDots(width-look.Gutter, rows-1)
	top := 4*d.Height - 1
	y := func(share float64) int { return top - int(math.Round(share*float64(top))) }
	for _, u := range marks {
		if u.at > 0 {
			for k := 0; k <= top; k += 3 {
				d.Dot(ax.x(u.at), k, look.Plan)
			}
		}
	}
	seen, last := 0.0, 0
	curve.Each(func(upper time.Duration, n uint32) {
		x := ax.x(upper)
		for k := last; k < x; k++ {
			d.Dot(k, y(seen/max(owed, 1)), look.Water)
		}
		from := y(seen / max(owed, 1))
		seen += float64(n)
		for k := y(seen / max(owed, 1)); k <= from; k++ {
			d.Dot(x, k, look.Water)
		}
		last = x
	})
	for i, u := range marks {
		d.Text(min(ax.x(u.at)/2+1, d.Width-6), min(i, d.Height-1), u.name, look.Plan)
	}
	return append(lines, append(d.Scaled(p, "100 %", "50 %", "0 %"), ax.ruler(p, d.Width))...)
}

type upright struct {
	name string
	at   time.Duration
}

// percentiles draws latency by percentile, each nine taking the same room.
func percentiles(sc scene.Scene, width, rows int) []string {
	p := sc.Palette
	lines := []string{p.Rule("percentiles", p.Draw(look.Faint, "faint: the tool's reading lag"), width)}
	f := sc.Window.Fanout()
	if f.Count() == 0 {
		return append(lines, look.Right("", look.Gutter)+p.Draw(look.Faint,
			"nothing has been delivered in this window"))
	}
	d := look.NewDots(width-look.Gutter, rows-1)
	const nines = 4.0
	lag := &sc.Window.Times[logbook.ReadingLag]
	ax := logAxis(min(f.Quantile(0.01), max(lag.Quantile(0.01), time.Microsecond)), max(f.Max(), lag.Max()), 4*d.Height)
	at := func(x int) float64 { return 1 - math.Pow(10, -float64(x)/float64(2*d.Width)*nines) }
	for x := range 2 * d.Width {
		if lag.Count() > 0 && x%2 == 0 {
			d.Dot(x, 4*d.Height-1-ax.x(lag.Quantile(at(x))), look.Faint)
		}
		d.Dot(x, 4*d.Height-1-ax.x(f.Quantile(at(x))), look.Water)
	}
	ruler := look.NewDots(d.Width, 1)
	for _, q := range []struct {
		name string
		q    float64
	}{{"p50", 0.5}, {"p90", 0.9}, {"p99", 0.99}, {"p99.9", 0.999}} {
		x := int(-math.Log10(1-q.q) / nines * float64(d.Width))
		ruler.Char(x, 0, '╵', look.Faint)
		ruler.Text(x+1, 0, q.name+" "+units.Duration(f.Quantile(q.q)), look.Text)
	}
	lines = append(lines, ax.sideways(p, d)...)
	return append(lines, look.Right("", look.Gutter)+ruler.Lines(p)[0])
}

// sizes draws latency against the size of the audience, with the fitted line.
func sizes(sc scene.Scene, width, rows int) []string {
	p := sc.Palette
	text := "all audiences were of one size: no line can be fitted"
	line, ok := cleanFit(sc)
	if ok && (line.Slope <= 0 || line.Error >= line.Slope) {
		ok, text = false, "no growth with the size of the audience that could be told from chance"
	}
	if ok {
		text = fmt.Sprintf("last recipient: %s and %s a recipient, ± %s", units.Micros(line.Base),
			units.Micros(line.Slope), units.Micros(line.Error))
	}
	lines := []string{p.Rule("room size", p.Draw(look.Faint, text), width)}
	audiences := sc.Window.BySize()
	table := min(width, 104)
	header := []string{"audience", "deliveries", "p50", "p99", "max"}
	if ok {
		header = append(header, "fitted last")
	}
	lines = append(lines, p.Draw(look.Faint, columns(header)))
	for _, a := range audiences {
		if len(lines) > rows {
			break
		}
		h, from, to := a.Latency, a.From, a.To
		name := fmt.Sprintf("%d to %d", from, to)
		if from == to {
			name = fmt.Sprint(from)
		}
		row := []string{name, units.Count(int64(h.Count())), units.Duration(h.Quantile(0.5)),
			units.Duration(h.Quantile(0.99)), units.Duration(h.Max())}
		if ok {
			row = append(row, units.Micros(max(0, line.Base+line.Slope*float64(from)))+" to "+
				units.Micros(max(0, line.Base+line.Slope*float64(to))))
		}
		lines = append(lines, columns(row))
	}
	if chart := width - table - look.ColumnGap; chart >= 40 && len(audiences) > 1 && rows >= 6 {
		side := sizeChart(p, audiences, line, ok, chart, rows)
		for i := range side {
			if i+1 == len(lines) {
				lines = append(lines, "")
			}
			lines[i+1] = look.Fit(lines[i+1], table) + "   " + side[i]
		}
	}
	return lines
}

// cleanFit is the line through the window's messages, without the seconds that say nothing of the server.
func cleanFit(sc scene.Scene) (logbook.FittedLine, bool) {
	var fit logbook.Fit
	for _, e := range sc.Entries {
		if e.Health.Overload == 0 {
			fit.Add(e.Fit)
		}
	}
	return fit.Line()
}

// sizeChart draws the medians and p99s by size, each doubling taking the same
// room, and the fitted line.
func sizeChart(p *look.Palette, sizes []logbook.Size, line logbook.FittedLine, fitted bool, width, rows int) []string {
	d := look.NewDots(width-look.Gutter, rows-2)
	least, most := time.Duration(math.MaxInt64), time.Duration(0)
	for _, s := range sizes {
		least, most = min(least, s.Latency.Quantile(0.5)), max(most, s.Latency.Quantile(0.99))
	}
	ax := logAxis(least, most, 4*d.Height)
	first, last := float64(sizes[0].Class), float64(sizes[len(sizes)-1].Class)
	x := func(class float64) int { return int((class - first) / (last - first) * float64(2*d.Width-3)) }
	if fitted {
		for k := range 2 * d.Width {
			class := first + float64(k)/float64(2*d.Width)*(last-first)
			us := line.Base + line.Slope*math.Pow(2, class-0.5)
			if us > 0 && k%2 == 0 {
				d.Dot(k, ax.dots-1-ax.x(time.Duration(us*1e3)), look.Plan)
			}
		}
	}
	for _, s := range sizes {
		for q, r := range map[float64]rune{0.5: '•', 0.99: '◦'} {
			d.Char(x(float64(s.Class))/2, (ax.dots-1-ax.x(s.Latency.Quantile(q)))/4, r, look.Water)
		}
	}
	ruler := look.NewDots(d.Width, 1)
	for _, s := range sizes {
		ruler.Text(min(x(float64(s.Class))/2, d.Width-5), 0, fmt.Sprint(s.From), look.Faint)
	}
	lines := ax.sideways(p, d)
	return append(lines, look.Right("", look.Gutter)+ruler.Lines(p)[0],
		look.Right("", look.Gutter)+p.Draw(look.Faint, "• p50  ◦ p99  dots: fitted last"))
}

// columns lines cells up; the sixth, a fitted figure, needs more room.
func columns(cells []string) string {
	s := ""
	for i, c := range cells {
		width := 14
		if i == 5 {
			width = 24
		}
		s += look.Right(c, width)
	}
	return s
}
