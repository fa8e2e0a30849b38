package run

import (
	"slices"
	"strings"
	"testing"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/mark"
	"tidepull/internal/trial"
)

// second makes an entry with deliveries of one latency.
func second(at int, latency time.Duration, n int, overload logbook.Overload) *logbook.Entry {
	p := logbook.NewPage(at, 1)
	for range n {
		p.Delivery(0, n, latency, latency)
	}
	p.Counts.Refused, p.Counts.Started, p.Counts.Opened = 1, 1, 1
	e := p.Entry()
	e.Health.Overload, e.Health.Span = overload, time.Second
	return e
}

// TestJudgeLimits: a limit on a latency is held against the seconds in which
// neither the tool nor the machine was the bottleneck; one that holds in spite of
// many such seconds is not proven; what is counted breaks a limit only if it does
// in those seconds.
func TestJudgeLimits(t *testing.T) {
	prompt := trial.Limit{Name: "prompt", Figure: "fanout.p99", Rule: trial.Below, Value: 10_000}
	few := trial.Limit{Name: "few refusals", Figure: "clients.refused", Rule: trial.AtMost, Value: 100}
	lag := trial.Limit{Name: "own lag", Figure: "self.overloaded", Rule: trial.AtMost, Value: 50}
	unmeasured := trial.Limit{Name: "entering", Figure: "enter.p50", Rule: trial.Below, Value: 1}
	run := func(clean, crowded int, cleanLatency, crowdedLatency time.Duration, why logbook.Overload) []*logbook.Entry {
		var entries []*logbook.Entry
		for range clean {
			entries = append(entries, second(len(entries), cleanLatency, 100, 0))
		}
		for range crowded {
			entries = append(entries, second(len(entries), crowdedLatency, 100, why))
		}
		return entries
	}
	const quick, slow = time.Millisecond, 100 * time.Millisecond
	const late, core = logbook.SendsLate, logbook.NoCore
	for name, tc := range map[string]struct {
		entries []*logbook.Entry
		want    [4]Verdict // prompt, few, lag, unmeasured
		overall Verdict
	}{
		"all well": {run(20, 0, quick, 0, 0), [4]Verdict{Holds, Holds, Holds, NotProven},
			NotProven},
		"slow": {run(20, 0, slow, 0, 0), [4]Verdict{Broken, Holds, Holds, NotProven},
			Broken},
		"slow in one crowded second of many": {run(99, 1, quick, slow, late),
			[4]Verdict{Holds, Holds, Holds, NotProven}, NotProven},
		"slow in many crowded seconds": {run(20, 5, quick, slow, late),
			[4]Verdict{NotProven, NotProven, Holds, NotProven}, NotProven},
		"slow in clean seconds as well": {run(20, 5, slow, quick, late),
			[4]Verdict{Broken, NotProven, Holds, NotProven}, Broken},
		"nothing but crowded seconds": {run(0, 5, 0, slow, late),
			[4]Verdict{NotProven, NotProven, Holds, NotProven}, NotProven},
		"a crowded machine makes nothing good": {run(20, 20, quick, quick, core),
			[4]Verdict{Holds, Holds, Holds, NotProven}, NotProven},
		"but it may make something bad": {run(60, 60, quick, slow, core),
			[4]Verdict{Holds, NotProven, Broken, NotProven}, Broken},
		"too many refusals, most in between": {run(110, 60, quick, quick, late),
			[4]Verdict{NotProven, Broken, Broken, NotProven}, Broken},
	} {
		total, clean := &logbook.Window{}, &logbook.Window{}
		if err := add(tc.entries, total, clean); err != nil {
			t.Fatal(err)
		}
		got := Judge([]trial.Limit{prompt, few, lag, unmeasured}, total, clean)
		for i, j := range got {
			if j.Verdict != tc.want[i] || (j.Verdict == NotProven) != (j.Why != "") {
				t.Errorf("%s: %s is %q (%s), want %q", name, j.Limit.Name, j.Verdict, j.Why, tc.want[i])
			}
		}
		s := &Snapshot{Judgements: got, Total: total, Finished: true, Trial: &trial.Trial{}}
		if v, why := s.Outcome(); v != tc.overall || why == "" {
			t.Errorf("%s: overall %q (%s), want %q", name, v, why, tc.overall)
		}
		// While it goes on, what has not been measured yet is no cause for alarm.
		for _, verdict := range []Verdict{Broken, NotProven} {
			underWay := &Snapshot{Judgements: got}
			if want := slices.Contains(tc.want[:3], verdict); underWay.Judged(verdict) != want {
				t.Errorf("%s: under way, something is %s: %v", name, verdict, !want)
			}
		}
		if over := (&Snapshot{Judgements: got, Finished: true}); !over.Judged(NotProven) {
			t.Errorf("%s: over, and nothing is not proven", name)
		}
	}
}

