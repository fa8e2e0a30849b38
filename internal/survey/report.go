package survey

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"tidepull/internal/base/units"
	"tidepull/internal/finding"
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
	// Noted is of what is right for some servers and wrong for others.
	Noted State = "noted"
)

// follows says what is seen besides a weakness, by its number, even in the experiments about that: a member that the
// server does not know is missing in its numbers, is not told who comes and goes, and misses what is said while it
// changes its transport; one that is left over is one too many, and nobody is told that it went; what is held back,
// or overtaken, is not where it should be in a history; one at another node misses what all miss together who entered
// there; what grows with the text takes so long for the largest that they count as lost.
var follows = []struct {
	cause  int
	others []int
}{ // in this order: what follows from one is no cause of another
	{25, []int{1, 11, 36, 39}},
	{26, []int{17}},
	{36, []int{1, 12, 20, 27, 39}},
	{1, []int{5, 20, 27, 39}},
	{5, []int{27, 39}},
	{31, []int{27}},
	{10, []int{9, 11, 12}},
	{14, []int{11}},
	{41, []int{11}},
	{35, []int{20}},
	{33, []int{11, 12}},
	{11, []int{12, 13, 33}},
	{40, []int{20, 32, 35}},
	{31, []int{12}},
	{17, []int{9, 29, 36}},
	{15, []int{14, 41}},
	{14, []int{41}},
	{42, []int{7, 28}},
	{7, []int{21, 22, 39}},
}

// alsoCounted are figures in which what follows from a weakness is counted besides: what a history has twice has come
// twice, and who is let go hears twice of others under its name.
var alsoCounted = map[int][]string{7: {"ledger.duplicate", "clients.broken", "returns.unprovoked"},
	11: {"ledger.duplicate", "ledger.lost"}, 21: {"ledger.duplicate"}, 33: {"ledger.lost"}}

// A Row is one weakness, and what the survey says of it.
type Row struct {
	Weakness *finding.Weakness `json:"weakness"`
	State    State             `json:"state"`
	// Says is how rare it can be without having been seen, or why it was not tried; of one that was found, the
	// finding has it.
	Says    string           `json:"says"`
	Finding *finding.Finding `json:"finding,omitempty"`
	Shown   string           `json:"shown_by,omitempty"`     // the experiment
	From    int              `json:"follows_from,omitempty"` // the weakness that it follows from
}

// A Result is how one experiment ended.
type Result struct {
	Experiment Experiment
	Run        *run.Snapshot    // nil: it was not run
	Why        string           // of one that was not run, or says nothing
	Compared   map[int][]string // what came of comparing, by the number of the weakness
	NotWell    string           // how the server was not well after it; "": it was, or was not looked at
}

// Ended is the result of an experiment that was run, and how the run ended.
func Ended(e Experiment, last *run.Snapshot) Result {
	if last.Err != nil {
		return Result{Experiment: e, Why: last.Err.Error()}
	}
	r := Result{Experiment: e, Run: last, Compared: last.Compared()}
	// Which weakness has to do with announcements is known here; the others do not need them to be seen.
	if verdict, why := last.OutcomeOfRest(); verdict == run.NotProven {
		r.Why = notProven + why
	}
	return r
}

// notProven is how it begins why such an experiment says nothing.
const notProven = "the experiment is not proven: "

// A Report is what a survey says.
type Report struct {
	Rows []Row
	// Others are findings that are none of the weaknesses, and Also those of them that may follow from what was found,
	// or are good to know.
	Others []finding.Finding
	Also   []finding.Finding
}

// Count is how many weaknesses there are of each state.
func (rep *Report) Count() map[State]int {
	n := map[State]int{}
	for i := range rep.Rows {
		n[rep.Rows[i].State]++
	}
	return n
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
	if !findsItself(results, 36) {
		rep.follow(1, 36)
	}
	if !findsItself(results, 41) { // at a steady rate nothing stalls
		rep.follow(26, 41)
	}
	for _, f := range follows {
		for _, n := range f.others {
			rep.follow(f.cause, n)
		}
	}
	rep.followElsewhere(results)
	for i := range results {
		if r := results[i].Run; r != nil {
			for _, f := range r.Findings {
				switch {
				case f.Weakness > 0:
				case f.Severity == finding.Note:
					rep.Also = append(rep.Also, f)
				default:
					rep.Others = append(rep.Others, f)
				}
			}
		}
		if of := &results[i]; of.NotWell != "" {
			rep.Others = append(rep.Others, finding.Finding{Title: "not well any more", Severity: finding.Loss,
				Says: fmt.Sprintf("after the experiment '%s' the server was no longer as it had been before: %s",
					of.Experiment.Name, of.NotWell),
				Usually: "What the experiment did to the server has left something that goes on: a lock that is " +
					"held, a loop that has ended, memory that is full. Look at its log, and at what it does now.",
				Experiment: "the same experiment alone, after the server was started anew; then the trial itself"})
		}
	}
	rep.sortOthers()
	return rep
}

