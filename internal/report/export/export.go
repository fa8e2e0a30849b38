// Package export writes what a run measured into files for people and for
// other programs: drawings and tables of a window, and the results of a whole
// run for a build pipeline.
package export

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/report/chart"
	"tidepull/internal/run"
)

// A Request says what is to be exported.
type Request struct {
	Run      *run.Snapshot
	Name     string          // of the run, for the notes
	Version  string          // of the tool
	View     string          // one of Views
	From, To int             // the window in seconds, To not in it; both 0 for the whole run
	Clients  []ledger.Client // to show the lanes of; none: those around a problem
	Focus    *lane.Record    // the lanes are those of the stretch around it; nil: around the first problem
	Message  *uint64         // whose recipients the view "message" is of; nil: the first one with something wrong
	All      bool            // all of the lanes in the window, on as many pages as it takes, up to a bound
}

// Views are what can be exported, by name: those of the screen, and more.
var Views = []string{"watch", "tide", "fan-out", "percentiles", "rooms", "ledger", "lanes", "routes", "recovery",
	"pulse",
	"feeds", "findings", "message", "report"}

// bySecond are those that have a point for each second.
var bySecond = []string{"watch", "tide", "routes", "recovery", "feeds"}

// Formats are the formats of each view.
var Formats = []string{"svg", "pdf", "csv", "json"}

// A sheet is the data behind an export, as a table; every view has one.
type sheet struct {
	Title  string
	Unit   string // of the figures, if they have one in common
	Header []string
	Rows   [][]any
}

// A drawing is anything that chart can draw.
type drawing interface {
	Write(io.Writer, chart.Format) error
}

// Write writes an export in a format.
func Write(w io.Writer, r Request, format string) error {
	if !slices.Contains(Views, r.View) {
		return fmt.Errorf("there is no view %q to export; there are %s", r.View, strings.Join(Views, ", "))
	}
	if !slices.Contains(Formats, format) {
		return fmt.Errorf("there is no format %q; there are %s", format, strings.Join(Formats, ", "))
	}
	win, entries, err := r.window()
	if err != nil {
		return err
	}
	var s sheet
	var d drawing
	switch r.View {
	case "watch", "tide": // the screen's name, and what it was called here first
		s, d = r.tide(entries)
	case "fan-out":
		s, d = r.fanout(win)
	case "percentiles":
		s, d = r.percentiles(win)
	case "rooms":
		s, d = r.rooms(win)
	case "ledger":
		s, d = r.ledger(win)
	case "lanes":
		s, d = r.lanes()
	case "routes":
		s, d = r.routes(entries)
	case "recovery":
		s, d = r.recovery(entries)
	case "pulse":
		s, d = r.pulse(win)
	case "feeds":
		s, d = r.feeds(entries)
	case "findings":
		s, d = r.findings()
	case "message":
		s, d, err = r.message()
	case "report":
		if format != string(chart.PDF) {
			return fmt.Errorf("a report of several pages is written as pdf, or into a folder (--out DIR), as PDF, "+
				"SVG, Markdown and JSON; not as %s", format)
		}
		d = r.report(win, entries)
	}
	if err != nil {
		return err
	}
	switch format {
	case "csv":
		return s.writeCSV(w)
	case "json":
		return s.writeJSON(w, r)
	}
	// A drawing that fails half-way leaves no half a file.
	var b bytes.Buffer
	if err := d.Write(&b, chart.Format(format)); err != nil {
		return fmt.Errorf("drawing %s: %w", r.View, err)
	}
	_, err = b.WriteTo(w)
	return err
}

func (r *Request) window() (*logbook.Window, logbook.Seconds, error) {
	entries := r.Run.Entries
	if r.To > 0 || r.From > 0 {
		if r.From < 0 || r.To <= r.From || r.From >= entries.Count() {
			return nil, nil, fmt.Errorf("the window %d..%d is not within the run's %d seconds", r.From, r.To,
				entries.Count())
		}
		entries = entries.Between(r.From, r.To)
	}
	w, err := logbook.Sum(entries, nil)
	return w, entries, err
}

