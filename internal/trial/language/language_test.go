package language

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tidepull/internal/measure/ledger"
	"tidepull/internal/standin/board"
	"tidepull/internal/trial"
	"tidepull/internal/trial/expr"
	"tidepull/internal/wire/jsonscan"
	"tidepull/trials"
)

func TestDemoTrial(t *testing.T) {
	tr, err := Parse(trials.Demo, trials.DemoName, Options{})
	if err != nil {
		t.Fatal(err)
	}
	if tr.Clients() != 400 || len(tr.Crews) != 3 || tr.Tide.Length() != 90*time.Second || len(tr.Limits) != 5 ||
		tr.Seed != 7 {
		t.Errorf("%+v", tr)
	}
	for at, want := range map[time.Duration]int{0: 0, 10 * time.Second: 200, 30 * time.Second: 400,
		85 * time.Second: 200, 90 * time.Second: 0, time.Hour: 0} {
		if got := tr.Tide.Clients(at, 400); got != want {
			t.Errorf("at %v there should be %d clients, want %d", at, got, want)
		}
	}
	steps := tr.Crews[2].Session.Steps
	want := []trial.StepKind{trial.Connect, trial.Enter, trial.Repeat, trial.Say, trial.Tell, trial.Again, trial.Leave}
	for i, s := range steps {
		if s.Do != want[i] {
			t.Fatalf("step %d is %d, want %d", i, s.Do, want[i])
		}
	}
	if steps[2].Goto != 5 || steps[5].Goto != 2 || steps[2].Repeat.Jitter != 0.2 || steps[3].Reaches != ledger.ToRoom {
		t.Errorf("the repeat: %+v", steps)
	}
	s := &expr.Scope{}
	s.Vars[expr.VarN], s.Vars[expr.VarRound], s.Vars[expr.VarMark], s.Vars[expr.VarRoom] = expr.Num(13), expr.Num(8),
		expr.Str("MARK"), expr.Str(`lock "6"`)
	if got := string(steps[1].Room.Append(nil, s)); got != "lock-6" {
		t.Errorf("the room is %q", got)
	}
	if got := string(steps[3].Body.Append(nil,
		s)); got != `{"kind":"notice","room":"lock \"6\"","text":"tide gauge 6.2 m, turn 8 MARK"}` {
		t.Errorf("the message is %s", got)
	}
}

// TestErrors reads wrong trials and compares all that is said of each with
// what stands beside it. Run with UPDATE=1 after a change of wording.
func TestErrors(t *testing.T) {
	files, err := filepath.Glob("testdata/*.trial.hcl")
	if err != nil || len(files) < 3 {
		t.Fatalf("%d files, %v", len(files), err)
	}
	for _, file := range files {
		_, err := Load(file, Options{})
		var all *Errors
		if !errors.As(err, &all) {
			t.Errorf("%s: %v", file, err)
			continue
		}
		golden := strings.TrimSuffix(file, ".trial.hcl") + ".errors"
		if os.Getenv("UPDATE") != "" {
			if err := os.WriteFile(golden, []byte(err.Error()+"\n"), 0o666); err != nil {
				t.Fatal(err)
			}
		}
		want, err := os.ReadFile(golden)
		if err != nil {
			t.Fatal(err)
		}
		if got := all.Error() + "\n"; got != string(want) {
			t.Errorf("%s: got\n%s\nwant\n%s", file, got, want)
		}
	}
}