// sortOthers takes those out of the others that are counted in a figure in which something that was found is counted.
func (rep *Report) sortOthers() {
	rest := rep.Others[:0]
	for _, f := range rep.Others {
		follows := slices.ContainsFunc(rep.Rows, func(r Row) bool {
			slow := r.Weakness.Question == finding.HowSoon // what comes too late counts as lost
			return r.State == Found && len(f.Figures) > 0 && (slices.Contains(r.Finding.Figures, f.Figures[0]) ||
				slow && f.Figures[0] == "ledger.lost" || slices.Contains(alsoCounted[r.Weakness.Number], f.Figures[0]))
		})
		if follows {
			rep.Also = append(rep.Also, f)
		} else {
			rest = append(rest, f)
		}
	}
	rep.Others = rest
}

// follow has what was seen of one weakness follow from another, if both were found.
func (rep *Report) follow(cause, n int) {
	if row := &rep.Rows[n-1]; rep.Rows[cause-1].State == Found && row.State == Found {
		row.State, row.From = FollowsFrom, cause
		row.Says = "what was seen of it follows from no. " + strconv.Itoa(cause) + ": " + row.Says
	}
}

// followElsewhere has what was seen beside the way follow from what was found: in an experiment that is about something
// else, and not in one that is about it.
func (rep *Report) followElsewhere(results []Result) {
	var own, elsewhere []int // numbers of what was found
	for i := range rep.Rows {
		row := &rep.Rows[i]
		n, looked := row.Weakness.Number, false
		if row.State != Found {
			continue
		}
		saw := false
		for k := range results {
			if r := &results[k]; r.Run != nil && r.isAbout(n) {
				looked, saw = true, saw || r.finds(n)
			}
		}
		if looked && !saw {
			elsewhere = append(elsewhere, n)
		} else {
			own = append(own, n)
		}
	}
	for _, n := range elsewhere {
		for _, cause := range own {
			if rep.Rows[n-1].State == Found && foundTogether(results, cause, n) {
				rep.follow(cause, n)
			}
		}
	}
}

// findsItself reports whether an experiment that is about a weakness found it.
func findsItself(results []Result, n int) bool {
	return slices.ContainsFunc(results, func(r Result) bool { return r.finds(n) && r.isAbout(n) })
}

// foundTogether reports whether every experiment that found one weakness found another one as well.
func foundTogether(results []Result, cause, n int) bool {
	for i := range results {
		if r := &results[i]; r.finds(n) && !r.finds(cause) {
			return false
		}
	}
	return true
}

// isAbout reports whether an experiment is about a weakness.
func (r *Result) isAbout(n int) bool { return slices.Contains(r.Experiment.Rows, n) }

// finds reports whether an experiment found a weakness.
func (r *Result) finds(n int) bool {
	return r.Run != nil && slices.ContainsFunc(r.Run.Findings, func(f finding.Finding) bool { return f.Weakness == n })
}

// look finds what experiments say of the row: a finding of any of them counts, and that there is none only of those
// that are about it. Of one that says nothing of it, as others do, it says so too: what it alone shows was not seen.
func (row *Row) look(results []Result) {
	var silent []string
	for i := range results {
		r := &results[i]
		if r.Run != nil && row.lookAtFindings(r) {
			return
		}
		if !r.isAbout(row.Weakness.Number) || row.State == Noted {
			continue
		}
		says, why := r.unseen(row.Weakness.Number)
		switch {
		case why != "":
			if row.State == NotTried && (len(silent) == 0 || !r.Experiment.LeftOut) {
				row.Says = why
			}
			if !r.Experiment.LeftOut {
				silent = append(silent, fmt.Sprintf("; the experiment '%s' says nothing of it: %s",
					r.Experiment.Name, why))
			}
		case r.Experiment.Relays:
			row.State, row.Says, row.Shown = Noted, relayed(r), r.Experiment.Name
		case row.State == NotFound:
			row.Says += r.compared(row.Weakness.Number)
		default:
			row.State, row.Says, row.Shown = NotFound, says+r.compared(row.Weakness.Number), r.Experiment.Name
		}
	}
	if row.State == NotFound {
		row.Says += strings.Join(silent, "")
	}
}

