package run

import (
	"fmt"
	"strings"
	"time"

	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/trial"
)

// leastSeen is how often something must have been due before that it was never seen says anything.
const leastSeen = 20

// Unseen says what of the trial proves nothing, as it was hardly ever seen: announcements, or deliveries of
// another kind, of which more than half is excused, and rules of the dialect that recognised nothing; and which
// processes of the run were lost.
func (s *Snapshot) Unseen() []string {
	return s.unseen(ledger.Notice, ledger.Whisper, ledger.Joined, ledger.Gone)
}

// UnseenNews is Unseen of announcements alone.
func (s *Snapshot) UnseenNews() []string { return s.unseenOf(ledger.Joined, ledger.Gone) }

// unseenRest is Unseen of all but announcements.
func (s *Snapshot) unseenRest() []string { return s.unseen(ledger.Notice, ledger.Whisper) }

// unseenOf says which kinds of deliveries were hardly ever seen, as more than half is excused.
func (s *Snapshot) unseenOf(kinds ...ledger.Kind) (all []string) {
	if s.Total == nil {
		return nil
	}
	var of [ledger.NumKinds]ledger.Tally
	for cell, t := range s.Total.Cells {
		of[cell.Kind].Add(&t)
	}
	words := [ledger.NumKinds]string{ledger.Notice: "deliveries", ledger.Whisper: "deliveries of whispers",
		ledger.Joined: "announcements of who enters", ledger.Gone: "announcements of who leaves"}
	for _, k := range kinds {
		if t := of[k]; t.Owed >= leastSeen && 2*t.Excused > t.Owed {
			all = append(all, fmt.Sprintf("%s of %s %s are excused, so that it is not known whether the server would "+
				"have sent them", units.Count(t.Excused), units.Count(t.Owed), words[k]))
		}
	}
	return all
}

// unseen is Unseen of some kinds of deliveries, and of what is no delivery.
func (s *Snapshot) unseen(kinds ...ledger.Kind) (all []string) {
	if s.Total == nil {
		return nil
	}
	all = append(s.Processes.Words(), s.unseenOf(kinds...)...)
	entries := s.entriesBefore(s.Elapsed - s.Trial.Dialect.Presence.Within)
	for i, c := range s.Trial.Checks {
		seen := i < len(s.Total.Checks) && s.Total.Checks[i].Held+s.Total.Checks[i].Failed > 0
		switch {
		case seen:
		case c.Kind == "presence" && entries >= leastSeen:
			all = append(all, fmt.Sprintf("the dialect's presence has recognised nothing, and rooms were entered %s "+
				"times", units.Count(entries)))
		case c.Kind == "feed" && s.Total.Counts.Opened > 0 && s.Elapsed >= leastSeen*time.Second:
			all = append(all, fmt.Sprintf("the feed '%s' has recognised nothing", c.Name))
		}
	}
	return all
}

// entriesBefore is how many rooms were entered in the seconds that were over by a time.
func (s *Snapshot) entriesBefore(end time.Duration) (n int64) {
	for _, e := range s.Entries {
		if time.Duration(e.At+e.Seconds())*time.Second <= end {
			n += e.Counts.Entries
		}
	}
	return n
}

// watches are the kinds of checks that are no steps of a session.
var watches = map[string]bool{"presence": true, "feed": true, "history": true}

// NeverReached names the steps of the trial that check or say something and to which no client has come; "" if there
// are none.
func (s *Snapshot) NeverReached() string {
	var all []string
	for i, c := range s.Trial.Checks {
		if s.Total != nil && !watches[c.Kind] && (i >= len(s.Total.Checks) ||
			s.Total.Checks[i].Held+s.Total.Checks[i].Failed == 0) {
			all = append(all, fmt.Sprintf("%s '%s'", c.Kind, c.Name))
		}
	}
	return strings.Join(append(all, s.neverSaid()...), ", ")
}

// sayings are the steps that say something, by what they are called in the language.
var sayings = map[trial.StepKind]string{trial.Say: "say", trial.Tell: "whisper", trial.Send: "send"}

// neverSaid names the steps that say something and to which no client has come.
func (s *Snapshot) neverSaid() (all []string) {
	for _, session := range s.Trial.Sessions() {
		n := map[trial.StepKind]int{}
		for i := range session.Steps {
			step := &session.Steps[i]
			what := sayings[step.Do]
			if n[step.Do]++; what != "" && step.Number < len(s.Said) && !s.Said[step.Number] {
				all = append(all, fmt.Sprintf("%s %d of session '%s'", what, n[step.Do], session.Name))
			}
		}
	}
	return all
}
