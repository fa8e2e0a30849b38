package main

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/engine/machine"
	"tidepull/internal/report/export"
	"tidepull/internal/report/headless"
	"tidepull/internal/report/store"
	"tidepull/internal/report/versus"
)

type runsCommand struct {
	List    runsList    `cmd:"" default:"withargs" help:"List the runs, the newest first; some of them, or as JSON."`
	Show    runsShow    `cmd:"" help:"Print how a run ended."`
	Compare runsCompare `cmd:"" help:"Set two runs beside each other."`
	Name    runsName    `cmd:"" help:"Give a run a name."`
	Note    runsNote    `cmd:"" help:"Give a run a note."`
	Delete  runsDelete  `cmd:"" help:"Delete runs for good."`
}

type runsList struct {
	Trial   string `placeholder:"NAME" help:"Those of this trial alone."`
	Verdict string `default:"any" enum:"${verdicts}" help:"${runs_verdict}"`
	Since   string `placeholder:"WHEN" help:"${runs_since}"`
	Search  string `placeholder:"TEXT" help:"Those with this text in their trial, name, note, target or reason."`
	JSON    bool   `name:"json" help:"As JSON, with each run's summary."`
}

// Run prints the kept runs as a table, or as JSON.
func (c runsList) Run(a *app) error {
	s, err := a.mustRuns()
	if err != nil {
		return err
	}
	runs, err := s.Runs()
	if err != nil {
		return err
	}
	since, err := sinceOf(c.Since, time.Now())
	if err != nil {
		return err
	}
	runs = slices.DeleteFunc(runs, func(r store.Run) bool {
		return !r.Is(store.Filter{Trial: c.Trial, Verdict: strings.TrimSuffix(c.Verdict, "any"), Search: c.Search,
			Since: since})
	})
	if c.JSON {
		return store.WriteJSON(os.Stdout, runs)
	}
	w := tabwriter.NewWriter(os.Stdout, 0, 0, 3, ' ', 0)
	fmt.Fprintln(w, "run\tname\tstarted\tclients\tlasted\tverdict\twhy\tnote")
	for _, r := range runs {
		fmt.Fprintf(w, "%d\t%s\t%s\t%d\t%s\t%s\t%s\t%s\n", r.ID, plain.Text(r.Title(), 40),
			r.Started.Local().Format("2006-01-02 15:04:05"), r.Clients, units.Clock(r.Elapsed), r.Outcome(),
			plain.Text(r.Why, 60), plain.Text(r.Note, 60))
	}
	return w.Flush()
}

// sinceOf reads a time: how long ago ("90m", "3d"), or a date with or without a time of day.
func sinceOf(text string, now time.Time) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	if days, is := strings.CutSuffix(text, "d"); is {
		if n, err := strconv.ParseFloat(days, 64); err == nil && n >= 0 {
			return now.Add(-time.Duration(n * 24 * float64(time.Hour))), nil
		}
	}
	if ago, err := time.ParseDuration(text); err == nil && ago >= 0 {
		return now.Add(-ago), nil
	}
	for _, layout := range []string{"2006-01-02 15:04:05", "2006-01-02 15:04", "2006-01-02T15:04:05Z07:00",
		"2006-01-02"} {
		if at, err := time.ParseInLocation(layout, text, now.Location()); err == nil {
			return at, nil
		}
	}
	return time.Time{}, fmt.Errorf("--since %q is neither how long ago (90m, 12h, 3d) nor a date (2026-11-30, "+
		"\"2026-11-30 14:00\")", text)
}

type runsCompare struct {
	A      int64  `arg:"" name:"run" help:"One run's number."`
	B      int64  `arg:"" name:"other" help:"The other's."`
	Format string `default:"text" enum:"text,csv,json,svg,pdf" help:"As what: ${enum}."`
	Output string `short:"o" default:"-" placeholder:"FILE" help:"Where to; the standard output if it is not given."`
}

// Run sets two kept runs beside each other.
func (c *runsCompare) Run(a *app) error {
	s, err := a.mustRuns()
	if err != nil {
		return err
	}
	var sides [2]*versus.Side
	for i, id := range []int64{c.A, c.B} {
		r, err := s.Run(id)
		if err != nil {
			return err
		}
		if sides[i], err = r.Side(); err != nil {
			return err
		}
	}
	out := os.Stdout
	if c.Output != "-" {
		if out, err = machine.CreatePrivate(c.Output); err != nil {
			return err
		}
	}
	if c.Format == "text" {
		versus.Print(out, sides[0], sides[1])
	} else {
		err = versus.Write(out, sides[0], sides[1], c.Format)
	}
	if out != os.Stdout {
		err = errors.Join(err, out.Close())
	}
	return err
}

