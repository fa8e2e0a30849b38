package sim_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"tidepull/internal/run"
	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
	"tidepull/internal/survey"
	"tidepull/internal/trial/language"
	"tidepull/trials"
)

// surveyed plays a survey of the stand-in, made of the demo's own words, in virtual time.
func surveyed(t *testing.T, cfg standin.Config, switches board.Switches) survey.Report {
	t.Helper()
	source := []byte(strings.NewReplacer("  enter {\n", "  enter {\n    history = 20\n", "\"plain-json\"\n",
		"\"plain-json\"\n  promise {\n    from     = \"server\"\n    every    = \"1s\"\n    deadline = \"3s\"\n  }\n").
		Replace(string(trials.Demo)))
	cfg.PingEvery, cfg.PongWithin = time.Second, 3*time.Second
	tr, err := language.Parse(source, "demo.trial.hcl", language.Options{})
	if err != nil {
		t.Fatal(err)
	}
	parts, err := language.PartsOf(source, "demo.trial.hcl", nil)
	if err != nil {
		t.Fatal(err)
	}
	var results []survey.Result
	for _, e := range survey.Compose(tr, &parts, fmt.Sprint("s", switches.Seed), 0) {
		if e.Lacks != "" {
			t.Fatalf("%s: %s", e.Name, e.Lacks)
		}
		of, err := language.Parse(e.Source, e.Name+".trial.hcl", language.Options{})
		if err != nil {
			t.Fatalf("%s: %v\n%s", e.Name, err, e.Source)
		}
		of.Seed = switches.Seed
		p := playTrial(t, of, cfg, switches)
		s := &run.Snapshot{Total: p.window, Findings: p.findings(t)}
		results = append(results, survey.Result{Experiment: e, Run: s})
	}
	return survey.Of(results)
}

// TestSurvey: a survey of the stand-in with one of its switches finds that row and no other, and without one none.
func TestSurvey(t *testing.T) {
	for name, tc := range map[string]struct {
		switches board.Switches
		row      int
	}{
		"all well":      {},
		"crowd race":    {board.Switches{Load: board.Load{CrowdRace: 0.3}}, 1},
		"wrong echo":    {board.Switches{WrongEcho: 0.1}, 2},
		"room leak":     {board.Switches{Leak: 0.05}, 3},
		"whisper leak":  {board.Switches{Overhear: 0.1}, 4},
		"ghosts":        {board.Switches{Beats: board.Beats{Ghost: 0.5}}, 5},
		"no eviction":   {board.Switches{Beats: board.Beats{NoEviction: 0.5}}, 6},
		"hasty":         {board.Switches{Beats: board.Beats{Hasty: 0.2}}, 7},
		"beats missing": {board.Switches{Beats: board.Beats{MissBeat: 0.05}}, 8},
		"history":       {board.Switches{History: 0.3}, 11},
		"lenient":       {board.Switches{Load: board.Load{Lenient: 0.5}}, 28},
		"brittle":       {board.Switches{Load: board.Load{Brittle: 1}}, 42},
		"slow store":    {board.Switches{Load: board.Load{SlowStore: 40 * time.Millisecond}}, 10},
		"reordering":    {board.Switches{Reorder: 0.1}, 14},
		"presence":      {board.Switches{Presence: 0.3}, 27},
		"burst loss":    {board.Switches{Load: board.Load{BurstLoss: 6}}, 32},
		"late handler":  {board.Switches{Membership: board.Membership{LateHandler: 60 * time.Millisecond}}, 35},
		"deaf":          {board.Switches{Membership: board.Membership{Deaf: 0.2}}, 36},
		"lingers":       {board.Switches{Membership: board.Membership{Lingers: 0.5}}, 37},
		"stands still":  {board.Switches{Load: board.Load{Standstill: 1500 * time.Millisecond}}, 41},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			tc.switches.Seed = 3
			rep := surveyed(t, standin.Config{}, tc.switches)
			var found []int
			for _, r := range rep.Rows {
				if r.State == survey.Found {
					found = append(found, r.Weakness.Number)
					t.Logf("%s: %s (%s)", r.Weakness.Title, r.Says, r.Shown)
					if r.Weakness.Number != tc.row {
						for _, e := range r.Finding.Evidence {
							t.Log("    ", e.Says)
						}
					}
				}
				if r.State == survey.NotFound && !strings.HasPrefix(r.Says, "fewer than 1 in ") || r.Says == "" {
					t.Errorf("%d: %+v", r.Weakness.Number, r)
				}
			}
			want := []int{tc.row}
			if tc.row == 0 {
				want = nil
			}
			// Two messages that are lost as nobody listens yet are too few to tell; nor is a history known that nobody
			// promised.
			if !slices.Equal(found, want) || len(rep.Others) > 0 && tc.row != 35 && tc.row != 11 {
				t.Errorf("found %v, want %v; %v", found, want, rep.Others)
			}
		})
	}
}
