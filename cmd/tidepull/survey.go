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
	"tidepull/internal/engine/machine"
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
		if err := os.WriteFile(filepath.Join(c.Out, "survey.json"), append(b, '\n'), 0o600); err != nil {
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

// pick takes the experiments that were asked for, by their names or by the weaknesses that they are about.
func (c *surveyCommand) pick(all []survey.Experiment) ([]survey.Experiment, error) {
	of := func(which string) (func(*survey.Experiment) bool, error) {
		if n, err := strconv.Atoi(which); err == nil && n >= 1 && n <= len(finding.Catalogue) {
			return func(e *survey.Experiment) bool { return slices.Contains(e.Rows, n) }, nil
		}
		if !slices.ContainsFunc(all, func(e survey.Experiment) bool { return e.Name == which }) {
			var names []string
			for _, e := range all {
				names = append(names, "'"+e.Name+"'")
			}
			return nil, fmt.Errorf("there is no experiment %q; there are %s, and the weaknesses 1 to %d", which,
				strings.Join(names, ", "), len(finding.Catalogue))
		}
		return func(e *survey.Experiment) bool { return e.Name == which }, nil
	}
	is := func(list []string) (func(*survey.Experiment) bool, error) {
		var any []func(*survey.Experiment) bool
		for _, which := range list {
			one, err := of(which)
			if err != nil {
				return nil, err
			}
			any = append(any, one)
		}
		return func(e *survey.Experiment) bool {
			return slices.ContainsFunc(any, func(one func(*survey.Experiment) bool) bool { return one(e) })
		}, nil
	}
	only, err := is(c.Only)
	if err != nil {
		return nil, err
	}
	skip, err := is(c.Skip)
	if err != nil {
		return nil, err
	}
	for i := range all {
		if e := &all[i]; len(c.Only) > 0 && !only(e) || skip(e) {
			e.Lacks = "it was left out, as was asked for"
		}
	}
	return all, nil
}

// keepExperiments writes experiments into a folder.
func keepExperiments(dir string, all []survey.Experiment) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	for _, e := range all {
		if e.Source == nil {
			continue
		}
		src, err := language.Format(e.Source, e.Name)
		if err != nil {
			src = e.Source
		}
		path := filepath.Join(dir, strings.ReplaceAll(e.Name, " ", "-")+".trial.hcl")
		f, err := machine.CreatePrivate(path)
		if err != nil {
			return err
		}
		_, err = f.Write(src)
		if err := errors.Join(err, f.Close()); err != nil {
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
	stopped := ""
	for i, e := range all {
		r := survey.Result{Experiment: e, Why: e.Lacks}
		t, err := (*trial.Trial)(nil), error(nil)
		if r.Why == "" && stopped != "" {
			r.Why = stopped
		}
		if r.Why == "" {
			if t, err = language.Parse(e.Source, filepath.Join(filepath.Dir(c.File), e.Name+".trial.hcl"),
				o); err != nil {
				r.Why = "the trial's words do not go together in the experiment: " + firstLine(err.Error())
			} else if time.Now().Add(t.Length()).After(end) {
				r.Why = "there was no time left for it: --for allows more"
			}
		}
		fmt.Printf("%2d of %d  %s: %s\n", i+1, len(all), e.Name, e.Shows)
		if r.Why != "" {
			fmt.Printf("         not done: %s\n", plain.Text(r.Why, 300))
			results = append(results, r)
			continue
		}
		l, err := a.start(t, run.Options{Loops: c.Loops, Workers: c.Workers})
		if err != nil {
			r.Why = err.Error()
			fmt.Printf("         not done: %s\n", plain.Text(r.Why, 300))
			results = append(results, r)
			continue
		}
		stopSignals := onSignals(l.Run, false)
		last := l.wait()
		stopSignals()
		r = ended(r, last)
		var unreachable *engine.Unreachable
		switch {
		case errors.As(last.Err, &unreachable):
			stopped = fmt.Sprintf("the server did not answer any more after '%s'", e.Name)
		case last.Stopped:
			stopped = "the survey was stopped before it"
		}
		fmt.Printf("         %s\n", outcomeOf(&r))
		results = append(results, r)
	}
	return results
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