type runsShow struct {
	ID int64 `arg:"" name:"run" help:"The run's number."`
}

// Run prints the same report as at the run's end, from the store.
func (c *runsShow) Run(a *app) error {
	r, snap, err := a.load(c.ID)
	if err != nil {
		return err
	}
	fmt.Printf("run %d: %s, trial %q, %s\n", r.ID, plain.Text(r.Title(), 60), plain.Text(r.Trial, 60),
		r.Started.Local().Format("2006-01-02 15:04:05"))
	if r.Note != "" {
		fmt.Println(plain.Text(r.Note, 500))
	}
	headless.Report(os.Stdout, snap)
	return nil
}

type runsName struct {
	ID   int64  `arg:"" name:"run" help:"The run's number."`
	Name string `arg:"" help:"The name."`
}

func (c *runsName) Run(a *app) error {
	return a.withRuns(func(s *store.Store) error { return s.Rename(c.ID, c.Name) })
}

type runsNote struct {
	ID   int64  `arg:"" name:"run" help:"The run's number."`
	Note string `arg:"" help:"The note."`
}

func (c *runsNote) Run(a *app) error {
	return a.withRuns(func(s *store.Store) error { return s.Annotate(c.ID, c.Note) })
}

type runsDelete struct {
	IDs []int64 `arg:"" name:"run" help:"The runs' numbers."`
}

func (c *runsDelete) Run(a *app) error {
	return a.withRuns(func(s *store.Store) error {
		for _, id := range c.IDs {
			if err := s.Delete(id); err != nil {
				return err
			}
		}
		return nil
	})
}

type exportCommand struct {
	ID      int64  `arg:"" name:"run" help:"The run's number."`
	View    string `required:"" enum:"${views}" help:"Which one: ${enum}."`
	Message int64  `default:"-1" placeholder:"N" help:"${export_message}"`
	Window  string `placeholder:"FROM..TO" help:"The seconds of the run to take; the whole run if it is not given."`
	Clients string `placeholder:"WHO" help:"Whose lanes: names separated by commas, a crew, a room, or problems."`
	All     bool   `help:"${all}"`
	Format  string `default:"svg" enum:"svg,pdf,csv,json" help:"As what: ${enum}."`
	Out     string `placeholder:"DIR" help:"${export_out}"`
	Output  string `short:"o" default:"-" placeholder:"FILE" help:"Where to; the standard output if it is not given."`
}

// Run writes a view of a kept run. The figures come from the same code that the screen
// uses.
func (c *exportCommand) Run(a *app) error {
	r, snap, err := a.load(c.ID)
	if err != nil {
		return err
	}
	req := export.Request{Run: snap, Version: Version, View: c.View, All: c.All, Name: fmt.Sprintf("run %d", r.ID)}
	if r.Name != "" {
		req.Name += ", " + r.Name
	}
	if req.From, req.To, err = parseWindow(c.Window); err != nil {
		return err
	}
	if req.Clients, _, err = snap.PickClients(c.Clients); err != nil {
		return err
	}
	if c.Message >= 0 {
		number := uint64(c.Message)
		req.Message = &number
	}
	if c.Out != "" {
		if c.View != "report" {
			return errors.New("--out is for --view report, which has several files; give --output FILE")
		}
		files, err := export.WriteReport(c.Out, req)
		if err == nil {
			fmt.Printf("wrote %s to %s\n", units.Plural(len(files), "file"), c.Out)
		}
		return err
	}
	if c.View == "report" && c.Format == "svg" { // its default
		c.Format = "pdf"
	}
	return writeExport(c.Output, req, c.Format)
}

// parseWindow reads FROM..TO in seconds.
func parseWindow(s string) (from, to int, err error) {
	if s == "" {
		return 0, 0, nil
	}
	a, b, ok := strings.Cut(s, "..")
	if ok {
		from, err = strconv.Atoi(a)
		if err == nil {
			to, err = strconv.Atoi(b)
		}
	}
	if !ok || err != nil || from < 0 || to <= from {
		return 0, 0, fmt.Errorf("--window %q is not FROM..TO in seconds, such as 20..30", s)
	}
	return from, to, nil
}
