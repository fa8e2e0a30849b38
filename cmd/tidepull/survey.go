package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/engine"
	"tidepull/internal/finding"
	"tidepull/internal/run"
	"tidepull/internal/survey"
	"tidepull/internal/trial"
	"tidepull/internal/trial/language"
)

type surveyCommand struct {
	File    string            `arg:"" help:"${survey_file}"`
	Target  string            `placeholder:"URL" help:"Survey the server at this address instead of the trial's."`
	Set     map[string]string `mapsep:"none" placeholder:"NAME=VALUE" help:"${set}"`
	For     time.Duration     `default:"10m" help:"Begin no experiment that would end later than this."`
	Only    []string          `placeholder:"WHICH" help:"${survey_only}"`
	Skip    []string          `placeholder:"WHICH" help:"Leave these weaknesses or experiments out."`
	Clients int               `placeholder:"N" help:"${survey_clients}"`
	Keep    string            `placeholder:"DIR" help:"Write the experiments into DIR, as trials that run alone."`
	Out     string            `placeholder:"DIR" help:"Write survey.json into DIR."`
	spreading
	remote
}

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
	parts, err := language.PartsOf(t.Source.Text, c.File, t.Source.Files)
	if err != nil {
		return err
	}
	if c.Out != "" {
		if err := run.TryOut(c.Out); err != nil {
			return err
		}
	}
	tag := "s" + strconv.FormatInt(time.Now().UnixMilli()%1e9, 36) // other rooms and names each time
	all, err := c.pick(survey.Compose(t, &parts, tag, c.Clients))
	if err != nil {
		return err
	}
	if c.Keep != "" {
		if err := keepExperiments(c.Keep, all); err != nil {
			return err
		}
	}
	c.announce(os.Stdout, t, all)
	results := c.experiment(a, all, o)
	rep := survey.Of(results)
	tellSurvey(os.Stdout, &rep)
	if c.Out != "" {
		b, err := json.MarshalIndent(rep, "", "  ")
		if err != nil {
			return fmt.Errorf("writing the survey: %w", err)
		}
		if err := run.WriteWhole(filepath.Join(c.Out, "survey.json"), append(b, '\n')); err != nil {
			return fmt.Errorf("writing the survey: %w", err)
		}
	}
	switch ran := slices.ContainsFunc(results, func(r survey.Result) bool { return r.Run != nil }); {
	case slices.ContainsFunc(rep.Rows, func(r survey.Row) bool { return r.State == survey.Found }), len(rep.Others) > 0:
		return &exitError{status: exitBroken}
	case !ran:
		return &exitError{status: exitNotProven}
	}
	return nil
}

// pick leaves out the experiments that were not asked for, by their names or by the weaknesses that they are about.
func (c *surveyCommand) pick(all []survey.Experiment) ([]survey.Experiment, error) {
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
			e.Lacks = "it was left out, as was asked for"
		}
	}
	return all, nil
}

// isAmong reports whether a list has an experiment's name, or the number of a weakness that it is about.
func isAmong(list []string, e *survey.Experiment) bool {
	return slices.ContainsFunc(list, func(which string) bool {
		n, err := strconv.Atoi(which)
		return which == e.Name || err == nil && slices.Contains(e.Rows, n)
	})
}

// keepExperiments writes experiments into a folder.
func keepExperiments(dir string, all []survey.Experiment) error {
	for _, e := range all {
		if e.Source == nil {
			continue
		}
		src, err := language.Format(e.Source, e.Name)
		if err != nil {
			src = e.Source
		}
		path := filepath.Join(dir, strings.ReplaceAll(e.Name, " ", "-")+".trial.hcl")
		if err := run.WriteWhole(path, src); err != nil {
			return fmt.Errorf("writing %s: %w", path, err)
		}
	}
	return nil
}

