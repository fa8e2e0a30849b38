package sim_test

import (
	"strings"
	"testing"

	"tidepull/internal/measure/ledger"
	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
	"tidepull/internal/trial/language"
)

// TestWitnesses: in a trial that is so short that everybody leaves within the grace time some clients stay, so that a
// server which says nothing of those who leave is found out, and one that does is not blamed.
func TestWitnesses(t *testing.T) {
	w := weakness{config: standin.Config{Notices: true}, session: "\n  connect {}\n  enter { room = \"lock-1\" }\n" +
		"  stay {}\n"}
	short := strings.NewReplacer(`lasts = "20s"`, `lasts = "500ms"`, `over = "3s"`, `over = "1s"`)
	source := short.Replace(w.trial("t"))
	for shares := 1; shares <= 3; shares++ {
		for _, says := range []bool{true, false} {
			tr, err := language.Parse([]byte(source), "t.trial.hcl", language.Options{})
			if err != nil {
				t.Fatal(err)
			}
			p := playShared(t, tr, standin.Config{Notices: says}, board.Switches{}, 0, shares)
			gone := ledger.Tally{}
			for cell, tally := range p.window.Cells {
				if cell.Kind == ledger.Gone {
					gone.Add(&tally)
				}
			}
			// Nineteen leave before the last one, a twentieth of them.
			if says && (gone.Lost != 0 || gone.Delivered < 150) || !says && gone.Lost != 19 ||
				p.window.Counts.Finished != 20 {
				t.Errorf("%d shares, it says so: %v: %+v, %d finished", shares, says, gone, p.window.Counts.Finished)
			}
		}
	}
}
