package sim_test

import (
	"strings"
	"testing"

	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
	"tidepull/internal/wire"
)

// TestOverHTTP: the same sessions over HTTP, and compressed, however messages come there, are accounted
// for as exactly as over a WebSocket.
func TestOverHTTP(t *testing.T) {
	for name, w := range map[string]struct {
		target  string
		framing wire.Framing
	}{
		"compressed": {target: "websocket = \"ws://127.0.0.1:7411/live\"\n deflate = true"},
		"compressed, each by itself": {target: "websocket = \"ws://127.0.0.1:7411/live\"\n deflate = true\n" +
			" deflate_fresh = true\n deflate_window = 9"},
		"events": {target: `events = "http://127.0.0.1:7411/events?client=${name}"`},
		"stream": {target: `stream = "http://127.0.0.1:7411/lines?client=${name}"`},
		"records": {"stream = \"http://127.0.0.1:7411/lines?client=${name}\"\n prefix = \"varint\"",
			wire.Framing{Prefix: wire.PrefixNamed("varint")}},
		"polling": {target: "polling = \"http://127.0.0.1:7411/poll?client=${name}\"\n post_end = true"},
		"at its pace": {target: "polling = \"http://127.0.0.1:7411/poll?client=${name}&wait=0\"\n " +
			"every = \"300ms\"\n post_end = true"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			source := strings.Replace(speakInSlack, `{ websocket = "ws://127.0.0.1:7411/live" }`,
				"{\n  "+w.target+"\n}", 1)
			p := playWith(t, source, standin.Config{Framing: w.framing, Deflate: true},
				board.Switches{Lose: 0.05, Double: 0.05, Misdirect: 0.05})
			p.isTrue(t)
		})
	}
}