// notes are the lines under each title.
func (r *Request) notes() []string {
	window := "the whole run"
	if r.To > r.From {
		window = "window " + units.Clock(time.Duration(r.From)*time.Second) + " to " +
			units.Clock(time.Duration(r.To)*time.Second)
	}
	lines := []string{
		fmt.Sprintf("%s, trial %q at %s, started %s", plain.Text(r.Name, 60), plain.Text(r.Run.Trial.Name, 60),
			plain.Text(r.Run.Trial.Target.Address, 80), r.Run.Started.UTC().Format("2006-01-02 15:04:05 UTC")),
		fmt.Sprintf("%s; %s clients; tide pull %s", window, units.Count(int64(r.Run.Trial.Clients())), r.Version),
	}
	lines = append(lines, r.verdict()...)
	if w, entries, err := r.window(); err == nil && w.Overloaded > 0 {
		lines = append(lines, fmt.Sprintf("attention: %d of these %d seconds say nothing of the server (%s): %s",
			w.Overloaded, w.Seconds, spans(r.leftOut(entries)), w.Why.Words()))
	}
	if slices.ContainsFunc(r.Run.Entries, func(e *logbook.Entry) bool { return e.Merged > 0 }) &&
		slices.Contains(bySecond, r.View) {
		lines = append(lines, "what is older than an hour is by minute")
	}
	if !r.Run.KernelTimes {
		lines = append(lines, "attention: no kernel receive times; latencies may be too long by the reading lag")
	}
	return lines
}

// verdict says what came of the run, and of the limits that the trial sets.
func (r *Request) verdict() []string {
	verdict, why := r.Run.Outcome()
	lines := []string{"verdict of the run: " + string(verdict)}
	if why != "" {
		lines[0] += ", " + plain.Text(why, 140)
	}
	var limits []string
	for i := range r.Run.Judgements {
		if j := &r.Run.Judgements[i]; !j.Limit.Implied {
			limits = append(limits, fmt.Sprintf("%s (%s): %s", plain.Text(j.Limit.Name, 40), j.Wanted(), j.Verdict))
		}
	}
	if len(limits) > mostLimits {
		limits = append(limits[:mostLimits], fmt.Sprintf("and %d more", len(limits)-mostLimits))
	}
	if len(limits) > 0 {
		lines = append(lines, "limits: "+strings.Join(limits, "; "))
	}
	return lines
}

// mostLimits is how many limits stand under a title.
const mostLimits = 3

// leftOut are the seconds in which the tool or the machine was the bottleneck, put together to spans.
func (r *Request) leftOut(entries logbook.Seconds) (all [][2]float64) {
	for _, e := range entries {
		if e.Health.Overload == 0 {
			continue
		}
		from, to := float64(e.At), float64(e.At+e.Seconds())
		if n := len(all); n > 0 && all[n-1][1] >= from {
			all[n-1][1] = to
			continue
		}
		all = append(all, [2]float64{from, to})
	}
	return all
}

// spans writes spans of seconds: "0:12 to 0:20, 0:31 to 0:32 and 3 more".
func spans(all [][2]float64) string {
	var texts []string
	for i, s := range all {
		if i == mostSpans {
			texts = append(texts, fmt.Sprintf("and %d more", len(all)-mostSpans))
			break
		}
		texts = append(texts, units.Clock(time.Duration(s[0])*time.Second)+" to "+
			units.Clock(time.Duration(s[1])*time.Second))
	}
	return strings.Join(texts, ", ")
}

const mostSpans = 5

func (s *sheet) writeCSV(w io.Writer) error {
	c := csv.NewWriter(w)
	if err := c.Write(s.Header); err != nil {
		return err
	}
	for _, row := range s.Rows {
		if err := c.Write(cells(row)); err != nil {
			return err
		}
	}
	c.Flush()
	return c.Error()
}

// cells writes a row for CSV: texts in a form that no program takes for a
// formula, nor for anything but a text.
func cells(row []any) []string {
	out := texts(row)
	for i, v := range row {
		if _, text := v.(string); text {
			out[i] = Cell(out[i])
		}
	}
	return out
}

// Cell makes a text safe to stand in a table that other programs open: control
// characters become visible, and what they would take for a formula begins with
// an apostrophe.
func Cell(s string) string {
	s = plain.Text(s, 0)
	if s != "" && strings.ContainsRune("=+-@\t\r|%", rune(s[0])) {
		return "'" + s
	}
	return s
}

func texts(row []any) []string {
	out := make([]string, len(row))
	for i, v := range row {
		switch v := v.(type) {
		case nil:
		case float64:
			out[i] = strings.TrimSuffix(strings.TrimRight(fmt.Sprintf("%.3f", v), "0"), ".")
		default:
			out[i] = fmt.Sprint(v)
		}
	}
	return out
}

func (s *sheet) writeJSON(w io.Writer, r Request) error {
	rows := make([]map[string]any, len(s.Rows))
	for i, row := range s.Rows {
		rows[i] = map[string]any{}
		for k, v := range row {
			rows[i][s.Header[k]] = v
		}
	}
	b, err := json.MarshalIndent(map[string]any{"title": s.Title, "unit": s.Unit, "notes": r.notes(), "rows": rows}, "",
		"  ")
	if err != nil {
		return err
	}
	_, err = w.Write(append(b, '\n'))
	return err
}
