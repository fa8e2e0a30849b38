package sim_test

import (
	"fmt"
	"strings"
	"testing"

	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
	"tidepull/internal/wire"
)

// TestOverTCP: the same sessions over TCP, however messages end there, are accounted for as
// exactly as over a WebSocket.
func TestOverTCP(t *testing.T) {
	type way struct {
		target  string
		framing wire.Framing
	}
	ways := []way{{`lines = "tcp://127.0.0.1:7411"`, wire.Framing{}},
		{"tcp = \"tcp://127.0.0.1:7411\"\n  ended_by = \"\\r\\n\"", wire.Framing{Ends: "\r\n"}},
		{"tcp = \"tcp://127.0.0.1:7411\"\n  ended_by = \"\\u001e\"", wire.Framing{Ends: "\x1e"}},
		{"tcp = \"tcp://127.0.0.1:7411\"\n  ended_by = \"\\n--\\n\"", wire.Framing{Ends: "\n--\n"}}}
	for _, name := range wire.Prefixes {
		if name != "1" { // the board says longer things
			ways = append(ways, way{fmt.Sprintf("tcp = \"tcp://127.0.0.1:7411\"\n  prefix = %q", name),
				wire.Framing{Prefix: wire.PrefixNamed(name)}})
		}
	}
	for _, way := range ways[:] {
		w := strings.NewReplacer(`lines = "tcp:`, `udp = "udp:`, `tcp = "tcp:`, `udp = "udp:`).Replace(way.target)
		ways = append(ways, struct {
			target  string
			framing wire.Framing
		}{w, way.framing})
	}
	for _, w := range ways {
		t.Run(w.target, func(t *testing.T) {
			t.Parallel()
			source := strings.Replace(speakInSlack, `{ websocket = "ws://127.0.0.1:7411/live" }`,
				"{\n  "+w.target+"\n}", 1)
			p := playWith(t, source, standin.Config{Framing: w.framing},
				board.Switches{Lose: 0.05, Double: 0.05, Misdirect: 0.05})
			p.isTrue(t)
		})
	}
}

// isTrue compares the ledger of a run in which deliveries were lost, doubled and
// misdirected, and nothing else went wrong, with the stand-in's truth.
func (p *played) isTrue(t *testing.T) {
	t.Helper()
	l, c := p.window.Total, p.window.Counts
	if p.window.Imbalance() != "" || l.Open() != 0 || l.Lost == 0 || l.Lost != p.truth.Lost ||
		l.Duplicate != p.truth.Doubled || l.Stray != p.truth.Misdirected || l.Delivered != l.Owed-l.Lost {
		t.Errorf("%s: %+v\nin truth %+v; %v", p.window.Imbalance(), l, p.truth, p.reasons)
	}
	if c.Refused+c.Broken+c.Denied+c.Malformed+c.Unsent != 0 || c.Opened == 0 || c.Finished != c.Opened {
		t.Errorf("%+v; %v", c, p.reasons)
	}
}