// TestConditions compiles conditions and tries them on messages.
func TestConditions(t *testing.T) {
	for _, tc := range []struct {
		when, msg string
		want      bool
	}{
		{`msg.kind == "notice"`, `{"kind":"notice"}`, true},
		{`msg.kind == "notice"`, `{"kind":"not\u0069ce"}`, true},
		{`msg.kind == "notice"`, `{"kind":3}`, false},
		{`msg.kind != "notice"`, `{}`, true},
		{`msg.room == null`, `{"kind":"x"}`, true},
		{`msg.seq > 3 && msg.seq <= 10`, `{"seq":10}`, true},
		{`msg.seq > 3 && msg.seq <= 10`, `{"seq":11}`, false},
		{`msg.seq > 3`, `{"seq":"9"}`, false},
		{`msg.a.b[1] == -2.5 || msg.ok`, `{"a":{"b":[1,-2.5]}}`, true},
		{`msg.a.b[1] == -2.5 || msg.ok`, `{"ok":true}`, true},
		{`!(msg.ok || msg.seq == 1)`, `{"ok":false,"seq":2}`, true},
		{`msg.name == "${name}-${n * 2 + 1}"`, `{"name":"tug-7"}`, true},
		{`(msg.seq % 2 == 0 ? msg.a : msg.b) == "y"`, `{"seq":3,"a":"x","b":"y"}`, true},
		{`(msg.seq % 2 == 0 ? msg.a : msg.b) == "y"`, `{"seq":4,"a":"x","b":"y"}`, false},
	} {
		source := `
trial "t" {}
target "t" { websocket = "ws://127.0.0.1:1/" }
session "s" {
  connect {}
  expect "e" { when = ` + tc.when + ` }
}
crew "c" {
  clients = 1
  session = session.s
}
tide {
  flood "100%" { over = "1s" }
}`
		tr, err := Parse([]byte(source), "t", Options{})
		if err != nil {
			t.Errorf("%s: %v", tc.when, err)
			continue
		}
		s := &expr.Scope{Fields: make([]jsonscan.Value, tr.Fields.Len())}
		s.Vars[expr.VarName], s.Vars[expr.VarN] = expr.Str("tug"), expr.Num(3)
		if err := tr.Fields.Extract([]byte(tc.msg), s.Fields); err != nil {
			t.Fatal(err)
		}
		when := tr.Crews[0].Session.Steps[1].When
		if got := when.True(s); got != tc.want {
			t.Errorf("%s on %s is %v", tc.when, tc.msg, got)
		}
		if n := testing.AllocsPerRun(50, func() { when.True(s) }); n != 0 {
			t.Errorf("%s: %v allocations", tc.when, n)
		}
	}
}

// TestMayHold: most messages need not be read as JSON to see that a condition of
// the usual form does not hold on them.
func TestMayHold(t *testing.T) {
	tr, err := Parse(trials.Demo, "demo", Options{})
	if err != nil {
		t.Fatal(err)
	}
	past := tr.Dialect.Past
	if past.MayHold([]byte(`{"kind":"notice"}`)) || !past.MayHold([]byte(`{"kind":"past"}`)) ||
		!past.MayHold([]byte(`{"kind":"\u0070ast"}`)) {
		t.Error("a look at the bytes does not know whether a message may be of the past")
	}
}

