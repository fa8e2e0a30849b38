package run

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"tidepull/internal/base/units"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
)

// Verdict is what a run says about a limit, or about the whole trial.
// docs/verdict.md explains them.
type Verdict string

// The verdicts.
const (
	Holds     Verdict = "holds"
	Broken    Verdict = "broken"
	NotProven Verdict = "not proven"
)

// maxOverloaded is the share of a run's time in which the tool may have been
// the bottleneck before a limit that holds counts as not proven.
const maxOverloaded = 0.05

// A Judgement is what became of one limit.
type Judgement struct {
	Limit    trial.Limit
	Unit     logbook.Unit
	Measured float64 // microseconds where Unit is Duration
	Early    float64 // what it is at the other end of what is known of it; Measured if it is known exactly
	Verdict  Verdict
	Why      string // of NotProven
}

// Clean reports whether an entry is of a second in which neither the tool nor
// the machine was the bottleneck.
func Clean(e *logbook.Entry) bool { return e.Health.Overload == 0 }

// implied are the figures that must be 0 in every run, unless the trial has a
// limit of its own on the figure, or on the wider one beside it: what a
// developer must know of even if nobody asked.
var implied = []struct{ name, figure, wider string }{
	{"no client is refused", "clients.refused", ""},
	{"no client is denied", "clients.denied", ""},
	{"no connection is broken by the server", "clients.broken", ""},
	{"every client that was cut off comes back", "returns.gave_up", ""},
	{"the server keeps to the protocol", "clients.malformed", ""},
	{"every message could be said", "messages.unsent", ""},
	{"nothing is lost", "ledger.lost", ""},
	{"nothing comes twice", "ledger.duplicate", ""},
	{"nothing comes to the wrong clients", "ledger.stray", ""},
	{"nothing comes altered", "ledger.altered", ""},
	{"each sender's messages come in order", "ledger.reordered", ""},
	{"all get the same order", "ledger.disagreed", ""},
	{"nobody is announced falsely", "announcements.stray", ""},
	{"clients that give no sign of life are closed", "pulse.not_evicted", ""},
	{"they are closed by the deadline", "pulse.evicted_late", ""},
	{"clients that give their signs of life are not closed", "pulse.hasty", ""},
	{"every heartbeat of the server comes", "pulse.missing", ""},
	{"the server's heartbeats come in time", "pulse.late", ""},
	{"no connection stays on the server", "server.connections_left", ""},
	{"nobody stays a member", "server.members_left", ""},
	{"nobody stays announced as present", "server.presence_left", ""},
	{"every expectation is met", "expectations.missed", "checks.failed"},
	{"every other check passes", "checks.failed_otherwise", "checks.failed"},
}

// Limits are the limits that a run of a trial is held against: its own and the
// implied ones.
func Limits(t *trial.Trial) []trial.Limit {
	all := slices.Clone(t.Limits)
	own := func(figure string) bool {
		return slices.ContainsFunc(t.Limits, func(l trial.Limit) bool { return l.Figure == figure })
	}
	comeBack := slices.ContainsFunc(t.Crews, func(c trial.Crew) bool { return c.Return != nil })
	for _, i := range implied {
		switch {
		case i.figure == "returns.gave_up" && !comeBack, !named(t, gaugeLeft(i.figure)),
			strings.HasPrefix(i.figure, "pulse.") && !promises(t, i.figure):
			continue
		}
		if !own(i.figure) && (i.wider == "" || !own(i.wider)) {
			all = append(all, trial.Limit{Name: i.name, Figure: i.figure, Rule: trial.AtMost, Implied: true})
		}
	}
	return all
}

// promises reports whether a trial says something of heartbeats that a figure is about.
func promises(t *trial.Trial, figure string) bool {
	p := t.Target.Promise
	switch {
	case p == nil:
		return false
	case figure == "pulse.not_evicted" || figure == "pulse.evicted_late":
		return p.Deadline > 0
	case figure == "pulse.missing" || figure == "pulse.late":
		return p.Server
	}
	return true
}

