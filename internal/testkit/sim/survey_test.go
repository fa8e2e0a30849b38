package sim_test

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"tidepull/internal/finding"
	"tidepull/internal/run"
	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
	"tidepull/internal/survey"
	"tidepull/internal/trial/language"
	"tidepull/trials"
)

// surveyed plays a survey of the stand-in, made of the words that ship with it, in virtual time; of the experiments
// that are about one row alone, if it is not 0.
func surveyed(t *testing.T, cfg standin.Config, switches board.Switches, row int,
	words func([]byte) []byte) survey.Report {
	t.Helper()
	source := trials.Survey
	if words != nil {
		source = words(source)
	}
	if cfg.PingEvery > time.Minute { // it does not ping: who does not read is not let go for that
		a, b := bytes.Index(source, []byte("  promise {")), bytes.Index(source, []byte("session \"watch"))
		source = slices.Concat(source[:a], []byte("}\n\n"), source[bytes.Index(source, []byte("dialect \"board\"")):b],
			source[b:])
	}
	cfg.Records = -1 // nobody asks for them
	cfg.PingEvery, cfg.PongWithin, cfg.History = max(cfg.PingEvery, 2*time.Second), 10*time.Second, 200
	cfg.Notices, cfg.Share, cfg.Origins = true, true, []string{"http://harbour.example"}
	var results []survey.Result
	for _, e := range composed(t, source, survey.Options{Tag: fmt.Sprint("s", switches.Seed)}) {
		if row > 0 && !slices.Contains(e.Rows, row) {
			e.Lacks, e.LeftOut = "it is about something else", true
		}
		if e.Lacks != "" {
			results = append(results, survey.Result{Experiment: e, Why: e.Lacks})
			continue
		}
		of, err := language.Parse(e.Source, e.Name+".trial.hcl", language.Options{})
		if err != nil {
			t.Fatalf("%s: %v\n%s", e.Name, err, e.Source)
		}
		of.Seed = switches.Seed
		p := playTrial(t, of, cfg, switches)
		last := p.snapshot(t)
		last.Findings = last.Find()
		r := survey.Ended(e, last)
		r.Run = &run.Snapshot{Trial: of, Total: last.Total, Findings: last.Findings} // the rest is much
		results = append(results, r)
	}
	return survey.Of(results)
}

// patient has the server of a trial not close who reads slowly.
func patient(source []byte) []byte {
	return bytes.Replace(source, []byte("    evicted_within   = \"30s\"\n"), nil, 1)
}

// unnumbered has messages have no numbers.
func unnumbered(source []byte) []byte {
	return regexp.MustCompile(`\n    seq +(= msg.seq)`).ReplaceAll(source, nil)
}

// withNodes has the server of a trial be one of two nodes, and one transport.
func withNodes(source []byte) []byte {
	for _, change := range [][2]string{
		{"  websocket = \"ws://127.0.0.1:7411/live?client=${crew}-${n}\"\n", "  nodes = [\"ws://127.0.0.1:7411/live?" +
			"node=1\", \"ws://127.0.0.1:7411/live?node=2\"]\n"},
		{"  route \"polling\" {\n    polling  = \"http://127.0.0.1:7411/poll?client=${crew}-${n}\"\n" +
			"    post_end = true\n  }\n", ""},
	} {
		source = bytes.Replace(source, []byte(change[0]), []byte(change[1]), 1)
	}
	return source
}

// composed are the experiments of a survey that is made of the words of a trial.
func composed(t *testing.T, source []byte, o survey.Options) []survey.Experiment {
	t.Helper()
	const name = "demo.trial.hcl"
	tr, err := language.Parse(source, name, language.Options{})
	if err != nil {
		t.Fatal(err)
	}
	parts, err := language.PartsOf(source, name, nil)
	if err != nil {
		t.Fatal(err)
	}
	return survey.Compose(tr, &parts, o)
}

// A cause is a switch of the stand-in, at a strong and at a faint setting, and the row that a survey has to find.
type cause struct {
	row           int
	name          string
	strong, faint board.Switches
	cfg           standin.Config
	words         func(source []byte) []byte // changes those of the trial; nil: they are as they are
}

