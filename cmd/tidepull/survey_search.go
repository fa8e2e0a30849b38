package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/engine"
	"tidepull/internal/finding"
	"tidepull/internal/report/export"
	"tidepull/internal/run"
	"tidepull/internal/survey"
	"tidepull/internal/trial"
	"tidepull/internal/trial/language"
	"tidepull/internal/tui"
	screen "tidepull/internal/tui/surveying"
)

// A runningSurvey is one under way. One goroutine carries it out (search); what others may look at is behind mu.
type runningSurvey struct {
	app   *app
	trial *trial.Trial
	parts language.Parts
	file  string // the trial's
	read  language.Options
	flags surveying
	on    spreading
	may   func(*trial.Trial) error // may these clients be sent there?
	tag   string                   // in the names of rooms and clients: another one each time
	all   []survey.Experiment
	tell  io.Writer // a line for each experiment; nil: nobody
	began time.Time
	done  chan struct{}

	vain int // experiments that were done again for nothing, up to now

	stopped context.Context // ends when the survey is asked to
	stop    context.CancelFunc

	mu      sync.Mutex
	state   screen.State
	results []survey.Result
	run     *run.Run // the experiment under way, or nil
}

func newSurvey(a *app, t *trial.Trial, file string, read language.Options, flags surveying,
	on spreading) *runningSurvey {
	s := &runningSurvey{app: a, trial: t, file: file, read: read, flags: flags, on: on, began: time.Now(),
		done: make(chan struct{}), tag: "s" + strconv.FormatInt(time.Now().UnixMilli()%1e9, 36),
		state: screen.State{Target: t.Shown().Target.Address, Runs: map[string]*run.Snapshot{}}}
	s.stopped, s.stop = context.WithCancel(context.Background())
	return s
}

// compose makes the experiments.
func (s *runningSurvey) compose() (err error) {
	if s.flags.Out != "" {
		if err := run.TryOut(s.flags.Out); err != nil {
			return err
		}
	}
	if s.parts, err = language.PartsOf(s.trial.Source.Text, s.file, s.trial.Source.Files); err != nil {
		return err
	}
	s.parts.Set(s.read.Set)
	if s.all, err = s.flags.pick(survey.Compose(s.trial, &s.parts, s.flags.options(s.tag))); err != nil {
		return err
	}
	var known []survey.Result // before it begins
	for _, e := range s.all {
		rows := slices.DeleteFunc(slices.Clone(e.Rows), func(n int) bool { return e.Blind[n] != "" })
		s.state.Steps = append(s.state.Steps, screen.Step{Name: e.Name, Shows: e.Shows, Rows: rows,
			Skipped: e.Lacks != ""})
		if e.Lacks != "" {
			known = append(known, survey.Result{Experiment: e, Why: e.Lacks})
		}
	}
	s.state.Report, s.state.Does, s.state.Waits = survey.Of(known), s.does(), true
	return nil
}

// carryOut carries the survey out, on the screen or in lines, and tells what came of it.
func (s *runningSurvey) carryOut() error {
	if !s.flags.Headless && onTerminal() {
		go s.search()
		if err := tui.ShowSurvey(s); err != nil {
			s.Stop()
			<-s.done
			return err
		}
		s.Stop()
		<-s.done
	} else {
		s.tell = os.Stdout
		s.announce(s.tell)
		s.search()
	}
	rep := &s.state.Report
	tellSurvey(os.Stdout, rep)
	if s.flags.Out != "" {
		if _, err := s.write(s.flags.Out); err != nil {
			return err
		}
	}
	switch ran := slices.ContainsFunc(s.results, func(r survey.Result) bool { return r.Run != nil }); {
	case slices.ContainsFunc(rep.Rows, func(r survey.Row) bool { return r.State == survey.Found }), len(rep.Others) > 0:
		return &exitError{status: exitBroken}
	case !ran:
		return &exitError{status: exitNotProven}
	}
	return nil
}

// State implements tui.Survey.
func (s *runningSurvey) State() *screen.State {
	s.mu.Lock()
	defer s.mu.Unlock()
	state := s.state
	if s.run != nil {
		state.Run = s.run.Snapshot()
	}
	return &state
}

// Stop implements tui.Survey.
func (s *runningSurvey) Stop() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.stop()
	if s.run != nil {
		s.run.Stop()
	}
}