// lookAtFindings takes what an experiment found of the row, and reports whether it is a weakness.
func (row *Row) lookAtFindings(r *Result) bool {
	for k := range r.Run.Findings {
		f := &r.Run.Findings[k]
		switch {
		case f.Weakness != row.Weakness.Number || r.Experiment.Relays && f.Weakness == altered:
		case f.Severity == finding.Note:
			row.State, row.Says, row.Finding, row.Shown = Noted, f.Says, f, r.Experiment.Name
		default:
			row.State, row.Says, row.Finding, row.Shown = Found, f.Says, f, r.Experiment.Name
			return true
		}
	}
	return false
}

// unseen is how rare a weakness can be that an experiment about it has not found, or why it says nothing of it.
func (r *Result) unseen(weakness int) (says, why string) {
	if r.Run == nil {
		return "", r.Why
	}
	mute := r.mute(weakness)
	n, of := r.chances(weakness, mute), r.Experiment.Of
	switch {
	case r.Experiment.Blind[weakness] != "":
		return "", r.Experiment.Blind[weakness]
	case 2*mute > r.Run.Total.Seconds:
		return "", fmt.Sprintf("this machine, or the tool, was the bottleneck in %d of %d seconds", mute,
			r.Run.Total.Seconds)
	case r.Why != "":
		return "", r.Why
	case weakness == silentLeave && len(r.Run.UnseenNews()) > 0:
		return "", notProven + r.Run.UnseenNews()[0]
	case n == 0 || n < 3 && of != Refusals:
		return "", "the experiment came to nothing: too few " + string(of)
	case of == Refusals: // a server that refuses by chance would be a strange one
		return fmt.Sprintf("%[1]s%[2]s of %[2]s", RefusedEachTime, units.Count(n)), ""
	}
	return finding.Unseen(n, string(of)), ""
}

// RefusedEachTime is how it begins what is said of a weakness that was not found, and is that something is not refused.
const RefusedEachTime = "refused each time, "

// silentLeave is the weakness that shows in announcements alone.
const silentLeave = 39

// compared says what came of comparing for a weakness, to go on with.
func (r *Result) compared(n int) (text string) {
	for _, says := range r.Compared[n] {
		text += "; " + says
	}
	return text
}

// chances is how often a weakness could have shown itself in the run, but for some seconds that say nothing of it.
func (r *Result) chances(weakness, mute int) int64 {
	w := r.Run.Total
	n := w.Total.Owed - w.Total.Excused
	switch r.Experiment.Of {
	case Refusals: // they are few, and each is known
		_, held := finding.Refusals(weakness, r.Run.Trial, w)
		return held
	case Entries:
		n = w.Counts.Entries
	case Messages:
		n = w.Counts.Sent
	}
	return n * int64(w.Seconds-mute) / int64(max(1, w.Seconds))
}

// ofFates are the weaknesses that show in what becomes of messages, and not in how long anything takes: a machine
// that is somewhat busy does not hide them, and is no excuse for them.
var ofFates = []int{1, 2, 3, 4, 12, 13, 14, 15, 16, 17, 20, 25, 31, 32, 35, 36, 37, 38, 40}

// mute is how many seconds of the run say nothing of a weakness, as the tool or the machine was the bottleneck.
func (r *Result) mute(weakness int) (n int) {
	if !slices.Contains(ofFates, weakness) || r.Run.Trial == nil {
		return r.Run.Total.Overloaded
	}
	for _, e := range r.Run.Entries {
		if e.Health.MayLose(r.Run.Trial.Grace) {
			n++
		}
	}
	return n
}

// Mute is how many seconds of an experiment's run say nothing of what it is about: of the weakness of which it says the
// most, and of that of which it says the least.
func (r *Result) Mute() (least, most int) {
	least = r.Run.Total.Seconds
	for _, n := range r.Experiment.Rows {
		mute := r.mute(n)
		least, most = min(least, mute), max(most, mute)
	}
	return least, most
}

// relayed says what became of texts that would be scripts if they were put into a page.
func relayed(r *Result) string {
	if r.finds(altered) {
		return "what would be a script in a page is changed on its way"
	}
	return "what would be a script in a page is relayed as it is: that is right if clients show it as text, and " +
		"wrong if they put it into a page"
}

const altered = 16
