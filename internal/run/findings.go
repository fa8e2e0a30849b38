package run

import (
	"slices"
	"time"

	"tidepull/internal/finding"
	"tidepull/internal/measure/lane"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
)

// certainBy says of a figure whether what it counts is the server's doing for certain, by some evidence.
func certainBy(ev *Evidence) func(figure string) bool {
	return func(figure string) bool {
		none := trial.Limit{Name: figure, Figure: figure, Rule: trial.AtMost, Implied: true}
		return judge(none, ev).Verdict == Broken
	}
}

// Find gives the findings of a run as it stands.
func (s *Snapshot) Find() []finding.Finding {
	if s.Total == nil || s.certain == nil {
		return s.Findings
	}
	return finding.Of(s.facts())
}

// Compared says what came of comparing one thing with another in the run, by the number of the weakness that it is
// about, whether that is there or not.
func (s *Snapshot) Compared() map[int][]string {
	if s.Total == nil || s.certain == nil {
		return nil
	}
	return finding.Compared(s.facts())
}

// facts are what findings follow from.
func (s *Snapshot) facts() *finding.Facts {
	f := &finding.Facts{Trial: s.Trial, Elapsed: s.Elapsed, Over: s.Finished, Total: s.Total, Seconds: s.Entries,
		Rooms: s.Rooms, Names: s.Names, Events: s.Events, Kept: s.Kept, Sampled: s.Sampled, Unkept: s.Unkept,
		Certain: s.certain, Well: s.wellAfter, InCommon: s.SharedBy,
		Difference: func(number uint64, to ledger.Client) string {
			if d := s.DifferenceOf(number, to); d != nil {
				return DifferenceWords(d, true)
			}
			return ""
		}}
	for i := range s.Lanes {
		if r := &s.Lanes[i]; r.What == lane.Lost && r.Kind.Said() {
			f.Lost = append(f.Lost, finding.Lost{Number: r.Number, At: r.At, To: r.Client, Sender: r.Peer,
				Room: r.Room})
		}
	}
	for _, h := range s.Happened {
		f.Doings = append(f.Doings, finding.Doing{Name: h.Name, Do: h.Do, From: h.From, To: h.To})
	}
	if s.Finished && !s.ServerSide.Listens {
		f.ServerEnded = s.ServerSide.Ended
	}
	for _, r := range s.FinalResults {
		f.FinalChecks = append(f.FinalChecks, finding.FinalCheck{Name: r.Name, Why: r.Why, Failed: r.Verdict == Broken})
	}
	return f
}

// wellAfter reports whether, from when a message was sent until its grace time was over, neither the tool nor the
// machine stood still.
func (s *Snapshot) wellAfter(sent time.Duration) bool {
	from := int(sent / time.Second)
	to := int((sent+s.Trial.Grace)/time.Second) + 1
	return !slices.ContainsFunc(s.Entries.Between(from, to+1), func(e *logbook.Entry) bool {
		return e.Health.MayLose(s.Trial.Grace)
	})
}

// FindingOf gives the first finding that a figure counts; nil if there is none.
func (s *Snapshot) FindingOf(figure string) *finding.Finding {
	for i := range s.Findings {
		if slices.Contains(s.Findings[i].Figures, figure) {
			return &s.Findings[i]
		}
	}
	return nil
}
