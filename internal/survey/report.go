package survey

import (
	"slices"
	"strconv"

	"tidepull/internal/finding"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/run"
)

// State is what a survey says of one weakness.
type State string

// The states.
const (
	Found    State = "found"
	NotFound State = "not found"
	NotTried State = "not tried"
	// FollowsFrom is of what was seen of a weakness, and is there as another one was found.
	FollowsFrom State = "follows from another"
)

// follows says what is seen besides a weakness, by its number: a member that the server does not know is missing
// in its numbers, and one that is left over is one too many; what is held back, or overtaken, is not where it
// should be in a history.
var follows = []struct {
	cause  int
	others []int
}{{36, []int{1, 27}}, {1, []int{27}}, {5, []int{27}}, {31, []int{27}}, {10, []int{11}}, {14, []int{11}},
	{41, []int{11}}}

// A Row is one weakness, and what the survey says of it.
type Row struct {
	Weakness *finding.Weakness `json:"weakness"`
	State    State             `json:"state"`
	// Says is how rare it can be without having been seen, or why it was not tried; of one that was found, the
	// finding has it.
	Says    string           `json:"says"`
	Finding *finding.Finding `json:"finding,omitempty"`
	Shown   string           `json:"shown_by,omitempty"` // the experiment
}

// A Result is how one experiment ended.
type Result struct {
	Experiment Experiment
	Run        *run.Snapshot // nil: it was not run
	Why        string        // of one that was not run, or says nothing
}

// A Report is what a survey says.
type Report struct {
	Rows []Row
	// Others are findings that are none of the weaknesses.
	Others []finding.Finding
}

// Of makes the report of some experiments.
func Of(results []Result) Report {
	var rep Report
	for _, w := range finding.Catalogue {
		row := Row{Weakness: w, State: NotTried, Says: "no experiment of the survey is about it yet"}
		row.look(results)
		rep.Rows = append(rep.Rows, row)
	}
	// Two that enter at nearly one time by chance are not seen to be a crowd: what tells is whether one alone is safe.
	if !slices.ContainsFunc(results, func(r Result) bool { return r.finds(36) && r.isAbout(36) }) {
		rep.follow(1, 36)
	}
	for _, f := range follows {
		for _, n := range f.others {
			rep.follow(f.cause, n)
		}
	}
	for i := range results {
		if r := results[i].Run; r != nil {
			for _, f := range r.Findings {
				if f.Weakness == 0 {
					rep.Others = append(rep.Others, f)
				}
			}
		}
	}
	return rep
}

// follow has what was seen of one weakness follow from another, if both were found.
func (rep *Report) follow(cause, n int) {
	if row := &rep.Rows[n-1]; rep.Rows[cause-1].State == Found && row.State == Found {
		row.State = FollowsFrom
		row.Says = "what was seen of it follows from no. " + strconv.Itoa(cause) + ": " + row.Says
	}
}

// isAbout reports whether an experiment is about a weakness.
func (r *Result) isAbout(n int) bool { return slices.Contains(r.Experiment.Rows, n) }

// finds reports whether an experiment found a weakness.
func (r *Result) finds(n int) bool {
	return r.Run != nil && slices.ContainsFunc(r.Run.Findings, func(f finding.Finding) bool { return f.Weakness == n })
}

// look finds what experiments say of the row: a finding of any of them counts, and that there is none only of those
// that are about it.
func (row *Row) look(results []Result) {
	for i := range results {
		r := &results[i]
		about := r.isAbout(row.Weakness.Number)
		if r.Run == nil {
			if about && row.State == NotTried {
				row.Says = r.Why
			}
			continue
		}
		for k := range r.Run.Findings {
			if f := &r.Run.Findings[k]; f.Weakness == row.Weakness.Number {
				row.State, row.Says, row.Finding, row.Shown = Found, f.Says, f, r.Experiment.Name
				return
			}
		}
		switch n := chances(r.Run.Total, r.Experiment.Of); {
		case !about || row.State == NotFound:
		case r.Experiment.Blind[row.Weakness.Number] != "":
			row.Says = r.Experiment.Blind[row.Weakness.Number]
		case r.Why != "":
			row.Says = r.Why
		case n < 3:
			row.Says = "the experiment came to nothing: too few " + string(r.Experiment.Of)
		default:
			row.State, row.Says, row.Shown = NotFound, finding.Unseen(n, string(r.Experiment.Of)), r.Experiment.Name
		}
	}
}

// chances is how often a weakness could have shown itself in a run.
func chances(w *logbook.Window, of Unit) int64 {
	switch of {
	case Entries:
		return w.Counts.Entries
	case Messages:
		return w.Counts.Sent
	}
	return w.Total.Owed - w.Total.Excused
}
