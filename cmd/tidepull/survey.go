package main

import (
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/finding"
	"tidepull/internal/run"
	"tidepull/internal/survey"
	"tidepull/internal/trial/language"
)

type surveyCommand struct {
	File   string            `arg:"" help:"${survey_file}"`
	Target string            `placeholder:"URL" help:"Survey the server at this address instead of the trial's."`
	Set    map[string]string `mapsep:"none" placeholder:"NAME=VALUE" help:"${set}"`
	Keep   string            `placeholder:"DIR" help:"Write the experiments into DIR, as trials that run alone."`
	surveying
	spreading
	remote
}

// surveying are the flags of a survey, of whatever server.
type surveying struct {
	For        time.Duration `default:"10m" help:"Begin no experiment that would end later than this."`
	Only       []string      `placeholder:"WHICH" help:"${survey_only}"`
	Skip       []string      `placeholder:"WHICH" help:"Leave these weaknesses or experiments out."`
	Clients    int           `placeholder:"N" help:"${survey_clients}"`
	TrialRooms bool          `help:"${survey_rooms}"`
	TrialNames bool          `help:"${survey_names}"`
	Out        string        `placeholder:"DIR" help:"${survey_out}"`
	Headless   bool          `help:"Print what comes of each experiment, and no screen."`
}

// options are those of its experiments, whose rooms and names begin with a tag.
func (c *surveying) options(tag string) survey.Options {
	return survey.Options{Tag: tag, Clients: c.Clients, TrialRooms: c.TrialRooms, TrialNames: c.TrialNames}
}

// defaultFor is the default of --for.
const defaultFor = 10 * time.Minute

// Run looks for every weakness that the trial's words allow to look for.
func (c *surveyCommand) Run(a *app) error {
	o := language.Options{Target: c.Target, Set: c.Set}
	t, err := language.Load(c.File, o)
	if err != nil {
		return err
	}
	if err := errors.Join(c.spreading.check(), c.mayRun(t)); err != nil {
		return err
	}
	s := newSurvey(a, t, c.File, o, c.surveying, c.spreading)
	s.may = c.mayRun
	if err := s.compose(); err != nil {
		return err
	}
	if c.Keep != "" {
		if err := keepExperiments(c.Keep, s.all, c.Target); err != nil {
			return err
		}
	}
	return s.carryOut()
}

// pick leaves out the experiments that were not asked for, by their names or by the weaknesses that they are about.
func (c *surveying) pick(all []survey.Experiment) ([]survey.Experiment, error) {
	for _, which := range slices.Concat(c.Only, c.Skip) {
		n, err := strconv.Atoi(which)
		if err == nil && n >= 1 && n <= len(finding.Catalogue) {
			continue
		}
		if !slices.ContainsFunc(all, func(e survey.Experiment) bool { return e.Name == which }) {
			var names []string
			for _, e := range all {
				names = append(names, "'"+e.Name+"'")
			}
			return nil, fmt.Errorf("there is no experiment %q; there are %s, and the weaknesses 1 to %d", which,
				strings.Join(names, ", "), len(finding.Catalogue))
		}
	}
	for i := range all {
		if e := &all[i]; len(c.Only) > 0 && !isAmong(c.Only, e) || isAmong(c.Skip, e) {
			e.Lacks, e.LeftOut = leftOut, true
		}
	}
	return all, nil
}

// leftOut is why an experiment is not done that was not asked for.
const leftOut = "it was left out, as was asked for"

// isAmong reports whether a list has an experiment's name, or the number of a weakness that it is about.
func isAmong(list []string, e *survey.Experiment) bool {
	return slices.ContainsFunc(list, func(which string) bool {
		n, err := strconv.Atoi(which)
		return which == e.Name || err == nil && slices.Contains(e.Rows, n)
	})
}

// keepExperiments writes experiments into a folder.
func keepExperiments(dir string, all []survey.Experiment, target string) error {
	for _, e := range all {
		if e.Source == nil {
			continue
		}
		src, err := language.Format(e.Source, e.Name)
		if err != nil {
			src = e.Source
		}
		if target != "" {
			src = append([]byte("# Run it with --target "+strconv.Quote(target)+".\n"), src...)
		}
		path := filepath.Join(dir, strings.ReplaceAll(e.Name, " ", "-")+".trial.hcl")
		if err := run.WriteWhole(path, src); err != nil {
			return fmt.Errorf("writing %s: %w", path, err)
		}
	}
	return nil
}

func firstLine(s string) string {
	line, _, _ := strings.Cut(s, "\n")
	return line
}

// tellSurvey prints what a survey found, what it did not find, and what it did not look for.
func tellSurvey(w io.Writer, rep *survey.Report) {
	for _, row := range rep.Rows {
		if f := row.Finding; row.State == survey.Found {
			fmt.Fprintf(w, "\n%d %s: %s\n", row.Weakness.Number, row.Weakness.Title, plain.Text(f.Says, 600))
			if f.Share != nil {
				fmt.Fprintf(w, "  how often: %s\n", f.Share.Words())
			}
			for _, e := range f.Evidence {
				fmt.Fprintf(w, "  seen: %s\n", plain.Text(e.Says, 400))
			}
			fmt.Fprintf(w, "  usually: %s\n  shown by: the experiment '%s'; to confirm: %s\n", f.Usually, row.Shown,
				f.Experiment)
		}
	}
	for _, f := range rep.Others {
		fmt.Fprintf(w, "\n%s: %s\n", f.Title, plain.Text(f.Says, 600))
	}
	told := map[string]bool{} // what several experiments show is said once
	for _, f := range rep.Also {
		if told[f.Title] {
			continue
		}
		told[f.Title] = true
		n := 0
		for _, other := range rep.Also {
			if other.Title == f.Title {
				n++
			}
		}
		fmt.Fprintf(w, "\nbesides: %s (in %s): %s\n", f.Title, units.Plural(n, "experiment"),
			plain.Text(f.Says, 600))
	}
	for _, state := range []survey.State{survey.Noted, survey.FollowsFrom, survey.NotFound, survey.NotTried} {
		first := true
		for _, row := range rep.Rows {
			if row.State != state {
				continue
			}
			if first {
				fmt.Fprintf(w, "\n%s:\n", state)
				first = false
			}
			fmt.Fprintf(w, "  %2d %s: %s\n", row.Weakness.Number, row.Weakness.Title, plain.Text(row.Says, 800))
		}
	}
	n := rep.Count()
	fmt.Fprintf(w, "\nof %d weaknesses %d were found, %d follow from those, %d are noted, %d were looked for and not "+
		"found, and %d were not tried\n", len(rep.Rows), n[survey.Found], n[survey.FollowsFrom], n[survey.Noted],
		n[survey.NotFound], n[survey.NotTried])
}