// Export implements tui.Survey: what is known so far goes into a folder of its own.
func (s *runningSurvey) Export() (string, error) {
	dir := s.flags.Out
	if dir == "" {
		dir = "survey-" + s.began.Format("2006-01-02-150405")
	}
	return s.write(dir)
}

// write writes what is known so far into a folder, and says where.
func (s *runningSurvey) write(dir string) (string, error) {
	s.mu.Lock()
	rep := export.SurveyReport{Version: Version, Target: s.state.Target, Trial: s.trial.Name, File: s.file,
		Began:  s.began,
		Report: s.state.Report, Results: slices.Clone(s.results)}
	s.mu.Unlock()
	files, err := rep.Write(dir)
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("%s: %s", dir, units.Plural(len(files), "file")), nil
}

// announce says what is going to be done to the server.
func (s *runningSurvey) announce(w io.Writer) {
	fmt.Fprintf(w, "a survey of %s: %s\n", plain.Text(s.state.Target, 200), s.does())
}

// does says what the survey does to the server.
func (s *runningSurvey) does() string {
	n, doings := 0, []string{}
	for i := range s.all {
		if e := &s.all[i]; e.Lacks == "" {
			n++
			if e.Harm != "" {
				doings = append(doings, e.Harm)
			}
		}
	}
	rooms := "rooms of their own"
	if o := s.flags.options(s.tag); o.HasTrialRooms(s.trial) {
		rooms = "the trial's rooms"
	}
	return fmt.Sprintf("%s, of some 20 s each; clients connect, enter %s, speak, leave, and some vanish without a "+
		"word%s", units.Plural(n, "experiment"), rooms, also(doings))
}

func also(doings []string) string {
	if len(doings) == 0 {
		return ""
	}
	return "; besides, " + strings.Join(doings, "; ")
}

// search runs the experiments one after another.
func (s *runningSurvey) search() {
	defer close(s.done)
	why := "" // why there are no more
	if s.tell == nil {
		select { // what it does can be read before it begins
		case <-time.After(toRead):
		case <-s.stopped.Done():
		}
		s.mu.Lock()
		s.state.Waits = false
		s.mu.Unlock()
	}
	for i, e := range s.all {
		s.mu.Lock()
		s.state.At = i
		s.mu.Unlock()
		tell := s.tell
		if e.LeftOut { // nobody wants to read of these
			tell = nil
		}
		if tell != nil {
			fmt.Fprintf(tell, "%2d of %d  %s: %s\n", i+1, len(s.all), e.Name, e.Shows)
		}
		r := survey.Result{Experiment: e, Why: e.Lacks}
		if r.Why == "" {
			r.Why = why
		}
		if r.Why == "" {
			r, why = s.one(r, i)
		}
		if tell != nil {
			fmt.Fprintf(tell, "         %s\n", outcomeOf(&r))
		}
		s.add(r)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.state.At, s.state.Over, s.state.Why = len(s.all), true, why
}

// toRead is for how long the screen shows what a survey does before it begins.
const toRead = 4 * time.Second

// add has what came of an experiment be known.
func (s *runningSurvey) add(r survey.Result) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.results = append(s.results, r)
	s.state.Report = survey.Of(s.results)
	if r.Run != nil {
		s.state.Runs = maps.Clone(s.state.Runs) // who looks at a state has its own
		s.state.Runs[r.Experiment.Name] = r.Run
	}
}

// one runs an experiment, the i-th, if it is over in time; stopped says why no other can follow it.
func (s *runningSurvey) one(r survey.Result, i int) (_ survey.Result, stopped string) {
	name := r.Experiment.Name
	t, err := s.parse(r.Experiment.Source, name)
	if err != nil {
		r.Why = "the trial's words do not go together in the experiment: " + firstLine(err.Error())
		return r, ""
	}
	if !s.hasTimeFor(t.Length()) {
		r.Why = "there was no time left for it: --for allows more"
		return r, ""
	}
	last, err := s.playUntilItSays(i, t)
	if err != nil {
		r.Why = err.Error()
		return r, ""
	}
	var unreachable *engine.Unreachable
	switch r = survey.Ended(r.Experiment, last); {
	case errors.As(last.Err, &unreachable):
		return r, fmt.Sprintf("the server did not answer any more after '%s'", name)
	case last.Stopped:
		return r, "the survey was stopped"
	case r.Experiment.Harsh:
		if r.NotWell = s.isWell(); r.NotWell != "" {
			return r, fmt.Sprintf("the server was not well any more after '%s'", name)
		}
	}
	return r, ""
}

