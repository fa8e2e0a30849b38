package run

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"tidepull/internal/base/plain"
	"tidepull/internal/base/units"
	"tidepull/internal/engine"
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

// leastLoad is the share of the planned load, in percent, below which what holds is not
// proven, if the trial does not say otherwise.
const leastLoad = 95

// A Judgement is what became of one limit.
type Judgement struct {
	Limit    trial.Limit
	Unit     logbook.Unit
	Measured float64 // microseconds where Unit is Duration
	Early    float64 // what it is at the other end of what is known of it; Measured if it is known exactly
	Without  int     // seconds that are left out of Measured, because of the tool or the machine
	Rests    int64   // if Without is not 0: on how many samples Measured rests
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
	{"no connection is broken by the server, of clients that come back", "returns.unprovoked", ""},
	{"every client that was cut off comes back", "returns.gave_up", ""},
	{"the server keeps to the protocol", "clients.malformed", ""},
	{"every message could be said", "messages.unsent", ""},
	{"nothing is lost", "ledger.lost", ""},
	{"nothing comes twice", "ledger.duplicate", ""},
	{"nothing comes to the wrong clients", "ledger.stray", ""},
	{"nothing comes altered", "ledger.altered", ""},
	{"text comes as text, and bytes as bytes", "messages.other_type", ""},
	{"each sender's messages come in order", "ledger.reordered", ""},
	{"all get the same order", "ledger.disagreed", ""},
	{"nobody is announced falsely", "announcements.stray", ""},
	{"clients that give no sign of life are closed", "pulse.not_evicted", ""},
	{"they are closed by the deadline", "pulse.evicted_late", ""},
	{"clients that give their signs of life are not closed", "pulse.hasty", ""},
	{"every heartbeat of the server comes", "pulse.missing", ""},
	{"the server's heartbeats come in time", "pulse.late", ""},
	{"the server's heartbeats do not come more often than promised", "pulse.too_often", ""},
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
		case strings.HasPrefix(i.figure, "returns.") && !comeBack, !named(t, gaugeLeft(i.figure)),
			strings.HasPrefix(i.figure, "pulse.") && !promises(t, i.figure):
			continue
		}
		if !own(i.figure) && (i.wider == "" || !own(i.wider)) {
			all = append(all, trial.Limit{Name: i.name, Figure: i.figure, Rule: trial.AtMost, Implied: true})
		}
	}
	if !own("load.offered") {
		all = append(all, trial.Limit{Name: "the load is the planned one", Figure: "load.offered", Rule: trial.AtLeast,
			Value: leastLoad, Implied: true})
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
	case figure == "pulse.too_often":
		return p.Server && !p.AnyData
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

// whyOf says why what is in some seconds proves nothing.
func whyOf(total *logbook.Window) string {
	if words := total.Why.Words(); words != "" {
		return words
	}
	late := max(total.Times[logbook.ReadingLag].Max(), total.Times[logbook.ScheduleLag].Max())
	return fmt.Sprintf("it may be this machine's doing: programs waited for a core for up to %s at a time, the tool "+
		"was up to %s late", units.Duration(total.Kept), units.Duration(late))
}

// Judge holds a run, or a part of it, against limits. Three questions are taken apart:
//
//   - Was the load the planned one? If not, what holds is not proven.
//   - Is what breaks a limit the server's doing? Counts say so one by one, or by the seconds
//     in which they happened; latencies by those in which nothing was kept waiting.
//   - What holds with everything in it holds: slowness of the tool makes figures worse, never
//     better.
func Judge(limits []trial.Limit, ev *Evidence) []Judgement {
	judgements := make([]Judgement, len(limits))
	missed := ""
	for i, l := range limits {
		judgements[i] = judge(l, ev)
		if j := &judgements[i]; logbook.FigureNamed(l.Figure).Load() && j.Verdict == Broken {
			j.Verdict, j.Why = NotProven, loadWords(ev.Total)
			missed = j.Why
		} else if l.Implied && l.Figure == "messages.unsent" && j.Verdict == Broken {
			// The trial asked for what could not be, or the connection was gone, which is judged by itself.
			j.Verdict, j.Why = NotProven, units.Plural(int(j.Measured), "message")+" could not be said"
		}
	}
	for i := range judgements {
		if j := &judgements[i]; missed != "" && j.Verdict == Holds && !logbook.FigureNamed(j.Limit.Figure).Self() {
			j.Verdict, j.Why = NotProven, missed
		}
	}
	return judgements
}

// loadWords says how much of the planned load there was.
func loadWords(w *logbook.Window) string {
	share, _ := w.Counts.Load.Offered()
	words := fmt.Sprintf("the load was %s of what was planned", units.Percent(share))
	if why := w.Counts.Load.Words(); why != "" {
		words += " (" + why + ")"
	}
	return words
}

func judge(l trial.Limit, ev *Evidence) Judgement {
	f, total := logbook.FigureNamed(l.Figure), ev.Total
	j := Judgement{Limit: l, Unit: f.Unit, Verdict: Holds, Early: f.Early(total)}
	var measured bool
	j.Measured, measured = f.Of(total)
	switch {
	case !measured && l.Implied && (gaugeLeft(l.Figure) < 0 || !total.Server.Over):
	case !measured:
		j.Verdict, j.Why = NotProven, nothingMeasured
	case l.Holds(j.Measured) && l.Holds(j.Early):
	case f.Unit == logbook.Duration && !f.Self():
		j.tooLong(f, ev)
	case l.Holds(j.Measured) != l.Holds(j.Early):
		j.Verdict, j.Why = NotProven, j.readTogether(ev)
	case broken(&l, f, j.Measured, ev):
		j.Verdict = Broken
	default:
		j.Verdict, j.Why = NotProven, whyOf(total)
	}
	return j
}

// broken reports whether a count that does not hold is the server's doing.
func broken(l *trial.Limit, f *logbook.Figure, of float64, ev *Evidence) bool {
	if f.Self() || f.Certain() && l.Exceeded(of) {
		return true
	}
	if sure, known := f.Sure(ev.Total, ev.Clean); known && l.Exceeded(of) {
		return l.Exceeded(sure)
	}
	inClean, _ := f.Of(ev.Clean)
	return l.Exceeded(inClean) || ev.Total.Overloaded == 0 && of == inClean
}

// tooLong judges a latency that does not hold with everything in it: by the seconds in which
// neither the tool nor the machine can be why.
func (j *Judgement) tooLong(f *logbook.Figure, ev *Evidence) {
	quiet := ev.Clean
	if ev.quiet != nil {
		var err error
		if quiet, err = ev.quiet(j.Limit.Value); err != nil {
			j.Verdict, j.Why = NotProven, err.Error()
			return
		}
	}
	without := ev.Total.Seconds - quiet.Seconds
	all := without == 0 && ev.Total.SentLate == 0
	j.Verdict = NotProven
	of, some := f.Of(quiet)
	switch n, beyond := f.Samples(quiet, j.Limit.Value); {
	case all || some && !j.Limit.Holds(of) && beyond >= f.Enough():
		j.Measured, j.Early, j.Without, j.Rests = of, f.Early(quiet), without, n
		if j.Limit.Holds(j.Early) {
			j.Why = j.readTogether(ev)
			return
		}
		j.Verdict = Broken
	case some && j.Limit.Holds(of):
		j.Why = fmt.Sprintf("it is %s with %s, and %s without", units.Figure(true, j.Measured),
			leftOut(ev.Total, without), units.Figure(true, of))
	case n == 0:
		j.Why = fmt.Sprintf("it is %s, and rests on nothing but %s", units.Figure(true, j.Measured),
			leftOut(ev.Total, without))
	default:
		j.Why = fmt.Sprintf("it is %s with %s; without, %s of %s are beyond the limit, and %d are needed",
			units.Figure(true, j.Measured), leftOut(ev.Total, without), units.Count(beyond), units.Count(n), f.Enough())
	}
}

// leftOut says what a latency is not held against: some seconds, and what the tool sent late.
func leftOut(total *logbook.Window, seconds int) string {
	var parts []string
	if words := total.Why.Words(); seconds > 0 && words != "" {
		parts = append(parts, units.Plural(seconds, "second")+" in which "+words)
	} else if seconds > 0 {
		parts = append(parts, fmt.Sprintf("%s in which programs waited for a core for up to %s",
			units.Plural(seconds, "second"), units.Duration(total.Kept)))
	}
	if total.SentLate > 0 {
		parts = append(parts, units.Plural(int(total.SentLate), "message")+" that the tool sent late")
	}
	return strings.Join(parts, " and ")
}

// readTogether says that a figure is only known within bounds.
func (j *Judgement) readTogether(ev *Evidence) string {
	if strings.HasPrefix(j.Limit.Figure, "returns.") || strings.HasPrefix(j.Limit.Figure, "pulse.") {
		return "the tool read what came some time after it had: it lies between " + j.bounds()
	}
	if ev.Apart > 0 {
		return fmt.Sprintf("what passes between two machines is timed by both their clocks, which may be off by %s "+
			"together: "+
			"it lies between %s", units.Duration(ev.Apart), j.bounds())
	}
	return "several messages were read together: it lies between " + j.bounds()
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
func (s *Snapshot) Outcome() (Verdict, string) { return s.outcomeBut((*Snapshot).Unseen) }

// OutcomeOfRest is Outcome, whether announcements of who enters and leaves could be seen or not: for a question that
// has nothing to do with them.
func (s *Snapshot) OutcomeOfRest() (Verdict, string) { return s.outcomeBut((*Snapshot).unseenRest) }

// outcomeBut sums up what a run says; unseen gives what of it proves nothing, and is asked only of a whole run.
func (s *Snapshot) outcomeBut(unseen func(*Snapshot) []string) (Verdict, string) {
	v, why := s.outcome(unseen)
	if v == NotProven && s.wantOfMachine() {
		if pace := s.Pace(0, s.Entries.Count()).Says(); pace != "" {
			why += "; " + pace
		}
	}
	return v, why
}

func (s *Snapshot) outcome(unseen func(*Snapshot) []string) (Verdict, string) {
	whole := s.Finished && !s.Stopped && s.Err == nil
	if s.Err != nil && !errors.Is(s.Err, context.Canceled) {
		return NotProven, s.Err.Error() // unreachable, most of the time: nothing else matters
	}
	v, why := outcomeOf(s, whole, unseen)
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
	case s.Overloaded():
		return NotProven, s.tooBusy()
	}
	return v, why
}

// wantOfMachine reports whether a whole run is not proven because this machine could not do more.
func (s *Snapshot) wantOfMachine() bool {
	return s.Finished && !s.Stopped && s.Err == nil && s.Total != nil && (s.Overloaded() ||
		s.Total.Overloaded > 0 && slices.ContainsFunc(s.Judgements, func(j Judgement) bool {
			return j.Verdict == NotProven && j.Why != nothingMeasured
		}))
}

// Word is the verdict in a word: of a run that could not reach its server, that.
func (s *Snapshot) Word() string {
	var unreachable *engine.Unreachable
	if errors.As(s.Err, &unreachable) {
		return "unreachable"
	}
	verdict, _ := s.Outcome()
	return string(verdict)
}

// Overloaded reports whether a run is over and the load was not the planned one, so that what
// holds is not proven.
func (s *Snapshot) Overloaded() bool {
	return s.Finished && slices.ContainsFunc(s.Judgements, func(j Judgement) bool {
		return j.Verdict == NotProven && j.Why != nothingMeasured && logbook.FigureNamed(j.Limit.Figure).Load()
	})
}

// tooBusy says, in one sentence, why the load was not the planned one, what the server did all
// the same, and which load would have been.
func (s *Snapshot) tooBusy() string {
	l, t := &s.Total.Counts.Load, &s.Total.Total
	text := loadWords(s.Total)
	if l.Late > 0 || l.Behind >= l.Waited {
		text = "this machine was too busy for this load: " + text
	}
	switch came := t.Delivered + t.Late + t.CaughtUp; {
	case t.Owed > 0 && t.Lost == 0:
		text += fmt.Sprintf("; the server nonetheless delivered all %s that were owed", units.Count(came))
	case t.Owed > 0:
		text += fmt.Sprintf("; the server delivered %s of %s that were owed", units.Count(came), units.Count(t.Owed))
	}
	if most, of := s.loadKept(), s.Trial.Clients(); most > 0 && most < of {
		text += fmt.Sprintf("; the load was kept with up to %s of %s clients", units.Count(int64(most)),
			units.Count(int64(of)))
	}
	return text
}

// loadKept is the most clients that were connected in a second in which the load was the
// planned one.
func (s *Snapshot) loadKept() (most int) {
	for _, e := range s.Entries {
		if share, ok := e.Counts.Load.Offered(); ok && 100*share >= leastLoad {
			most = max(most, e.Gauges.Open)
		}
	}
	return most
}

// outcomeOf sums up the limits and the questions.
func outcomeOf(s *Snapshot, whole bool, unseen func(*Snapshot) []string) (Verdict, string) {
	var broken []string
	var open []openReason
	for i := range s.Judgements {
		switch j := &s.Judgements[i]; {
		case j.Verdict == Broken && (whole || j.Limit.Exceeded(j.Measured)):
			broken = append(broken, j.Says(s.Kinds(j))+s.mostly(j.Limit.Figure))
		case j.Verdict == NotProven:
			open = addReason(open, j.Limit.Name, j.Why+s.mostly(j.Limit.Figure))
		}
	}
	for _, r := range s.FinalResults {
		switch r.Verdict {
		case Broken:
			broken = append(broken, fmt.Sprintf("%s: %s", r.Name, r.Why))
		case NotProven:
			open = addReason(open, r.Name, r.Why)
		}
	}
	if whole {
		for _, why := range unseen(s) {
			open = addReason(open, "what was due could be seen", why)
		}
	}
	switch {
	case len(broken) > 0:
		if s.ServerSide.Ended != "" && !s.ServerSide.Listens { // it comes first: the rest may follow from it
			return Broken, s.ServerSide.Words()[0] + "; " + firstOf(broken)
		}
		return Broken, firstOf(broken)
	case len(open) > 0:
		return NotProven, open[0].String() + andMore(len(open)-1)
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
	"messages.unsent": "unsent: ", "messages.other_type": "of another type: ",
	"expectations.missed": "missed: ", "checks.failed": "check ",
	"checks.failed_otherwise": "check ", "announcements.stray": "announced falsely: "}

// mostly gives what all that a figure counts has in common, or the most frequent reason behind it, as an addition to
// a sentence; "" if neither is known.
func (s *Snapshot) mostly(figure string) string {
	if says := s.SharedBy(figure); says != "" {
		return "; " + says
	}
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
	return fmt.Sprintf("; %d x %s", most, top)
}

func firstOf(all []string) string { return all[0] + andMore(len(all)-1) }

func andMore(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprintf("; and %d more", n)
}

// An openReason is why some limits are not proven. Each is said once.
type openReason struct {
	names []string
	why   string
}

func addReason(all []openReason, name, why string) []openReason {
	for i := range all {
		if all[i].why == why {
			all[i].names = append(all[i].names, name)
			return all
		}
	}
	return append(all, openReason{[]string{name}, why})
}

func (r openReason) String() string {
	if n := len(r.names); n > 1 {
		return fmt.Sprintf("%s, and %s: %s", r.names[0], units.Plural(n-1, "other"), r.why)
	}
	return r.names[0] + ": " + r.why
}

// Wanted says what the limit is.
func (j *Judgement) Wanted() string {
	f := logbook.FigureNamed(j.Limit.Figure)
	return fmt.Sprintf("%s %s %s", j.Limit.Figure, j.Limit.Rule.Words(),
		units.Figure(f.Unit == logbook.Duration, j.Limit.Value))
}

// String says what was measured and what was wanted, and then the limit's name, which says the same in other words.
func (j *Judgement) String() string { return j.Says("") }

// Says is String with what was measured made plainer: of which kind it is.
func (j *Judgement) Says(kinds string) string {
	rule := j.Limit.Rule.Words()
	if j.Limit.Rule == trial.Equals {
		rule = "exactly"
	}
	return fmt.Sprintf("%s is %s%s%s, wanted %s %s (limit %q)", j.Limit.Figure,
		units.Figure(j.Unit == logbook.Duration, j.Measured), kinds, j.LeftOut(), rule,
		units.Figure(j.Unit == logbook.Duration, j.Limit.Value), plain.Text(j.Limit.Name, 200))
}

// LeftOut says which seconds are not in Measured; "" if all are.
func (j *Judgement) LeftOut() string {
	if j.Without == 0 {
		return ""
	}
	return fmt.Sprintf(" (of %s measured without %s)", units.Count(j.Rests), units.Plural(j.Without, "busy second"))
}
