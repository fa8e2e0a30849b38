package sim_test

import (
	"io/fs"
	"strings"
	"testing"

	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
	"tidepull/trials"
)

// TestShapes runs the shipped trial for each shape of server against the stand-in in that
// shape: nothing is wrong with an honest one, and of one that loses and doubles exactly
// what it lost and doubled.
func TestShapes(t *testing.T) {
	shapes := map[string]string{"array": "array", "envelope": "envelope", "json-in-a-string": "string",
		"packet-digits": "digits", "plain-text": "text", "kind-field": "", "name-in-the-path": "", "room-in-the-" +
			"path": ""}
	files, err := fs.Glob(trials.Shapes, "shapes/*.trial.hcl")
	if err != nil || len(files) != len(shapes) {
		t.Fatalf("%q, %v", files, err)
	}
	for _, file := range files {
		name := strings.TrimSuffix(strings.TrimPrefix(file, "shapes/"), ".trial.hcl")
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			source, err := trials.Shapes.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			shape, known := shapes[name]
			if !known || shape != "" && !strings.Contains(string(source), "--shape "+shape+"\n") {
				t.Fatalf("its shape is %q, %v", shape, known)
			}
			cfg := standin.Config{Manners: standin.Manners{Shape: shape}}
			good := playWith(t, string(source), cfg, board.Switches{})
			clean(t, good)
			if w := good.window; w.Total.Said != 60 || w.Total.Delivered != good.truth.Written || w.ChecksHeld() == 0 ||
				w.Counts.Unknown > 12 { // the board's greeting
				t.Errorf("%+v, %d checks held, truth %+v\n%v", w.Total, w.ChecksHeld(), good.truth, good.reasons)
			}
			bad := playWith(t, string(source), cfg, board.Switches{Seed: 4, Lose: 0.1, Double: 0.1})
			l := bad.window.Total
			if l.Lost == 0 || l.Lost != bad.truth.Lost || l.Duplicate != bad.truth.Doubled || l.Duplicate == 0 {
				t.Errorf("%+v\nin truth %+v", l, bad.truth)
			}
		})
	}
}