// causes are those of the rows that a survey can look for in virtual time: not those that take a process of the
// server's (23), or a promise that numbers outlive a restart (34); and 30 is a note, whatever the server does.
var causes = []cause{
	{row: 1, name: "crowd_race", strong: board.Switches{Load: board.Load{CrowdRace: 0.3}},
		faint: board.Switches{Load: board.Load{CrowdRace: 0.15}}},
	{row: 2, name: "wrong_echo", strong: board.Switches{WrongEcho: 0.1}, faint: board.Switches{WrongEcho: 0.02}},
	{row: 3, name: "leak", strong: board.Switches{Leak: 0.05}, faint: board.Switches{Leak: 0.005}},
	{row: 4, name: "overhear", strong: board.Switches{Overhear: 0.1}, faint: board.Switches{Overhear: 0.02}},
	{row: 5, name: "ghost", strong: board.Switches{Beats: board.Beats{Ghost: 0.5}},
		faint: board.Switches{Beats: board.Beats{Ghost: 0.25}}},
	{row: 6, name: "no_eviction", strong: board.Switches{Beats: board.Beats{NoEviction: 0.5}},
		faint: board.Switches{Beats: board.Beats{NoEviction: 0.2}}},
	{row: 7, name: "hasty", strong: board.Switches{Beats: board.Beats{Hasty: 0.2}},
		faint: board.Switches{Beats: board.Beats{Hasty: 0.1}}},
	{row: 8, name: "miss_beat", strong: board.Switches{Beats: board.Beats{MissBeat: 0.05}},
		faint: board.Switches{Beats: board.Beats{MissBeat: 0.01}}},
	{row: 9, name: "stall_room", strong: board.Switches{Load: board.Load{StallRoom: 1}}},
	{row: 9, name: "stall_room, by turns", strong: board.Switches{Load: board.Load{StallRoom: 1}},
		cfg: standin.Config{PingEvery: time.Hour}, words: patient},
	{row: 10, name: "slow_store", strong: board.Switches{Load: board.Load{SlowStore: 40 * time.Millisecond}},
		faint: board.Switches{Load: board.Load{SlowStore: 7 * time.Millisecond}}},
	{row: 11, name: "history", strong: board.Switches{History: 0.3}, faint: board.Switches{History: 0.15}},
	{row: 11, name: "slow_join", strong: board.Switches{Membership: board.Membership{SlowJoin: 200 * time.Millisecond}},
		faint: board.Switches{Membership: board.Membership{SlowJoin: 50 * time.Millisecond}}, words: unnumbered},
	{row: 12, name: "no_return", strong: board.Switches{Load: board.Load{NoReturn: 0.5}},
		faint: board.Switches{Load: board.Load{NoReturn: 0.4}}},
	{row: 13, name: "double_return", strong: board.Switches{Load: board.Load{DoubleReturn: 0.5}},
		faint: board.Switches{Load: board.Load{DoubleReturn: 0.2}}},
	{row: 14, name: "reorder", strong: board.Switches{Reorder: 0.1}, faint: board.Switches{Reorder: 0.02}},
	{row: 15, name: "disorder", strong: board.Switches{Disorder: 0.05}, faint: board.Switches{Disorder: 0.005}},
	{row: 16, name: "alter", strong: board.Switches{Alter: 0.1}, faint: board.Switches{Alter: 0.005}},
	{row: 17, name: "too_big", strong: board.Switches{TooBig: 5000}, faint: board.Switches{TooBig: 60000}},
	{row: 18, name: "any_origin", strong: board.Switches{Intake: board.Intake{AnyOrigin: 1}}},
	{row: 19, name: "refuse_poll", strong: board.Switches{Ways: board.Ways{RefusePoll: 1}},
		faint: board.Switches{Ways: board.Ways{RefusePoll: 0.3}}},
	{row: 20, name: "lose_at_switch", strong: board.Switches{Ways: board.Ways{LoseAtSwitch: 1}},
		faint: board.Switches{Ways: board.Ways{LoseAtSwitch: 0.4}}},
	{row: 21, name: "slow_accept", strong: board.Switches{Load: board.Load{SlowAccept: 5}},
		faint: board.Switches{Load: board.Load{SlowAccept: 12}}},
	{row: 22, name: "rude_goodbye", strong: board.Switches{Load: board.Load{RudeGoodbye: 0.5}},
		faint: board.Switches{Load: board.Load{RudeGoodbye: 0.4}}},
	{row: 24, name: "open_door", strong: board.Switches{OpenDoor: 1}, faint: board.Switches{OpenDoor: 0.4}},
	{row: 25, name: "node_gap", strong: board.Switches{Membership: board.Membership{NodeGap: 1}},
		faint: board.Switches{Membership: board.Membership{NodeGap: 0.1}}, words: withNodes},
	{row: 26, name: "crooked", strong: board.Switches{Load: board.Load{Crooked: 10 * time.Microsecond}},
		faint: board.Switches{Load: board.Load{Crooked: 4 * time.Microsecond}}},
	{row: 26, name: "dense", strong: board.Switches{Load: board.Load{Dense: 100 * time.Microsecond}},
		faint: board.Switches{Load: board.Load{Dense: 60 * time.Microsecond}}},
	{row: 27, name: "presence", strong: board.Switches{Presence: 0.3}, faint: board.Switches{Presence: 0.05}},
	{row: 28, name: "lenient", strong: board.Switches{Load: board.Load{Lenient: 0.5}},
		faint: board.Switches{Load: board.Load{Lenient: 0.2}}},
	{row: 29, name: "endless_queue", strong: board.Switches{Load: board.Load{EndlessQueue: 1}},
		cfg: standin.Config{PingEvery: time.Hour}},
	{row: 31, name: "clash", strong: board.Switches{Clash: 0.5}, faint: board.Switches{Clash: 0.1}},
	{row: 32, name: "burst_loss", strong: board.Switches{Load: board.Load{BurstLoss: 6}},
		faint: board.Switches{Load: board.Load{BurstLoss: 15}}},
	{row: 33, name: "forget", strong: board.Switches{Forget: 0.3}, faint: board.Switches{Forget: 0.05}},
	{row: 35, name: "late_handler", strong: board.Switches{Membership: board.Membership{
		LateHandler: 60 * time.Millisecond}}},
	{row: 36, name: "deaf", strong: board.Switches{Membership: board.Membership{Deaf: 0.2}},
		faint: board.Switches{Membership: board.Membership{Deaf: 0.1}}},
	{row: 37, name: "lingers", strong: board.Switches{Membership: board.Membership{Lingers: 0.5}},
		faint: board.Switches{Membership: board.Membership{Lingers: 0.2}}},
	{row: 38, name: "enters_twice", strong: board.Switches{Membership: board.Membership{EntersTwice: 1}},
		faint: board.Switches{Membership: board.Membership{EntersTwice: 0.4}}},
	{row: 39, name: "silent_leave", strong: board.Switches{Membership: board.Membership{SilentLeave: 0.5}},
		faint: board.Switches{Membership: board.Membership{SilentLeave: 0.2}}},
	{row: 40, name: "naive", strong: board.Switches{Intake: board.Intake{Naive: 1}},
		faint: board.Switches{Intake: board.Intake{Naive: 0.5}}},
	{row: 41, name: "standstill", strong: board.Switches{Load: board.Load{Standstill: 1500 * time.Millisecond}},
		faint: board.Switches{Load: board.Load{Standstill: 600 * time.Millisecond}}},
	{row: 42, name: "fragile", strong: board.Switches{Intake: board.Intake{Fragile: 1}},
		faint: board.Switches{Intake: board.Intake{Fragile: 0.3}}},
	{row: 42, name: "brittle", strong: board.Switches{Load: board.Load{Brittle: 1}}},
}

