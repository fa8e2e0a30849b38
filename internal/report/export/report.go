package export

import (
	"cmp"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"time"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/finding"
	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/report/chart"
	"tidepull/internal/run"
)

// report is what one would hand to a colleague about a run: what was tested and how hard, the verdict, what is wrong
// with the server, how soon messages came, what became of them, and how to repeat it.
func (r *Request) report(w *logbook.Window, entries logbook.Seconds) *chart.Document {
	t := r.Run.Trial
	d := r.document("A run against " + plain.Text(t.Hide(t.Target.Address), 80))
	d.Blocks = append(d.Blocks, r.verdictBlocks()...)
	d.Blocks = append(d.Blocks, r.howHard(w)...)
	d.Blocks = append(d.Blocks, chart.Heading{Text: "What is wrong with the server"})
	d.Blocks = append(d.Blocks, r.findingBlocks(r.Run.Findings)...)
	d.Blocks = append(d.Blocks, r.figures(w, entries)...)
	d.Blocks = append(d.Blocks, r.limitBlocks()...)
	d.Blocks = append(d.Blocks, r.environment(w)...)
	d.Blocks = append(d.Blocks, r.again()...)
	return d
}

// document is an empty one about the run.
func (r *Request) document(title string) *chart.Document {
	t := r.Run.Trial
	return &chart.Document{Title: title, Foot: "tide pull " + r.Version + ", " + plain.Text(r.Name, 60),
		Notes: []string{fmt.Sprintf("%s, trial %q, started %s", plain.Text(r.Name, 60), plain.Text(t.Name, 60),
			r.Run.Started.UTC().Format("2006-01-02 15:04:05 UTC"))}}
}

func para(label, text string) chart.Lines { return chart.Lines{Label: label, Text: text} }

func (r *Request) verdictBlocks() []chart.Block {
	verdict, why := r.Run.Outcome()
	text := string(verdict)
	if why != "" {
		text += ": " + why
	}
	loss, all := 0, len(r.Run.Findings)
	for i := range r.Run.Findings {
		if r.Run.Findings[i].Severity == finding.Loss {
			loss++
		}
	}
	found := "nothing was found to be wrong with the server"
	if all > 0 {
		found = fmt.Sprintf("%s, %d of them about messages that do not arrive or reach somebody they are not for",
			units.Plural(all, "finding"), loss)
	}
	return []chart.Block{chart.Lines{Label: "verdict", Text: text, Strong: true}, para("found", found)}
}

// howHard says what was tested.
func (r *Request) howHard(w *logbook.Window) []chart.Block {
	t, c := r.Run.Trial, &w.Counts
	crews := []string{}
	for i := range t.Crews {
		crews = append(crews, fmt.Sprintf("%s %s", units.Count(int64(t.Crews[i].Clients)), plain.Text(t.Crews[i].Name,
			40)))
	}
	most := int64(0)
	for _, e := range r.Run.Entries {
		if e.Seconds() == 1 {
			most = max(most, e.Counts.Marked)
		}
	}
	return []chart.Block{chart.Heading{Text: "What was tested, and how hard"},
		para("clients", fmt.Sprintf("%s (%s), %s connections opened, %s entries into rooms",
			units.Count(int64(t.Clients())),
			strings.Join(crews, ", "), units.Count(c.Opened), units.Count(c.Entries))),
		para("messages", fmt.Sprintf("%s said, %s deliveries owed; at most %s came in a second", units.Count(c.Sent),
			units.Count(w.Total.Owed), units.Count(most))),
		para("lasted", fmt.Sprintf("%s; %s", units.Clock(r.Run.Elapsed), r.transports(w))),
		para("done to it", r.doings())}
}

func (r *Request) transports(w *logbook.Window) string {
	var used []string
	for i, name := range logbook.Transports {
		if w.Counts.Routes.On[i] > 0 {
			used = append(used, name)
		}
	}
	if len(used) == 0 {
		return "no connection"
	}
	return "over " + strings.Join(used, ", ")
}

