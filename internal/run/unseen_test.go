package run

import (
	"strings"
	"testing"
	"time"

	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
)

// TestUnseen: what was hardly ever seen is not proven, and says so; what is seen now and then is.
func TestUnseen(t *testing.T) {
	checks := []trial.Check{{Name: "the number of members", Kind: "presence"}, {Name: "gauges", Kind: "feed"},
		{Name: "the answer", Kind: "expect"}, {Name: "a berth", Kind: "assert"}}
	for name, tc := range map[string]struct {
		gone    ledger.Tally
		entries int64
		checks  []logbook.CheckCount
		want    string
	}{
		"all seen": {ledger.Tally{Owed: 57, Delivered: 50, Excused: 7}, 30,
			[]logbook.CheckCount{{Held: 1}, {Failed: 1}, {Held: 1}, {Held: 1}}, ""},
		"nobody heard of it": {ledger.Tally{Owed: 57, Excused: 57}, 30,
			[]logbook.CheckCount{{Held: 1}, {Held: 1}}, "57 of 57 announcements of who leaves are excused"},
		"too few to say":  {ledger.Tally{Owed: 19, Excused: 19}, 19, []logbook.CheckCount{{}, {Held: 1}}, ""},
		"no presence":     {ledger.Tally{}, 20, []logbook.CheckCount{{}, {Held: 1}}, "presence has recognised nothing"},
		"no word of feed": {ledger.Tally{}, 0, nil, "the feed 'gauges' has recognised nothing"},
	} {
		w := &logbook.Window{Cells: map[ledger.Cell]ledger.Tally{{Kind: ledger.Gone}: tc.gone}, Checks: tc.checks}
		w.Counts.Started, w.Counts.Opened, w.Counts.Entries = 20, 20, tc.entries
		s := &Snapshot{Total: w, Trial: &trial.Trial{Checks: checks}, Finished: true, Elapsed: 30 * time.Second,
			Entries: []*logbook.Entry{{At: 3}, {At: 29}}}
		s.Trial.Dialect.Presence.Within = 2 * time.Second
		s.Entries[0].Counts.Entries, s.Entries[1].Counts.Entries = tc.entries, 50 // the last have no time to matter
		verdict, why := s.Outcome()
		if (verdict == NotProven) != (tc.want != "") || tc.want != "" && !strings.Contains(why, tc.want) {
			t.Errorf("%s: %v, %s", name, verdict, why)
		}
		if got := s.NeverReached(); (got == "") != (len(tc.checks) == 4) ||
			got != "" && got != "expect 'the answer', assert 'a berth'" {
			t.Errorf("%s: never reached are %s", name, got)
		}
	}
}

// TestNeverSaid: what no client came to say is named by its session.
func TestNeverSaid(t *testing.T) {
	session := &trial.Session{Name: "pilot", Steps: []trial.Step{{Do: trial.Say}, {Do: trial.Pause}, {Do: trial.Tell},
		{Do: trial.Say}, {Do: trial.Send}}}
	s := &Snapshot{Trial: &trial.Trial{Crews: []trial.Crew{{Session: session}, {Session: session}}},
		Said: []bool{true, false, true, false, true}}
	s.Trial.NumberSteps()
	if got := s.NeverReached(); got != "say 2 of session 'pilot'" {
		t.Errorf("never reached: %s", got)
	}
	kept := &Snapshot{Trial: &trial.Trial{Crews: []trial.Crew{{Name: "pilots"}}}}
	if s.Said = nil; s.NeverReached() != "" || kept.NeverReached() != "" {
		t.Error("of a run that was kept it is not known")
	}
}