// gaugeLeft gives which of the things that a server says of itself a figure is what is left of;
// -1: of none.
func gaugeLeft(figure string) int {
	return slices.IndexFunc(logbook.ServerGauges[:], func(name string) bool { return figure == "server."+name+"_left" })
}

// named reports whether a trial says what one of the server's gauges is called, if it is one.
func named(t *trial.Trial, gauge int) bool {
	return gauge < 0 || t.Server != nil && t.Server.Gauges[gauge] != ""
}

// whyOf says why the seconds that are not in the clean window do not count.
func whyOf(total *logbook.Window) string {
	if words := total.Why.Words(); words != "" {
		return words
	}
	return "the tool itself sent some messages late"
}

// Judge holds a run, or a part of it, against limits. clean is the sum of the
// seconds in which neither the tool nor the machine was the bottleneck, without
// the messages that the tool itself sent late. Latencies are taken from clean.
// What is counted breaks a limit if it does in clean; if it does in total alone,
// nothing is proven.
func Judge(limits []trial.Limit, total, clean *logbook.Window) []Judgement {
	doubtful := float64(total.Doubtful) > maxOverloaded*float64(total.Span)
	judgements := make([]Judgement, len(limits))
	for i, l := range limits {
		judgements[i] = judge(l, total, clean)
		if j := &judgements[i]; j.Verdict == Holds && doubtful && !logbook.FigureNamed(l.Figure).Self() {
			j.Verdict, j.Why = NotProven, total.Why.Bottleneck().Words()
		}
	}
	return judgements
}

func judge(l trial.Limit, total, clean *logbook.Window) Judgement {
	f := logbook.FigureNamed(l.Figure)
	j := Judgement{Limit: l, Unit: f.Unit, Verdict: Holds}
	of, measured := f.Of(total)
	j.Measured = of
	from := total // where the figure is read
	inClean, measuredClean := f.Of(clean)
	if f.Unit == logbook.Duration && !f.Self() {
		if measured && !measuredClean { // of all that there is, for want of anything better
			j.Early, j.Verdict, j.Why = f.Early(total), NotProven, whyOf(total)
			return j
		}
		j.Measured, of, from = inClean, inClean, clean
	}
	j.Early = f.Early(from)
	switch {
	case measured && l.Holds(of) != l.Holds(j.Early):
		j.Verdict, j.Why = NotProven, "several messages were read together: it lies between "+j.bounds()
	case !measured && l.Implied && (gaugeLeft(l.Figure) < 0 || !total.Server.Over):
	case !measured:
		j.Verdict, j.Why = NotProven, nothingMeasured
	case l.Holds(of):
	case f.Certain(), l.Exceeded(inClean), total.Overloaded == 0 && of == inClean:
		j.Verdict = Broken
	default:
		j.Verdict, j.Why = NotProven, whyOf(total)
	}
	return j
}

// bounds says between what the figure lies.
func (j *Judgement) bounds() string {
	duration := j.Unit == logbook.Duration
	return units.Figure(duration, min(j.Early, j.Measured)) + " and " + units.Figure(duration, max(j.Early, j.Measured))
}

// Deaf says that nothing of all that came was recognised, if that is so: the dialect is
// another server's, most of the time.
func (s *Snapshot) Deaf() string {
	if s.Total == nil || s.Total.Counts.Arrivals == 0 || s.Total.Counts.Unknown < s.Total.Counts.Arrivals {
		return ""
	}
	return fmt.Sprintf("the dialect %q recognised none of the %d messages that came", s.Trial.Dialect.Name,
		s.Total.Counts.Arrivals)
}

const nothingMeasured = "nothing was measured"

// Pending reports whether a limit has yet to meet something it could be held
// against.
func (s *Snapshot) Pending(j *Judgement) bool {
	return !s.Finished && j.Verdict == NotProven && j.Why == nothingMeasured
}

// Judged reports whether a limit that is not pending is judged so.
func (s *Snapshot) Judged(v Verdict) bool {
	return slices.ContainsFunc(s.Judgements, func(j Judgement) bool { return j.Verdict == v && !s.Pending(&j) })
}

// Overall sums up what a run says; see Outcome.
func (s *Snapshot) Overall() Verdict {
	v, _ := s.Outcome()
	return v
}