// doings are what the trial did to the server and the clients on purpose.
func (r *Request) doings() string {
	var all []string
	for _, h := range r.Run.Happened {
		all = append(all, fmt.Sprintf("%s (%s) at %s", plain.Text(h.Name, 40), h.Do, units.Clock(h.From)))
	}
	if n := r.Run.Total.Counts.Pulse.Misbehave; n > 0 {
		all = append(all, units.Plural(int(n), "client")+" misbehaved about heartbeats")
	}
	if len(all) == 0 {
		return "nothing besides"
	}
	return strings.Join(all, ", ")
}

// findingBlocks are findings, by severity, each with a small drawing of one case.
func (r *Request) findingBlocks(all []finding.Finding) (blocks []chart.Block) {
	if len(all) == 0 {
		return []chart.Block{para("", fmt.Sprintf("Nothing was found in %s that were owed.",
			units.Plural(int(r.Run.Total.Total.Owed), "delivery")))}
	}
	for i := range all {
		f := &all[i]
		title := f.Title
		if f.Weakness > 0 {
			title = fmt.Sprintf("%s (no. %d)", f.Title, f.Weakness)
		}
		blocks = append(blocks, chart.Lines{Label: string(f.Severity), Text: title, Strong: true}, para("", f.Says))
		if f.Share != nil {
			blocks = append(blocks, para("how often", f.Share.Words()))
		}
		for k, e := range f.Evidence {
			if k < shownCases {
				blocks = append(blocks, para(firstOnly(k, "seen"), e.Says))
			}
		}
		if d := r.caseDrawing(f); d != nil {
			blocks = append(blocks, *d)
		}
		blocks = append(blocks, para("usually", f.Usually), para("to confirm", f.Experiment))
	}
	return blocks
}

// shownCases is how many cases of a finding a report has.
const shownCases = 3

// Heights of drawings, in centimetres.
const (
	caseHigh  = 4.2
	tideHigh  = 8.5
	chartHigh = 7
)

// caseDrawing draws the first case of a finding that has a message or a client: what happened around it.
func (r *Request) caseDrawing(f *finding.Finding) *chart.Figure {
	for _, e := range f.Evidence {
		focus := r.recordOf(e)
		if focus == nil {
			continue
		}
		of := *r
		of.Focus, of.All, of.From, of.To = focus, false, 0, 0
		of.Clients, _ = r.Run.Around(focus)
		if len(of.Clients) > lanesInCase {
			of.Clients = of.Clients[:lanesInCase]
		}
		_, d := of.lanes()
		l := d.(*chart.Lanes)
		if len(l.Rows) == 0 {
			return nil
		}
		// The case stands in the middle of the few rows that there is room for.
		at := slices.IndexFunc(l.Rows, func(row chart.LaneRow) bool {
			return row.Time == fmt.Sprintf("%.6f s", focus.At.Seconds())
		})
		from := max(0, min(at-rowsInCase/2, len(l.Rows)-rowsInCase))
		l.Rows = l.Rows[from:min(len(l.Rows), from+rowsInCase)]
		return &chart.Figure{High: caseHigh, Lanes: l, Caption: "around " + units.Instant(focus.At) +
			": a dot is said, an arrow arrived, a cross went wrong or was lost on the way"}
	}
	return nil
}

const (
	lanesInCase = 4
	rowsInCase  = 7
)

// recordOf is the record of a case in the lanes; nil if it was not kept.
func (r *Request) recordOf(e finding.Evidence) *lane.Record {
	var near *lane.Record
	for i := range r.Run.Lanes {
		rec := &r.Run.Lanes[i]
		if e.Message != nil {
			if rec.Number == *e.Message && (rec.What == lane.Lost || rec.What == lane.Got) && rec.Client == e.Client {
				return rec
			}
			if rec.Number == *e.Message && rec.What == lane.Said {
				near = rec
			}
			continue
		}
		if e.Client >= 0 && rec.Client == e.Client && (rec.At-e.At).Abs() < time.Second && near == nil {
			near = rec
		}
	}
	return near
}