// hasTimeFor reports whether what takes so long is over before the survey has to be.
func (s *runningSurvey) hasTimeFor(length time.Duration) bool {
	return !time.Now().Add(length).After(s.began.Add(s.flags.For))
}

// lengthAfter is how long the experiments after the i-th take.
func (s *runningSurvey) lengthAfter(i int) (sum time.Duration) {
	for _, e := range s.all[i+1:] {
		if e.Lacks != "" {
			continue
		}
		if t, err := s.parse(e.Source, e.Name); err == nil {
			sum += t.Length() + t.Grace
		}
	}
	return sum
}

// playUntilItSays runs the trial of the i-th experiment; again if it says nothing of what it is about, or of a part of
// that, as the machine was busy, and there is time for that and for those after it.
func (s *runningSurvey) playUntilItSays(i int, t *trial.Trial) (*run.Snapshot, error) {
	for try := 1; ; try++ {
		last, err := s.play(t)
		if err != nil {
			return nil, err
		}
		r := survey.Result{Experiment: s.all[i], Run: last}
		least, most := r.Mute()
		seconds := last.Total.Seconds
		busy := last.Err == nil && !last.Stopped && len(last.Findings) == 0 &&
			(4*least > seconds || 4*most > seconds && s.vain < mostInVain)
		if !busy {
			s.vain = 0
		}
		if !busy || try == mostTries || !s.hasTimeFor(t.Length()+s.lengthAfter(i)) {
			return last, nil
		}
		if s.vain++; s.tell != nil {
			fmt.Fprintf(s.tell, "         this machine kept it waiting in %d of %d seconds: once more\n", most, seconds)
		}
	}
}

const (
	// mostTries is how often an experiment is done that says nothing, as the machine was busy.
	mostTries = 3
	// mostInVain is how many repetitions in a row may have been for nothing: on a machine that is busy all the time,
	// the experiments at the end are worth more than a third try of those at the beginning.
	mostInVain = 4
)

// parse reads an experiment as if it stood beside the trial's file.
func (s *runningSurvey) parse(source []byte, name string) (*trial.Trial, error) {
	t, err := language.Parse(source, filepath.Join(filepath.Dir(s.file), name+".trial.hcl"), s.read)
	if err == nil && s.may != nil {
		err = s.may(t)
	}
	return t, err
}

// play runs a trial to its end.
func (s *runningSurvey) play(t *trial.Trial) (*run.Snapshot, error) {
	s.mu.Lock()
	if s.stopped.Err() != nil {
		s.mu.Unlock()
		return nil, errors.New("the survey was stopped before it")
	}
	l, err := s.app.start(t, run.Options{Loops: s.on.Loops, Workers: s.on.Workers})
	if err != nil {
		s.mu.Unlock()
		return nil, err
	}
	s.run = l.Run
	s.mu.Unlock()
	end := onSignals(l.Run, s.tell == nil)
	last := l.wait()
	end()
	s.mu.Lock()
	s.run = nil
	s.mu.Unlock()
	return last, nil
}

// isWell looks whether the server is as it was, and gives it some time to be; it says what is wrong, or "".
func (s *runningSurvey) isWell() (wrong string) {
	for pause := time.Second; pause <= longestRest; pause *= 2 {
		o := s.flags.options(fmt.Sprintf("%s-%d", s.tag, time.Now().UnixMilli()%1e6))
		t, err := s.parse(survey.Well(s.trial, &s.parts, o), "well")
		if err != nil {
			return ""
		}
		last, err := s.play(t)
		if err != nil || last.Stopped {
			return ""
		}
		if wrong = survey.IsWell(last); wrong == "" {
			return ""
		}
		select {
		case <-time.After(pause):
		case <-s.stopped.Done():
			return ""
		}
	}
	return wrong
}

// longestRest bounds how long the server may rest between two looks.
const longestRest = 8 * time.Second

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
		word := "noted: "
		if slices.ContainsFunc(r.Run.Findings, func(f finding.Finding) bool { return f.Severity != finding.Note }) {
			word = "found: "
		}
		return word + strings.Join(all, ", ")
	case r.Why != "":
		return plain.Text(r.Why, 300)
	}
	return "nothing found in " + units.Plural(int(r.Run.Total.Counts.Sent), "message") + ", " +
		units.Count(r.Run.Total.Total.Owed) + " deliveries"
}
