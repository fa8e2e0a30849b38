package sim_test

import (
	"strings"
	"testing"

	"tidepull/internal/standin/board"
)

// TestLines: the same sessions over lines of text, instead of a WebSocket, are
// accounted for as exactly.
func TestLines(t *testing.T) {
	overLines := strings.Replace(speakInSlack, `websocket = "ws://127.0.0.1:7411/live"`,
		`lines = "tcp://127.0.0.1:7411"`, 1)
	w, _, truth := play(t, overLines, board.Switches{Lose: 0.05, Double: 0.05, Misdirect: 0.05})
	l := w.Total
	if w.Imbalance() != "" || l.Open() != 0 || l.Lost == 0 || l.Lost != truth.Lost || l.Duplicate != truth.Doubled ||
		l.Stray != truth.Misdirected || l.Delivered != l.Owed-l.Lost {
		t.Errorf("%s: %+v\nin truth %+v", w.Imbalance(), l, truth)
	}
	if c := w.Counts; c.Refused+c.Broken+c.Denied+c.Malformed+c.Unsent != 0 || c.Opened == 0 || c.Finished != c.Opened {
		t.Errorf("%+v", c)
	}
}
