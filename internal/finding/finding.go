// Package finding says what is wrong with a server, in words: it turns what was measured of a run into findings,
// each a weakness that is known of such servers, with its numbers, its evidence, how sure it is, and where to look.
//
// Each weakness has a file: its rule, and its words. A rule takes what it explains out of what went wrong
// (search.go), so that several symptoms of one cause are one finding; what no rule explains is said as well,
// without a cause (rest.go). A rule says nothing unless it would be very unlikely by chance, and nothing of what
// the tool or the trial may have done.
//
// All of it is functions of Facts. The catalogue of weaknesses is in catalogue.go.
package finding

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"tidepull/internal/measure/ledger"
)

// Severity says how bad a finding is.
type Severity string

// The severities, from the worst.
const (
	Loss  Severity = "loss"  // messages do not arrive, or reach somebody they are not for
	Wrong Severity = "wrong" // something is not as it was said, or as the server promised
	Slow  Severity = "slow"  // it works, and takes too long
	Note  Severity = "note"  // good to know
)

var severities = []Severity{Loss, Wrong, Slow, Note}

// A Finding is a weakness of the server that was seen.
type Finding struct {
	Weakness int      `json:"weakness"` // its number in the catalogue; 0: it is none of those
	Title    string   `json:"title"`
	Says     string   `json:"says"` // one sentence, with its numbers
	Severity Severity `json:"severity"`
	// Share is how often it happened of how often it could have; nil if that cannot be counted.
	Share      *Share     `json:"share,omitempty"`
	RuledOut   []string   `json:"ruled_out"` // what else was looked at
	Usually    string     `json:"usually"`   // what makes servers do this, and where to look
	Experiment string     `json:"experiment"`
	Evidence   []Evidence `json:"evidence"` // the first of it
	Figures    []string   `json:"figures"`  // that it is counted in, most of all the first
}

// Name is what a finding is called: "crowd race (1, loss)".
func (f *Finding) Name() string {
	if f.Weakness == 0 {
		return fmt.Sprintf("%s (%s)", f.Title, f.Severity)
	}
	return fmt.Sprintf("%s (%d, %s)", f.Title, f.Weakness, f.Severity)
}

// Evidence is one case of a finding.
type Evidence struct {
	Says    string        `json:"says"`
	Message *uint64       `json:"message,omitempty"` // its number; nil: it is about none
	Client  ledger.Client `json:"client"`            // -1: nobody
	At      time.Duration `json:"at_ns"`             // since the start of the run
}

// mostEvidence bounds the cases that a finding names.
const mostEvidence = 5

// Of gives the findings of a run, the worst first.
func Of(f *Facts) []Finding {
	s := newSearch(f)
	all := []Finding{}
	// What one rule explains may have hidden from another what the rest has in common: those that found nothing are
	// asked again.
	spoke := make([]bool, len(rules))
	for before := -1; before != s.explanations(); {
		before = s.explanations()
		for i, rule := range rules {
			if !spoke[i] {
				found := rule(s)
				spoke[i] = len(found) > 0
				all = append(all, found...)
			}
		}
	}
	all = append(all, rest(s)...)
	for i := range all {
		found := &all[i]
		w := byNumber(found.Weakness)
		if found.Title == "" {
			found.Title = w.Title
		}
		if found.Usually == "" {
			found.Usually = w.Usually
		}
		if found.Experiment == "" {
			found.Experiment = w.Experiment
		}
		found.RuledOut = append(found.RuledOut, s.ruledOut()...)
	}
	slices.SortStableFunc(all, BySeverity)
	return all
}

// BySeverity compares findings: the worse one comes first.
func BySeverity(a, b Finding) int {
	return cmp.Compare(slices.Index(severities, a.Severity), slices.Index(severities, b.Severity))
}

// rules are those of all weaknesses, in the order in which they are asked: what is particular comes before what is
// general.
var rules = []func(*search) []Finding{
	openDoor, openOrigin, echo, clash, history, whisperLeak, staysAfterLeaving, roomLeak, // who got it
	// what did not come
	slowReader, sizeLimit, refused, framing, onReturn, atSwitch, deaf, lateHandler, silentLeave, nodeGap, burst,
	enteredTwice, reordering, disagreement, altered, // what came otherwise
	eviction, fragile, hasty, uneven, ghosts, leftovers, presence, forgetful, // who is there
	// how it bears what happens
	store, growth, stalls, lenient, kept, goodbye, noWayDown, slowReturn, broken, stored,
}