// TestSurvey: a survey of the stand-in with one of its switches finds that row and no other, and without one none. By
// itself it plays the experiments that are about the row; with TIDEPULL_SEEDS, as in make soak, all of them, with each
// switch at a strong and at a faint setting, and checks the table in docs/findings.md (UPDATE=1 writes it).
func TestSurvey(t *testing.T) {
	all := os.Getenv("TIDEPULL_SEEDS") != "" || os.Getenv("UPDATE") != ""
	said := map[string]survey.Report{}
	var saying sync.Mutex
	t.Run("each", func(t *testing.T) {
		surveys, _ := strconv.Atoi(os.Getenv("TIDEPULL_SURVEYS")) // 1000 in make soak
		for seed := range uint64(max(1, surveys)) {
			t.Run(fmt.Sprintf("all well, %d", seed), func(t *testing.T) {
				t.Parallel()
				var words func([]byte) []byte
				cfg := standin.Config{}
				switch seed % 5 {
				case 1:
					words = withNodes
				case 2:
					words, cfg.PingEvery = patient, time.Hour
				case 3:
					words = unnumbered
				}
				rep := surveyed(t, cfg, board.Switches{Seed: 3 + seed}, 0, words)
				isFound(t, rep, 0)
				if words == nil {
					areNotTried(t, rep, 23, 25)
				}
			})
		}
		for _, c := range causes {
			for _, setting := range []string{"strong", "faint"} {
				switches, row := c.strong, c.row
				if setting == "faint" {
					switches = c.faint
				}
				if switches == (board.Switches{}) || setting == "faint" && !all {
					continue
				}
				if all {
					row = 0
				}
				t.Run(fmt.Sprintf("%d %s, %s", c.row, c.name, setting), func(t *testing.T) {
					t.Parallel()
					switches.Seed = 3
					rep := surveyed(t, c.cfg, switches, row, c.words)
					isFound(t, rep, c.row)
					saying.Lock()
					defer saying.Unlock()
					said[c.name+", "+setting] = rep
				})
			}
		}
	})
	if !all {
		return
	}
	const path = "../../../docs/findings.md"
	was, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	head, _, _ := strings.Cut(string(was), surveyHead)
	text := head + surveyTable(said)
	if os.Getenv("UPDATE") != "" {
		err = os.WriteFile(path, []byte(text), 0o644)
	} else if string(was) != text {
		err = errors.New("docs/findings.md does not have what a survey finds; UPDATE=1 writes it")
	}
	if err != nil {
		t.Error(err)
	}
}