// Outcome sums up what a run says, and why in one line: a broken limit or
// question breaks the trial; otherwise it is not proven if the run was not
// whole, nothing was measured, or a limit is not proven.
func (s *Snapshot) Outcome() (Verdict, string) {
	whole := s.Finished && !s.Stopped && s.Err == nil
	if s.Err != nil && !errors.Is(s.Err, context.Canceled) {
		return NotProven, s.Err.Error() // unreachable, most of the time: nothing else matters
	}
	v, why := outcomeOf(s, whole)
	switch {
	case v == Broken:
	case s.Finished && !whole:
		return NotProven, fmt.Sprintf("the run was cut short after %s of %s",
			units.Duration(s.Elapsed.Round(100*time.Millisecond)), units.Duration(s.Trial.Length()))
	case s.Total == nil || s.Total.Counts.Started == 0:
		return NotProven, nothingMeasured
	case s.Total.Counts.Hindered > 0:
		return NotProven, fmt.Sprintf("%d connections could not be opened: %s", s.Total.Counts.Hindered, whyOf(s.Total))
	case s.Total.Counts.Opened == 0 && s.Total.Counts.Requests == 0:
		return NotProven, nothingMeasured
	}
	return v, why
}

// outcomeOf sums up the limits and the questions.
func outcomeOf(s *Snapshot, whole bool) (Verdict, string) {
	var broken, open []string
	for i := range s.Judgements {
		switch j := &s.Judgements[i]; {
		case j.Verdict == Broken && (whole || j.Limit.Exceeded(j.Measured)):
			broken = append(broken, j.String()+s.mostly(j.Limit.Figure))
		case j.Verdict == NotProven:
			open = append(open, fmt.Sprintf("%s: %s", j.Limit.Name, j.Why))
		}
	}
	for _, r := range s.FinalResults {
		if r.Verdict == Broken {
			broken = append(broken, fmt.Sprintf("%s: %s", r.Name, r.Why))
		}
	}
	switch {
	case len(broken) > 0:
		return Broken, firstOf(broken)
	case len(open) > 0:
		return NotProven, firstOf(open)
	}
	implied := 0
	for _, j := range s.Judgements {
		if j.Limit.Implied {
			implied++
		}
	}
	return Holds, fmt.Sprintf("all %d limits hold, %d of them implied", len(s.Judgements), implied)
}

// reasonsOf are the beginnings of the reasons that belong to a figure.
var reasonsOf = map[string]string{"clients.refused": "refused: ", "clients.denied": "denied: ",
	"clients.broken": "broken: ", "clients.malformed": "broken: ",
	"messages.unsent": "unsent: ", "expectations.missed": "missed: ", "checks.failed": "check ",
	"checks.failed_otherwise": "check ", "announcements.stray": "announced falsely: "}

// mostly gives the most frequent reason behind a figure, as an addition to a
// sentence; "" if none is known.
func (s *Snapshot) mostly(figure string) string {
	begins, known := reasonsOf[figure]
	top, most := "", 0
	for text, n := range s.Reasons {
		if why, is := strings.CutPrefix(text, begins); known && is && (n > most || n == most && why < top) {
			top, most = why, n
		}
	}
	if top == "" {
		return ""
	}
	return fmt.Sprintf(" (%d x %s)", most, top)
}

func firstOf(all []string) string {
	if len(all) > 1 {
		return fmt.Sprintf("%s; and %d more", all[0], len(all)-1)
	}
	return all[0]
}

// Wanted says what the limit is.
func (j *Judgement) Wanted() string {
	f := logbook.FigureNamed(j.Limit.Figure)
	return fmt.Sprintf("%s %s %s", j.Limit.Figure, j.Limit.Rule.Words(),
		units.Figure(f.Unit == logbook.Duration, j.Limit.Value))
}

// String says what was measured and what was wanted.
func (j *Judgement) String() string {
	return fmt.Sprintf("%s: %s is %s, wanted %s %s", j.Limit.Name, j.Limit.Figure,
		units.Figure(j.Unit == logbook.Duration, j.Measured), j.Limit.Rule.Words(),
		units.Figure(j.Unit == logbook.Duration, j.Limit.Value))
}