// figures are the drawings of a report, with the ledger as a sheet.
func (r *Request) figures(w *logbook.Window, entries logbook.Seconds) (blocks []chart.Block) {
	figure := func(d drawing, high float64, caption string) {
		c := d.(*chart.Chart)
		blocks = append(blocks, chart.Figure{High: high, Chart: c, Caption: caption})
	}
	blocks = append(blocks, chart.Heading{Text: "The tide, and how soon its messages arrived"})
	h := w.Fanout()
	if h.Count() > 0 {
		blocks = append(blocks, para("fan-out", fmt.Sprintf("half of %s deliveries within %s, 99 in 100 within %s, "+
			"the slowest took %s", units.Count(int64(h.Count())), units.Duration(h.Quantile(0.5)),
			units.Duration(h.Quantile(0.99)), units.Duration(h.Max()))))
	}
	_, d := r.tide(entries)
	caption := "above: clients; below: the band from the median to p99, and the last recipient of each second"
	if left := r.leftOut(entries); len(left) > 0 {
		caption += "; shaded: left out, as the tool or the machine was the bottleneck"
	}
	figure(d, tideHigh, caption)
	if sizes := w.BySize(); len(sizes) > 1 {
		_, d := r.rooms(w)
		c := d.(*chart.Chart)
		fit := para("fit", c.Notes[len(c.Notes)-1])
		fit.Keeps = true
		blocks = append(blocks, chart.Heading{Text: "By size of the audience"}, fit)
		figure(d, chartHigh, "the median and p99 of rooms of a size, and the line fitted to the last recipient")
	}
	blocks = append(blocks, chart.Heading{Text: "What became of what was owed"}, r.sheetOf(w))
	if c := &w.Counts.Returns; c.Broke > 0 {
		blocks = append(blocks, chart.Heading{Text: "Breaks and returns"}, para("came back", fmt.Sprintf("%s of %s "+
			"connections that broke; %s tries, %s refused, %s not answered; %s gave up", units.Count(c.Back),
			units.Count(c.Broke), units.Count(c.Tries), units.Count(c.Refused), units.Count(c.TimedOut),
			units.Count(c.GaveUp))))
		_, d := r.recovery(entries)
		figure(d, chartHigh, "clients away, and their tries to come back, by second")
	}
	if c := &w.Counts.Pulse; r.Run.Trial.Target.Promise != nil && c.Heard+c.Asked > 0 {
		blocks = append(blocks, chart.Heading{Text: "Heartbeats"}, para("of the server", fmt.Sprintf("%s heard, %s "+
			"missing, %s late; %s clients misbehaved, %s of them were closed, %s too late, %s not at all",
			units.Count(c.Heard), units.Count(c.Missing), units.Count(c.Late), units.Count(c.Misbehave),
			units.Count(c.Evicted), units.Count(c.TooLate), units.Count(c.Kept))))
		if _, d := r.pulse(w); len(d.(*chart.Chart).Series) > 0 {
			figure(d, chartHigh, "the share of heartbeats that took no longer")
		}
	}
	if len(r.Run.Trial.Target.Routes) > 1 {
		c := &w.Counts.Routes
		blocks = append(blocks, chart.Heading{Text: "Transports"}, para("changes", fmt.Sprintf("%s steps down, %s "+
			"up, %s tries to step up failed; %s lost and %s doubled while clients changed", units.Count(c.Down),
			units.Count(c.Up),
			units.Count(c.UpFailed), units.Count(c.LostAt), units.Count(c.DoubledAt))))
		_, d := r.routes(entries)
		figure(d, chartHigh, "on which transport the connected clients were, by second")
	}
	return blocks
}

// sheetOf is the ledger by room, the rooms with something wrong first, as many as a page has room for.
func (r *Request) sheetOf(w *logbook.Window) chart.Grid {
	fates := []ledger.Fate{ledger.Delivered, ledger.Late, ledger.Lost, ledger.Excused, ledger.Duplicate, ledger.Stray,
		ledger.Altered, ledger.Reordered}
	g := chart.Grid{Header: []string{"room", "said", "owed"}, Widths: []float64{0.2, 0.08, 0.08},
		Texts: make([]bool, 3+len(fates))}
	for _, f := range fates {
		g.Header, g.Widths = append(g.Header, f.Title()), append(g.Widths, 0.64/float64(len(fates)))
	}
	row := func(name string, t *ledger.Tally) []string {
		cells := []string{name, units.Count(t.Said), units.Count(t.Owed)}
		for _, f := range fates {
			cells = append(cells, units.Count(*t.Of(f)))
		}
		return cells
	}
	rooms := w.ByRoom()
	slices.SortStableFunc(rooms, func(a, b logbook.Line) int { return int(wrongOf(&b.Tally) - wrongOf(&a.Tally)) })
	for i, l := range rooms {
		if i == roomsInReport {
			g.Rows = append(g.Rows, append([]string{fmt.Sprintf("and %d more", len(rooms)-i)},
				make([]string, len(g.Header)-1)...))
			break
		}
		g.Rows = append(g.Rows, row(plain.Text(r.Run.Rooms[l.Key], 40), &l.Tally))
	}
	g.Rows = append(g.Rows, row("all", &w.Total))
	return g
}

