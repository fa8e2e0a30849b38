package run

import (
	"fmt"
	"strings"

	"tidepull/internal/base/units"
	"tidepull/internal/measure/ledger"
)

// kindNames are what messages of a kind are called if something is wrong with them.
var kindNames = [ledger.NumKinds]string{ledger.Notice: "messages to rooms", ledger.Whisper: "private messages",
	ledger.Joined: "announcements of who enters", ledger.Gone: "announcements of who leaves"}

// oneOfKind is what one of them is called.
var oneOfKind = [ledger.NumKinds]string{ledger.Notice: "message to a room", ledger.Whisper: "private message",
	ledger.Joined: "announcement of who enters", ledger.Gone: "announcement of who leaves"}

// Kinds says of which kinds what a broken limit counts is: " (all announcements of who leaves)"; "" if it is of
// messages to rooms alone, or if nothing is known of it.
func (s *Snapshot) Kinds(j *Judgement) string {
	if j.Without > 0 || s.Total == nil { // some of it is left out
		return ""
	}
	for _, of := range sharedFates {
		if of.figure == j.Limit.Figure {
			return s.kindsOf(of.fate)
		}
	}
	return ""
}

func (s *Snapshot) kindsOf(fate ledger.Fate) string {
	var counts [ledger.NumKinds]int64
	several, last := 0, ledger.Notice
	for cell, t := range s.Total.Cells {
		n := *t.Of(fate)
		if n > 0 && counts[cell.Kind] == 0 {
			several, last = several+1, cell.Kind
		}
		counts[cell.Kind] += n
	}
	switch {
	case several == 0, several == 1 && last == ledger.Notice:
		return ""
	case several == 1:
		return " (all " + kindNames[last] + ")"
	}
	var all []string
	for kind, n := range counts {
		switch {
		case n == 1:
			all = append(all, "1 "+oneOfKind[kind])
		case n > 1:
			all = append(all, fmt.Sprintf("%s %s", units.Count(n), kindNames[kind]))
		}
	}
	return " (" + strings.Join(all, ", ") + ")"
}
