package sim_test

import (
	"bytes"
	"slices"
	"strings"
	"testing"

	"tidepull/internal/measure/change"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
	"tidepull/internal/trial/language"
)

// TestDifferences: what came of messages that a server alters is kept with its name, with what was said, and for those
// that are altered alone; in a run of three shares, where another share said what came, as well.
func TestDifferences(t *testing.T) {
	w := weakness{session: `
  connect {}
  enter { room = "lock-1" }
  repeat {
    every = "500ms"
    times = 8
    say {
      payload = "${pick("the gate < 3 is open", "12 boats wait", awkward(round))}"
      body    = { kind = "notice", room = room, ref = mark, text = payload }
    }
  }
`}
	tr, err := language.Parse([]byte(w.trial("differences")), "sim.trial.hcl", language.Options{})
	if err != nil {
		t.Fatal(err)
	}
	for _, shares := range []int{1, 3} {
		p := playShared(t, tr, standin.Config{}, board.Switches{Seed: 3, Alter: 0.2}, 0, shares)
		names := map[string]int{}
		for i := range p.differ {
			d := &p.differ[i]
			names[d.Name]++
			m := slices.IndexFunc(p.last.Kept, func(m ledger.Message) bool { return m.Number == d.Number })
			if m < 0 || !slices.ContainsFunc(p.last.Kept[m].Outcomes, func(o ledger.Outcome) bool {
				return o.Client == d.Client && o.Fate == ledger.Altered
			}) {
				t.Fatalf("message %d is not altered at client %d: %+v", d.Number, d.Client, d)
			}
			switch d.Name {
			case "HTML-escaped":
				if !bytes.Equal(bytes.ReplaceAll(d.Said.Head, []byte("<"), []byte("&lt;")), d.Came.Head) ||
					d.First != bytes.IndexByte(d.Said.Head, '<') {
					t.Errorf("said %q, came %q, from %d on", d.Said.Head, d.Came.Head, d.First)
				}
			case "something was put behind it", change.FurtherOn, "space around it was taken away":
				if len(d.Said.Head) < 4096 && string(d.Came.Head) != string(d.Said.Head)+" " {
					t.Errorf("said %q, came %q", d.Said.Head, d.Came.Head)
				}
			default:
				if !strings.HasPrefix(d.Name, "cut at ") {
					t.Errorf("%s: said %q, came %q", d.Name, d.Said.Head, d.Came.Head)
				}
			}
		}
		if names["HTML-escaped"] < 5 || names["something was put behind it"] < 5 {
			t.Errorf("%d shares: of %d altered: %v", shares, p.window.Total.Altered, names)
		}
	}
}