const roomsInReport = 16

func wrongOf(t *ledger.Tally) int64 {
	return t.Lost + t.Duplicate + t.Stray + t.Altered + t.Reordered + t.Late
}

// limitBlocks are the limits, those that the trial does not set only if they do not hold.
func (r *Request) limitBlocks() []chart.Block {
	g := chart.Grid{Header: []string{"limit", "wanted", "measured", "verdict"}, Widths: []float64{0.46, 0.2, 0.17,
		0.17},
		Texts: []bool{true, true, true, true}}
	held := 0
	for i := range r.Run.Judgements {
		j := &r.Run.Judgements[i]
		if j.Limit.Implied && j.Verdict == run.Holds {
			held++
			continue
		}
		g.Rows = append(g.Rows, []string{plain.Text(j.Limit.Name, 60), j.Wanted(),
			units.Figure(j.Unit == logbook.Duration, j.Measured) + j.LeftOut(), string(j.Verdict)})
	}
	blocks := []chart.Block{chart.Heading{Text: "Limits"}}
	if len(g.Rows) > 0 {
		blocks = append(blocks, g)
	}
	return append(blocks, para("", fmt.Sprintf("%s that hold of every server as well: nothing lost, doubled, astray, "+
		"altered, out of order and so on", units.Plural(held, "limit"))))
}

// environment is what the figures rest on.
func (r *Request) environment(w *logbook.Window) []chart.Block {
	s := run.Summarise(r.Run).Self
	blocks := []chart.Block{chart.Heading{Text: "What the figures rest on"},
		onMachine(s.KernelTimes),
		para("the tool", fmt.Sprintf("read what came within %s and sent what was due within %s (99 in 100); it was "+
			"busy %s of the time", units.Micros(s.ReadingLagP99), units.Micros(s.ScheduleLagP99),
			units.Percent(s.BusyShare)))}
	left := "every second counts"
	if w.Overloaded > 0 {
		left = fmt.Sprintf("%d of %d seconds are left out of latencies and of what must not be (%s): %s", w.Overloaded,
			w.Seconds, spans(r.leftOut(r.Run.Entries)), w.Why.Words())
	}
	blocks = append(blocks, para("left out", left))
	for i := range r.Run.Judgements {
		if j := &r.Run.Judgements[i]; j.Verdict == run.NotProven && j.Why != "" {
			return append(blocks, para("not proven", j.Why))
		}
	}
	return blocks
}

// onMachine is the machine, and where latencies end: in the kernel if it gave the time of what came.
func onMachine(kernel bool) chart.Block {
	end := "in the recipient's kernel, as it says when what came did"
	if !kernel {
		end = "when the tool read them: they may be too long by the reading lag"
	}
	return para("machine", fmt.Sprintf("%s/%s, %d cores; latencies end %s", runtime.GOOS, runtime.GOARCH,
		runtime.NumCPU(), end))
}

// again says how to repeat the run.
func (r *Request) again() []chart.Block {
	t := r.Run.Trial
	return []chart.Block{chart.Heading{Text: "How to repeat it"},
		para("trial", fmt.Sprintf("%q, with the seed %d: what is random is the same again", plain.Text(t.Name, 80),
			t.Seed)),
		para("command", "tidepull run "+cmp.Or(plain.Text(t.Source.Name, 200), "with the trial's file")),
		para("", "tidepull survey, with the same file, looks for what this run did not try")}
}