// TestReference: docs/language.md is what the code says, and the code leaves no
// word without one. Run with UPDATE=1 after a change of the vocabulary.
func TestReference(t *testing.T) {
	const path = "../../../docs/language.md"
	got := Reference(board.SwitchWords())
	if os.Getenv("UPDATE") != "" {
		if err := os.WriteFile(path, []byte(got), 0o666); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile(path)
	if err != nil || string(want) != got {
		t.Errorf("docs/language.md is not up to date (%v): tidepull words > docs/language.md", err)
	}
	if _, err := Parse([]byte(WholeTrial), "whole.trial.hcl", Options{}); err != nil {
		t.Errorf("the reference's whole trial: %v", err)
	}
	for name, b := range vocabulary {
		if b.doc == "" && name != "" {
			t.Errorf("block %s has no explanation", name)
		}
		for _, a := range b.attrs {
			if a.doc == "" || a.form == "" {
				t.Errorf("%s.%s has no explanation", name, a.name)
			}
			if !strings.Contains(got, "| `"+a.name+"` |") {
				t.Errorf("%s.%s is not in the reference", name, a.name)
			}
		}
		for _, inner := range b.blocks {
			if vocabulary[inner] == nil {
				t.Errorf("%s holds %s, which is no block", name, inner)
			}
		}
	}
}

// TestFormat: a trial that is laid out is left alone, one that is not reads the
// same afterwards, and one with wrong syntax is refused whole.
func TestFormat(t *testing.T) {
	same, err := Format(trials.Demo, "demo")
	if err != nil || string(same) != string(trials.Demo) {
		t.Errorf("the demo's trial is not laid out as it should be: %v", err)
	}
	messy := strings.ReplaceAll(strings.ReplaceAll(string(trials.Demo), "  ", ""), " = ", "=")
	tidy, err := Format([]byte(messy), "demo")
	if err != nil || string(tidy) == messy {
		t.Fatalf("nothing changed: %v", err)
	}
	a, errA := Parse(trials.Demo, "a", Options{})
	b, errB := Parse(tidy, "b", Options{})
	if errA != nil || errB != nil || a.Clients() != b.Clients() || len(a.Limits) != len(b.Limits) ||
		len(a.Crews[2].Session.Steps) != len(b.Crews[2].Session.Steps) {
		t.Errorf("it reads otherwise now: %v, %v", errA, errB)
	}
	var all *Errors
	if out, err := Format([]byte("crew {"), "x"); !errors.As(err, &all) || out != nil {
		t.Errorf("%q, %v", out, err)
	}
}

// TestOwnDialect: a trial may bring a dialect of its own, which goes before a
// built-in one of the same name.
func TestOwnDialect(t *testing.T) {
	own := `
dialect "plain-json" {
  enter {
    send      = { op = "join", channel = room }
    confirmed = msg.op == "joined" && msg.channel == room
  }
}
` + string(trials.Demo)
	tr, err := Parse([]byte(own), "own", Options{})
	if err != nil {
		t.Fatal(err)
	}
	s := &expr.Scope{Fields: make([]jsonscan.Value, tr.Fields.Len())}
	s.Vars[expr.VarRoom] = expr.Str("quay")
	if got := string(tr.Dialect.Enter.Send.Append(nil, s)); got != `{"op":"join","channel":"quay"}` {
		t.Errorf("it says %s", got)
	}
	if err := tr.Fields.Extract([]byte(`{"op":"joined","channel":"quay"}`), s.Fields); err != nil ||
		!tr.Dialect.Enter.Confirmed.True(s) {
		t.Errorf("the confirmation is not recognised: %v", err)
	}
	if tr.Dialect.Naming.Send != nil || tr.Dialect.Past != nil {
		t.Error("parts of the built-in dialect are left")
	}
}

func FuzzParse(f *testing.F) {
	f.Add(string(trials.Demo))
	f.Add(`tide { flood "x" {} }`)
	f.Add(`crew "a" { session = session[1] }`)
	f.Fuzz(func(t *testing.T, s string) {
		if _, err := Parse([]byte(s), "fuzz", Options{}); err != nil {
			_ = err.Error()
		}
	})
}

// TestTargetOfEach: the address of the command line may have what is a client's own, as that of the file may.
func TestTargetOfEach(t *testing.T) {
	at := func(target string) (*trial.Trial, error) {
		return Parse([]byte(WholeTrial), "whole.trial.hcl", Options{Target: target})
	}
	tr, err := at("ws://127.0.0.1:9/far?client=${name}")
	if err != nil {
		t.Fatal(err)
	}
	r := tr.Target.Route(0)
	if r.Whole == nil || tr.Target.Address != "ws://127.0.0.1:9/far?client=" {
		t.Errorf("%q, %v", tr.Target.Address, r.Whole)
	}
	if tr, err = at("ws://127.0.0.1:9/far"); err != nil || tr.Target.Route(0).Whole != nil {
		t.Errorf("%v, %v", err, tr.Target.Route(0).Whole)
	}
	for _, wrong := range []string{"ws://${name}/far", "ws://127.0.0.1:9/${", "ws://127.0.0.1:9/${nobody.knows}"} {
		if _, err := at(wrong); err == nil {
			t.Errorf("%s is taken", wrong)
		}
	}
}
