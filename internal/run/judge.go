package run

import (
	"slices"

	"tidepull/internal/logbook"
	"tidepull/internal/trial"
)

// Verdict is what a run says about a limit, or about the whole trial.
type Verdict string

// The verdicts.
const (
	Holds     Verdict = "holds"
	Broken    Verdict = "broken"
	NotProven Verdict = "not proven"
)

// MaxOverloaded is the share of a run's seconds in which the tool may have been
// the bottleneck before a limit that holds counts as not proven.
const MaxOverloaded = 0.05

// A Judgement is what became of one limit.
type Judgement struct {
	Limit    trial.Limit
	Unit     logbook.Unit
	Measured float64 // microseconds where Unit is Duration
	Verdict  Verdict
	Why      string // of NotProven
}

// Clean tells of a second in which the tool was not the bottleneck.
func Clean(e *logbook.Entry) bool { return e.Health.Overload == 0 }

// Judge holds a run, or a part of it, against limits. Latencies are taken from
// clean, the sum of the seconds in which the tool was not the bottleneck; what
// is counted, from the total.
func Judge(limits []trial.Limit, total, clean *logbook.Window) []Judgement {
	crowded := float64(total.Overloaded) > MaxOverloaded*float64(total.Seconds)
	judgements := make([]Judgement, len(limits))
	for i, l := range limits {
		f := logbook.FigureNamed(l.Figure)
		from := total
		if f.Unit == logbook.Duration && !f.Self() {
			from = clean
		}
		j := Judgement{Limit: l, Unit: f.Unit, Verdict: Holds}
		var measured bool
		j.Measured, measured = f.Of(from)
		switch {
		case !measured:
			j.Verdict, j.Why = NotProven, nothingMeasured
		case !l.Holds(j.Measured):
			j.Verdict = Broken
		case crowded && !f.Self():
			j.Verdict, j.Why = NotProven, "the tool was the bottleneck"
		}
		judgements[i] = j
	}
	return judgements
}

const nothingMeasured = "nothing was measured"

// Pending tells whether a limit has yet to meet something it could be held
// against.
func (s *Snapshot) Pending(j *Judgement) bool {
	return !s.Finished && j.Verdict == NotProven && j.Why == nothingMeasured
}

// Judged tells whether a limit that is not pending is judged so.
func (s *Snapshot) Judged(v Verdict) bool {
	return slices.ContainsFunc(s.Judgements, func(j Judgement) bool { return j.Verdict == v && !s.Pending(&j) })
}

// Overall sums up what a run says: one broken limit, or one reckoning that does
// not hold, breaks the trial.
func (s *Snapshot) Overall() Verdict {
	v := Overall(s.Judgements)
	for _, r := range s.Reckoned {
		if r.Verdict == Broken {
			return Broken
		}
	}
	return v
}

// Overall sums judgements up: one broken limit breaks the trial.
func Overall(judgements []Judgement) Verdict {
	v := Holds
	for _, j := range judgements {
		switch {
		case j.Verdict == Broken:
			return Broken
		case j.Verdict == NotProven:
			v = NotProven
		}
	}
	return v
}