// surveyHead begins the part of docs/findings.md that TestSurvey writes.
const surveyHead = "\n## What a survey finds\n"

// surveyTable is a table of what surveys found: a line for each switch and setting, with the row that it is about, and
// the rows in which something was seen that follows from that.
func surveyTable(said map[string]survey.Report) string {
	var b strings.Builder
	p := func(text string, args ...any) { fmt.Fprintf(&b, text+"\n", args...) }
	b.WriteString(surveyHead)
	p("\nWritten by `UPDATE=1 go test ./internal/testkit/sim -run TestSurvey`: a whole survey of the stand-in in " +
		"virtual time for")
	p("each of its switches, at a strong and at a faint setting. ● is what was found; ○ is what was seen as well and " +
		"follows from")
	p("it, and is told as that. Where a line has no ●, or two, the test fails. Rows that no switch is about here: 23 " +
		"takes a process of")
	p("the server's, 34 a promise that numbers outlive a restart, and 30 is a note whatever the " +
		"server does.\n")
	names := []string{}
	for _, c := range causes {
		for _, setting := range []string{"strong", "faint"} {
			if _, is := said[c.name+", "+setting]; is {
				names = append(names, c.name+", "+setting)
			}
		}
	}
	p("```")
	for ten := range 2 {
		line := strings.Repeat(" ", 24)
		for n := 1; n <= len(finding.Catalogue); n++ {
			digit := fmt.Sprint(n % 10)
			if ten == 0 {
				if digit = fmt.Sprint(n / 10); n < 10 {
					digit = " "
				}
			}
			line += " " + digit
		}
		p("%s", line)
	}
	for _, name := range names {
		line := fmt.Sprintf("%-24s", name)
		for _, row := range said[name].Rows {
			mark := "·"
			switch row.State {
			case survey.Found:
				mark = "●"
			case survey.FollowsFrom:
				mark = "○"
			}
			line += " " + mark
		}
		p("%s", line)
	}
	p("```")
	return b.String()
}

// isFound checks that a survey found a row, and no other; 0: none.
func isFound(t *testing.T, rep survey.Report, want int) {
	t.Helper()
	ok := len(rep.Others) == 0
	is := false
	for _, r := range rep.Rows {
		if r.State == survey.Found {
			t.Logf("%d %s: %s (%s)", r.Weakness.Number, r.Weakness.Title, r.Says, r.Shown)
			is = is || r.Weakness.Number == want
			if r.Weakness.Number != want {
				ok = false
				for _, e := range r.Finding.Evidence {
					t.Log("    ", e.Says)
				}
			}
		}
		if r.State == survey.NotFound && !strings.HasPrefix(r.Says, "fewer than 1 in ") &&
			!strings.HasPrefix(r.Says, survey.RefusedEachTime) || r.Says == "" {
			t.Errorf("%d: %+v", r.Weakness.Number, r)
		}
	}
	for _, f := range rep.Others {
		t.Logf("other: %s: %s", f.Title, f.Says)
	}
	if !ok || is != (want != 0) {
		t.Errorf("want %d alone", want)
	}
}