// announce says what is going to be done to the server.
func (c *surveyCommand) announce(w io.Writer, t *trial.Trial, all []survey.Experiment) {
	n := 0
	for _, e := range all {
		if e.Lacks == "" {
			n++
		}
	}
	fmt.Fprintf(w, "a survey of %s: %s, one after another, of some 20 s each\n"+
		"what is done to it: up to 40 clients at a time connect, enter rooms of their own, speak, leave, and some "+
		"vanish "+
		"without a word or break the protocol; nothing is restarted, killed or flooded\n",
		plain.Text(t.Hide(t.Target.Address), 200),
		units.Plural(n, "experiment"))
}

// experiment runs the experiments one after another.
func (c *surveyCommand) experiment(a *app, all []survey.Experiment, o language.Options) (results []survey.Result) {
	end := time.Now().Add(c.For)
	stopped := "" // why there are no more
	for i, e := range all {
		fmt.Printf("%2d of %d  %s: %s\n", i+1, len(all), e.Name, e.Shows)
		r := survey.Result{Experiment: e, Why: e.Lacks}
		if r.Why == "" {
			r.Why = stopped
		}
		if r.Why == "" {
			r, stopped = c.one(a, r, o, end)
		}
		fmt.Printf("         %s\n", outcomeOf(&r))
		results = append(results, r)
	}
	return results
}

// one runs an experiment, if it is over by then; stopped says why no other can follow it.
func (c *surveyCommand) one(a *app, r survey.Result, o language.Options, by time.Time) (_ survey.Result,
	stopped string) {

	name := r.Experiment.Name
	t, err := language.Parse(r.Experiment.Source, filepath.Join(filepath.Dir(c.File), name+".trial.hcl"), o)
	if err != nil {
		r.Why = "the trial's words do not go together in the experiment: " + firstLine(err.Error())
		return r, ""
	}
	if time.Now().Add(t.Length()).After(by) {
		r.Why = "there was no time left for it: --for allows more"
		return r, ""
	}
	l, err := a.start(t, run.Options{Loops: c.Loops, Workers: c.Workers})
	if err != nil {
		r.Why = err.Error()
		return r, ""
	}
	stopSignals := onSignals(l.Run, false)
	last := l.wait()
	stopSignals()
	var unreachable *engine.Unreachable
	switch {
	case errors.As(last.Err, &unreachable):
		stopped = fmt.Sprintf("the server did not answer any more after '%s'", name)
	case last.Stopped:
		stopped = "the survey was stopped before it"
	}
	return ended(r, last), stopped
}

// ended is the result of an experiment that was run.
func ended(r survey.Result, last *run.Snapshot) survey.Result {
	verdict, why := last.Outcome()
	switch {
	case last.Err != nil:
		r.Why = last.Err.Error()
		return r
	case verdict == run.NotProven:
		r.Why = "the experiment is not proven: " + why
	}
	r.Run = last
	return r
}

// outcomeOf says in one line what came of an experiment.
func outcomeOf(r *survey.Result) string {
	switch {
	case r.Run == nil:
		return "not done: " + plain.Text(r.Why, 300)
	case len(r.Run.Findings) > 0:
		var all []string
		for i := range r.Run.Findings {
			all = append(all, r.Run.Findings[i].Name())
		}
		return "found: " + strings.Join(all, ", ")
	case r.Why != "":
		return plain.Text(r.Why, 300)
	}
	return "nothing found in " + units.Plural(int(r.Run.Total.Counts.Sent), "message") + ", " +
		units.Count(r.Run.Total.Total.Owed) + " deliveries"
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
	for _, state := range []survey.State{survey.FollowsFrom, survey.NotFound, survey.NotTried} {
		first := true
		for _, row := range rep.Rows {
			if row.State != state {
				continue
			}
			if first {
				fmt.Fprintf(w, "\n%s:\n", state)
				first = false
			}
			fmt.Fprintf(w, "  %2d %s: %s\n", row.Weakness.Number, row.Weakness.Title, plain.Text(row.Says, 300))
		}
	}
	n := map[survey.State]int{}
	for _, row := range rep.Rows {
		n[row.State]++
	}
	fmt.Fprintf(w, "\nof %d weaknesses %d were found, %d not, and %d were not tried\n", len(rep.Rows), n[survey.Found],
		n[survey.NotFound]+n[survey.FollowsFrom], n[survey.NotTried])
}
