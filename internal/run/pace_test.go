package run

import (
	"testing"

	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
)

// TestPace: what counts is three seconds in a row in which the machine had time for all, and said what was planned.
func TestPace(t *testing.T) {
	second := func(at int, owed int64, o logbook.Overload, said, due int64) *logbook.Entry {
		e := &logbook.Entry{At: at}
		e.Cells = []logbook.CellTally{{Tally: ledger.Tally{Owed: owed}}}
		e.Health.Overload = o
		e.Counts.Load.OnTime, e.Counts.Load.Late = said, due-said
		return e
	}
	s := &Snapshot{Entries: []*logbook.Entry{
		second(0, 100, 0, 10, 10), second(1, 200, 0, 20, 20), second(2, 300, 0, 30, 30),
		second(3, 900, 1, 90, 90), // busy
		second(4, 900, 0, 90, 90), second(5, 900, 0, 90, 90),
		second(6, 450, 0, 45, 90), // half of what was due
		second(7, 120, 0, 12, 12), second(8, 120, 0, 12, 12), second(9, 120, 0, 12, 12), second(10, 0, 0, 0, 0),
	}}
	if p := s.Pace(0, 11); p.Proven != 200 || p.Planned != 900 || p.Seconds != 3 {
		t.Errorf("%+v", p)
	}
	if p := s.Pace(3, 6); p.Proven != 0 || p.Planned != 900 || p.Says() !=
		"this machine proved nothing of the 900 deliveries a second that this trial plans" {
		t.Errorf("%+v %s", p, p.Says())
	}
	if p := s.Pace(0, 2); p.Says() != "" {
		t.Errorf("of two seconds: %+v", p)
	}
}
