package sim_test

import (
	"cmp"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"tidepull/internal/finding"
	"tidepull/internal/run"
	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
	"tidepull/internal/trial/language"
)

// findings are those of a run that was played.
func (p *played) findings(t *testing.T) []finding.Finding {
	t.Helper()
	return p.snapshot(t).Find()
}

// snapshot is the run as it ended.
func (p *played) snapshot(t *testing.T) *run.Snapshot {
	t.Helper()
	r := p.last
	r.Closed, r.Open, r.Events, r.Lanes, r.Bodies, r.Differences = p.entries, nil, p.events, p.lanes, p.bodies, p.differ
	s, err := run.NewCollector(run.Limits(p.trial), p.trial.Grace).Add(r, nil)
	if err != nil {
		t.Fatal(err)
	}
	s.Trial, s.Finished = p.trial, true
	for _, f := range p.trial.Faults {
		s.Happened = append(s.Happened, run.Happened{Name: f.Name, Do: f.Do.String(), From: f.At, To: f.At + f.Lasts})
	}
	s.Shared = s.InCommon()
	return s
}

// TestFindings plays the trial of each weakness, with the stand-in's switch off and on: without it nothing is found,
// with it the weakness, and no other. docs/findings.md has what was found; UPDATE=1 writes it.
func TestFindings(t *testing.T) {
	said := map[string]finding.Finding{} // by the trial
	var saying sync.Mutex
	t.Run("each", func(t *testing.T) {
		eachWeakness(t, func(name string, f finding.Finding) {
			saying.Lock()
			defer saying.Unlock()
			said[name] = f
		})
	})
	const path = "../../../docs/findings.md"
	text := catalogue(said)
	if was, err := os.ReadFile(path); err == nil { // what a survey finds is another test's
		if _, rest, is := strings.Cut(string(was), surveyHead); is {
			text += surveyHead + rest
		}
	}
	if os.Getenv("UPDATE") != "" {
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if was, err := os.ReadFile(path); !t.Failed() && (err != nil || string(was) != text) {
		t.Errorf("docs/findings.md is not what was found (UPDATE=1 writes it): %v", err)
	}
}

// catalogue is docs/findings.md: all weaknesses, and what was found in the trial of each.
func catalogue(said map[string]finding.Finding) string {
	var b strings.Builder
	p := func(text string, args ...any) { fmt.Fprintf(&b, text+"\n", args...) }
	p("# Findings\n")
	p("Written by a test (`go test ./internal/testkit/sim -run TestFindings`), which plays each of the trials below " +
		"against")
	p("the stand-in, with the switch that makes it fail in one way, and without. A finding is a weakness that is " +
		"known of")
	p("servers that push messages, recognised in what was measured of any run. Several symptoms of one cause are one " +
		"finding;")
	p("nothing is said that chance would do, or that the tool or the trial may have done. They stand in the view " +
		"`8`, in the")
	p("headless report, `summary.json`, JUnit, exports and the store.\n")
	p("## The weaknesses\n")
	for _, q := range finding.Questions {
		p("### %s\n", strings.ToUpper(string(q[:1]))+string(q[1:]))
		p("| | weakness | what makes servers do this, and where to look | an experiment that shows it |")
		p("| --- | --- | --- | --- |")
		for _, w := range finding.Catalogue {
			if w.Question == q {
				p("| %d | **%s** | %s | %s |", w.Number, w.Title, w.Usually, w.Experiment)
			}
		}
		p("")
	}
	p("## What was found\n")
	p("In each of these trials, with its switch, one thing was found, and without it nothing was. 0 is what is none " +
		"of the")
	p("weaknesses above: messages that are lost, or come twice, without a cause that could be told.\n")
	p("| trial | found | in words |")
	p("| --- | --- | --- |")
	names := slices.SortedFunc(maps.Keys(said), func(a, b string) int {
		return cmp.Or(cmp.Compare(said[a].Weakness, said[b].Weakness), cmp.Compare(a, b))
	})
	for _, name := range names {
		_, title, numbered := strings.Cut(name, " ")
		if !numbered || name[0] > '9' {
			title = name
		}
		p("| %s | %d | %s |", title, said[name].Weakness, strings.ReplaceAll(said[name].Says, "|", "\\|"))
	}
	p("\nNot found without more than an ordinary trial has: 18 takes a `connect { origin, refused = true }`, 23 a " +
		"page of the")
	p("server's own or its process, 33 a `final_check` or who comes late to a quiet room, 40 the faults `split` and " +
		"`join`. 30 is")
	p("looked for by a survey alone.")
	return b.String()
}

func eachWeakness(t *testing.T, tell func(name string, f finding.Finding)) {
	for name, w := range weaknesses {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			source := strings.NewReplacer(longer[name]...).Replace(w.trial(name))
			if strings.HasPrefix(name, "26") {
				w.switches.Crooked = 30 * time.Microsecond
			}
			if w.config.Store != "" {
				w.config.Store = filepath.Join(t.TempDir(), "good.db")
			}
			good := playWith(t, source, w.config, board.Switches{})
			if strings.HasPrefix(name, "silent") { // it is the trial of a server that is slow to notice
				good = playWith(t, source, standin.Config{}, board.Switches{})
			}
			for _, f := range good.findings(t) {
				t.Errorf("%s, without the switch: %d %s: %s", name, f.Weakness, f.Title, f.Says)
			}
			if w.config.Store != "" {
				w.config.Store = filepath.Join(t.TempDir(), "bad.db")
			}
			bad := playWith(t, source, w.config, w.switches)
			want, of := 0, name
			if also := otherRows[name]; also != "" {
				of = also
			}
			fmt.Sscanf(of, "%d ", &want)
			var found []int
			for _, f := range bad.findings(t) {
				found = append(found, f.Weakness)
				tell(name, f)
				t.Logf("[%s] %d %s (%s): %s", name, f.Weakness, f.Title, f.Severity, f.Says)
				for _, e := range f.Evidence {
					t.Logf("    %s", e.Says)
				}
			}
			if feeds := strings.HasPrefix(name, "self-pushing"); feeds && len(found) > 1 ||
				!feeds && !slices.Equal(found, []int{want}) {
				t.Errorf("%s: found %v", name, found)
			}
		})
	}
}