// areNotTried checks that a survey says something of all rows but these.
func areNotTried(t *testing.T, rep survey.Report, want ...int) {
	t.Helper()
	var got []int
	for _, r := range rep.Rows {
		if r.State == survey.NotTried {
			t.Logf("%d: %s", r.Weakness.Number, r.Says)
			got = append(got, r.Weakness.Number)
		}
	}
	if !slices.Equal(got, want) {
		t.Errorf("not tried are %v, want %v", got, want)
	}
}

// TestEverySurvey: of each trial that ships experiments can be made that are trials, in which the words go together;
// and what cannot be made says what would allow it.
func TestEverySurvey(t *testing.T) {
	sources := map[string][]byte{"survey": trials.Survey}
	for _, name := range trials.Names() {
		sources[name], _ = trials.Named(name)
	}
	shapes, err := fs.Glob(trials.Shapes, "shapes/*.hcl")
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range shapes {
		if sources[name], err = trials.Shapes.ReadFile(name); err != nil {
			t.Fatal(err)
		}
	}
	made, lacking := 0, map[string]bool{}
	own := survey.Options{Tag: "s", Clients: 12}
	prescribed := survey.Options{Tag: "s", Clients: 12, TrialRooms: true, TrialNames: true}
	for name, source := range sources {
		about := map[int]bool{}
		for _, e := range slices.Concat(composed(t, source, own), composed(t, source, prescribed)) {
			for _, n := range e.Rows {
				about[n] = true
			}
			if lacking[e.Lacks] = true; e.Lacks != "" {
				if !strings.Contains(e.Lacks, "would allow it") && !strings.Contains(e.Lacks, "datagrams") &&
					!strings.Contains(e.Lacks, "WebSocket") {
					t.Errorf("%s, %s: it does not say what would allow it: %s", name, e.Name, e.Lacks)
				}
				continue
			}
			of, err := language.Parse(e.Source, e.Name+".trial.hcl", language.Options{})
			if err != nil {
				t.Errorf("%s, %s: %v\n%s", name, e.Name, err, e.Source)
				continue
			}
			if made++; of.Clients() > 60 || !strings.HasPrefix(string(e.Source), "# Shows ") {
				t.Errorf("%s, %s: %d clients\n%.100s", name, e.Name, of.Clients(), e.Source)
			}
		}
		if len(about) != len(finding.Catalogue) {
			t.Errorf("%s: %d weaknesses have an experiment", name, len(about))
		}
	}
	if made < 100 || len(lacking) < 8 {
		t.Errorf("%d experiments, %d reasons", made, len(lacking))
	}
}

// TestPrescribed: a server that lets nobody in but the trial's clients into the trial's rooms is surveyed in those,
// under those names; nothing is found of what clients of an experiment before it did, and a mistake is.
func TestPrescribed(t *testing.T) {
	o := survey.Options{Tag: "s", TrialRooms: true, TrialNames: true}
	played := 0
	for _, leak := range []float64{0, 1} {
		for _, e := range composed(t, trials.Survey, o) {
			if e.Lacks != "" || e.Name == "doors" {
				continue
			}
			of, err := language.Parse(e.Source, e.Name+".trial.hcl", language.Options{})
			if err != nil {
				t.Fatalf("%s: %v\n%s", e.Name, err, e.Source)
			}
			for c := range of.Crews {
				if of.Crews[c].Name != "pilots" || of.Crews[c].Clients > 16 {
					t.Errorf("%s: %d clients of crew %s", e.Name, of.Crews[c].Clients, of.Crews[c].Name)
				}
			}
			for _, words := range []string{"s-", "presence {", "gone {"} {
				if bytes.Contains(e.Source, []byte(words)) {
					t.Errorf("%s has %q", e.Name, words)
				}
			}
			if e.Name != "steady" && e.Name != "vanishing" && e.Name != "crowd" {
				continue
			}
			played++
			p := playTrial(t, of, standin.Config{History: 200, Notices: true, PingEvery: 2 * time.Second},
				board.Switches{Leak: leak})
			found := slices.ContainsFunc(p.findings(t), func(f finding.Finding) bool { return f.Weakness == 3 })
			if found != (leak > 0) || len(p.findings(t)) > 0 != found {
				t.Errorf("%s: %+v", e.Name, p.findings(t))
			}
		}
	}
	if played != 6 {
		t.Errorf("%d experiments were played", played)
	}
}