// TestOutcome is the table of docs/verdict.md: what a run that was measured in
// some way says, and why.
func TestOutcome(t *testing.T) {
	lost := trial.Limit{Name: "none lost", Figure: "ledger.lost", Rule: trial.Equals}
	many := trial.Limit{Name: "many", Figure: "clients.open", Rule: trial.AtLeast, Value: 50}
	well := func(p *logbook.Page) {
		p.Counts.Started, p.Counts.Opened, p.Gauges.Open = 50, 50, 50
		l := ledger.New(ledger.Config{Run: 1, Crews: 1, Prompt: time.Second, Grace: time.Second})
		room := l.Room("lock-1")
		for range 2 {
			c := l.AddClient(0)
			l.Ask(c, room, 0)
			l.Enter(c, room, 0)
		}
		n := l.Say(ledger.Say{Room: room, Sheet: &p.Sheet})
		for c := range ledger.Client(2) {
			l.Arrive(ledger.Arrival{To: c, At: 1, Sheet: &p.Sheet,
				Mark: mark.Mark{Run: 1, Room: uint32(room), Number: n}})
		}
		l.Settle(mono.Never - 1)
	}
	for name, tc := range map[string]struct {
		limits []trial.Limit
		page   func(*logbook.Page)
		snap   Snapshot
		want   Verdict
		why    string
	}{
		"whole":          {[]trial.Limit{lost, many}, func(*logbook.Page) {}, Snapshot{}, Holds, "limits hold"},
		"without limits": {nil, func(*logbook.Page) {}, Snapshot{}, Holds, "limits hold"},
		"nobody was owed": {[]trial.Limit{lost}, func(p *logbook.Page) { p.Sheet = ledger.Sheet{} }, Snapshot{},
			NotProven, "nothing was measured"},
		"denied": {[]trial.Limit{lost}, func(p *logbook.Page) { p.Counts.Denied = 50 }, Snapshot{},
			Broken, "no client is denied: clients.denied is 50"},
		"unsent": {nil, func(p *logbook.Page) { p.Counts.Unsent = 3 }, Snapshot{}, Broken,
			"messages.unsent is 3"},
		"an expectation": {nil, func(p *logbook.Page) { p.Counts.Missed = 1; p.Check(0, false) }, Snapshot{},
			Broken, "expectations.missed is 1"},
		"another check": {nil, func(p *logbook.Page) { p.Check(0, false) }, Snapshot{}, Broken,
			"checks.failed_otherwise is 1"},
		"a check, as agreed": {[]trial.Limit{{Name: "some", Figure: "checks.failed", Rule: trial.AtMost, Value: 1}},
			func(p *logbook.Page) { p.Check(0, false) }, Snapshot{}, Holds, ""},
		"malformed": {nil, func(p *logbook.Page) { p.Counts.Malformed = 1 }, Snapshot{}, Broken,
			"clients.malformed"},
		"announced falsely": {nil, func(p *logbook.Page) { p.Counts.StrayNews = 1 }, Snapshot{}, Broken,
			"announcements.stray"},
		"cut short": {[]trial.Limit{lost}, func(*logbook.Page) {}, Snapshot{Stopped: true}, NotProven,
			"cut short"},
		"cut short, too few": {[]trial.Limit{{Name: "more", Figure: "clients.open", Rule: trial.AtLeast, Value: 500}},
			func(*logbook.Page) {}, Snapshot{Stopped: true}, NotProven, "cut short"},
		"cut short and denied": {nil, func(p *logbook.Page) { p.Counts.Denied = 1 }, Snapshot{Stopped: true}, Broken,
			"clients.denied"},
		"no port": {[]trial.Limit{lost},
			func(p *logbook.Page) { p.Counts.Hindered, p.Health.Waiting = 150, logbook.NoPort }, Snapshot{}, NotProven,
			"150 connections could not be opened: no local port was free"},
		"stopped": {nil, func(p *logbook.Page) { p.Counts.Unsent, p.Health.Waiting = 3, logbook.Stopped },
			Snapshot{}, NotProven, "the process was stopped"},
		"a question": {nil, func(*logbook.Page) {},
			Snapshot{FinalResults: []FinalResult{{Name: "kept", Verdict: Broken, Why: "3"}}}, Broken, "kept: 3"},
		"nobody set out": {nil, func(p *logbook.Page) { *p = *logbook.NewPage(0, 1) }, Snapshot{}, NotProven,
			"nothing was measured"},
	} {
		p := logbook.NewPage(0, 1)
		well(p)
		p.Health.Span = time.Second
		tc.page(p)
		p.Judge()
		total, clean := &logbook.Window{}, &logbook.Window{}
		if err := add([]*logbook.Entry{p.Entry()}, total, clean); err != nil {
			t.Fatal(err)
		}
		s := tc.snap
		s.Trial, s.Total, s.Finished = &trial.Trial{Limits: tc.limits}, total, true
		s.Judgements = Judge(Limits(s.Trial), total, clean)
		if v, why := s.Outcome(); v != tc.want || !strings.Contains(why, tc.why) {
			t.Errorf("%s: %s (%s), want %s (%s)", name, v, why, tc.want, tc.why)
		}
	}
}

func TestRules(t *testing.T) {
	for rule, want := range map[trial.Rule][3]bool{ // of 4, 5, 6 against 5
		trial.Below: {true, false, false}, trial.Above: {false, false, true}, trial.AtMost: {true, true, false},
		trial.AtLeast: {false, true, true}, trial.Equals: {false, true, false},
	} {
		l := trial.Limit{Rule: rule, Value: 5}
		for i, v := range []float64{4, 5, 6} {
			if l.Holds(v) != want[i] {
				t.Errorf("%v %s 5 is %v", v, rule, !want[i])
			}
		}
	}
}