// otherRows are those that the trials of some weaknesses show in an ordinary run: the row, or 0 for what is none.
var otherRows = map[string]string{
	"28 brittle":                        "42", // the others are hit
	"27 enter and leave notices":        "0",
	"silent clients":                    "6",
	"24 open door, without credentials": "24",
}

// longer are changes to trials that are too short to tell the weakness from anything else.
var longer = map[string][]string{
	"26 crooked growth": {"times = 12", "times = 40", "clients = 20", "clients = 124", "lock-${n % 2}",
		"lock-${n < 4 ? 0 : n < 12 ? 1 : n < 28 ? 2 : n < 60 ? 3 : 4}"},
	"41 stalls": {"times = 12", "times = 40"},
	"9 slow reader stalls its room": {"times = 12", "times = 40", "when {", "repeat {\n    every = \"500ms\"\n    " +
		"times = 12\n    say { body = { kind = \"notice\", room = room, text = \"${mark}\" } }\n  }\n  when {"},
}

// TestHeartbeatFindings: of a server that says what its heartbeats are, clients misbehave about theirs: nothing is
// found but what its switches have it do wrong.
func TestHeartbeatFindings(t *testing.T) {
	for name, tc := range map[string]struct {
		switches board.Switches
		want     []int
	}{
		"all well":      {board.Switches{}, nil},
		"no eviction":   {board.Switches{Beats: board.Beats{NoEviction: 0.4}}, []int{6}},
		"hasty":         {board.Switches{Beats: board.Beats{Hasty: 0.3}}, []int{7}},
		"beats missing": {board.Switches{Beats: board.Beats{MissBeat: 0.1}}, []int{8}},
		"uneven":        {board.Switches{Beats: board.Beats{Uneven: 0.7}}, []int{8}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			crew := misbehaving
			if tc.switches.Hasty+tc.switches.MissBeat+tc.switches.Uneven > 0 { // who misbehaves is closed anyway
				crew = ""
			}
			p := playWith(t, fmt.Sprintf(heartbeats, 4, "server", crew), standin.Config{PingEvery: time.Second,
				PongWithin: 2 * time.Second, Notices: true}, tc.switches)
			var found []int
			for _, f := range p.findings(t) {
				found = append(found, f.Weakness)
				t.Logf("%s: %s", f.Name(), f.Says)
			}
			if !slices.Equal(found, tc.want) {
				t.Errorf("found %v, want %v", found, tc.want)
			}
		})
	}
}

// TestNothingFound plays trials in which clients move, speak, whisper, vanish and come back, against a server that does
// nothing wrong, with and without faults of the trial's own: nothing is found.
func TestNothingFound(t *testing.T) {
	moving, returning, climbing, config := restlessTrials()
	for seed := range uint64(seeds(24)) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			source, cfg := moving, config
			if seed%2 == 1 {
				source = strings.ReplaceAll([]string{returning, climbing}[seed/2%2], "        history = 5\n", "")
				cfg.PingEvery, cfg.History = 500*time.Millisecond, -1
			}
			tr, err := language.Parse([]byte(source), "nothing.trial.hcl", language.Options{})
			if err != nil {
				t.Fatal(err)
			}
			tr.Seed = seed
			p := playTrial(t, tr, cfg, board.Switches{})
			for _, f := range p.findings(t) {
				t.Errorf("%s: %s", f.Name(), f.Says)
				for _, e := range f.Evidence {
					t.Log(e.Says)
				}
			}
		})
	}
}
