package run

import (
	"slices"
	"testing"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
)

// TestExamples: of each figure the first things that it counts are said, each of another message or client.
func TestExamples(t *testing.T) {
	lost := func(n uint64, kind ledger.Kind, at time.Duration, to ...ledger.Client) ledger.Message {
		m := ledger.Message{Number: n, Kind: kind, Room: 1, Sent: mono.Time(at), Owed: 4, Reached: 4 - len(to)}
		for _, c := range to {
			m.Outcomes = append(m.Outcomes, ledger.Outcome{Client: c, Fate: ledger.Lost})
		}
		return m
	}
	s := &Snapshot{Names: []string{"gull", "tern\x1b", "heron"}, Rooms: []string{"everyone", "lock-1"},
		Kept: []ledger.Message{lost(7, ledger.Notice, 61*time.Second+5*time.Millisecond, 1, 2),
			lost(8, ledger.Gone, 62*time.Second, 2), lost(9, ledger.Notice, 63*time.Second, 2),
			lost(10, ledger.Notice, 64*time.Second, 1)},
		Events: []logbook.Event{{At: time.Second, Client: 1, What: logbook.Broke, Detail: "reset"},
			{At: 2 * time.Second, Client: 1, What: logbook.Broke, Detail: "reset"},
			{At: 3 * time.Second, Client: 2, What: logbook.Refused, Detail: "the answer is 403"}}}
	for figure, want := range map[string][]string{
		"ledger.lost": {
			"message 7 of gull in lock-1, said at 1:01.005: lost at tern\u241b; 2 of 4 have it",
			"the announcement that gull left in lock-1 at 1:02.000: lost at heron; 3 of 4 have it",
			"message 9 of gull in lock-1, said at 1:03.000: lost at heron; 3 of 4 have it"},
		"clients.broken":  {"tern\u241b at 0:01.000: reset"},
		"clients.refused": {"heron at 0:03.000: the answer is 403"},
		"fanout.p99":      nil, "ledger.stray": nil,
	} {
		if got := s.Examples(figure); !slices.Equal(got, want) {
			t.Errorf("%s: %q", figure, got)
		}
	}
}
