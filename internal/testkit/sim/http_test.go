package sim_test

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"tidepull/internal/engine/poll"
	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
	"tidepull/internal/testkit/sim"
	"tidepull/internal/trial/language"
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

// dials counts the addresses that are dialled from.
type dials struct {
	poll.Driver
	from map[netip.Addr]int
}

func (d *dials) Dial(id int32, to wire.Endpoint) error {
	d.from[to.From]++
	return d.Driver.Dial(id, to)
}

// TestDialsFrom: all that a client opens comes from its own address, its requests too.
func TestDialsFrom(t *testing.T) {
	source := strings.Replace(everything, `websocket = "ws://127.0.0.1:7411/live"`, `
  websocket = "ws://127.0.0.1:7411/live"
  from      = ["127.0.0.2", "127.0.0.3"]
`, 1)
	tr, err := language.Parse([]byte(source), "from.trial.hcl", language.Options{})
	if err != nil {
		t.Fatal(err)
	}
	listening, dialling := sim.NewShared(3*time.Millisecond, 0, 1)
	d := &dials{dialling[0], map[netip.Addr]int{}}
	playOn(t, tr, standin.Config{Login: true}, listening, []poll.Driver{d})
	second, third := d.from[netip.MustParseAddr("127.0.0.2")], d.from[netip.MustParseAddr("127.0.0.3")]
	if len(d.from) != 2 || second < 10 || third < 10 {
		t.Errorf("dialled from %v", d.from)
	}
}
