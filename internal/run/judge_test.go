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

// TestJudgeLimits: a limit on a latency holds if it does with everything in it, is broken if it
// is in the seconds in which neither the tool nor the machine was the bottleneck, and is else not
// proven.
func TestJudgeLimits(t *testing.T) {
	prompt := trial.Limit{Name: "prompt", Figure: "fanout.p99", Rule: trial.Below, Value: 10_000}
	many := trial.Limit{Name: "many refusals", Figure: "clients.refused", Rule: trial.AtLeast, Value: 1}
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
	waiting := func(entries []*logbook.Entry, from int, kept time.Duration) []*logbook.Entry {
		for _, e := range entries[from:] {
			e.Health.Watched, e.Health.Kept, e.Health.Crowded = true, kept, time.Second
		}
		return entries
	}
	const quick, slow = time.Millisecond, 100 * time.Millisecond
	const late, core = logbook.SendsLate, logbook.NoCore
	const ms = time.Millisecond
	for name, tc := range map[string]struct {
		entries []*logbook.Entry
		want    Verdict // of prompt
		own     Verdict // of lag
		why     string  // of prompt
	}{
		"all well":           {run(20, 0, quick, 0, 0), Holds, Holds, ""},
		"well, and crowded":  {run(5, 20, quick, quick, late), Holds, Holds, ""},
		"slow":               {run(20, 0, slow, 0, 0), Broken, Holds, ""},
		"slow when not, too": {run(20, 5, slow, quick, core), Broken, Holds, ""},
		"slow when crowded": {run(20, 1, quick, slow, late), NotProven, Holds,
			"it is 100 ms with 1 second in which messages were sent late, and 1.00 ms without"},
		"nothing but crowded": {run(0, 5, 0, slow, late), NotProven, Holds,
			"it is 100 ms, and rests on nothing but 5 seconds in which"},
		"enough in the rest": {run(1, 5, slow, slow, late), Broken, Holds, ""},
		"too few in the rest": {append(run(0, 5, quick, slow, late), second(5, slow, 2, 0)), NotProven, Holds,
			"without, 2 of 2 are beyond the limit, and 5 are needed"},
		"crowded too often": {run(60, 60, quick, quick, core), Holds, Broken, ""},
		"slow, and kept waiting": {waiting(run(20, 0, slow, 0, 0), 0, 3*ms), NotProven, Holds,
			"rests on nothing but 20 seconds in which programs waited for a core for up to 3.00 ms"},
		"slow, and kept too short": {waiting(run(20, 0, slow, 0, 0), 0, 2*ms), Broken, Holds, ""},
		"kept in the next second": {waiting(run(2, 0, slow, 0, 0), 1, 3*ms), NotProven, Holds,
			"rests on nothing but 2 seconds"},
	} {
		limits := []trial.Limit{prompt, many, lag, unmeasured}
		evidence, err := Gather(limits, 0, tc.entries)
		if err != nil {
			t.Fatal(err)
		}
		got := Judge(limits, evidence)
		if !strings.Contains(got[0].Why, tc.why) {
			t.Errorf("%s: because %s", name, got[0].Why)
		}
		want := []Verdict{tc.want, Holds, tc.own, NotProven}
		for i, j := range got {
			if j.Verdict != want[i] || (j.Verdict == NotProven) != (j.Why != "") {
				t.Errorf("%s: %s is %q (%s), want %q", name, j.Limit.Name, j.Verdict, j.Why, want[i])
			}
		}
		overall := NotProven // something was not measured
		if slices.Contains(want, Broken) {
			overall = Broken
		}
		s := &Snapshot{Judgements: got, Total: evidence.Total, Finished: true, Trial: &trial.Trial{}}
		if v, why := s.Outcome(); v != overall || why == "" {
			t.Errorf("%s: overall %q (%s), want %q", name, v, why, overall)
		}
		// While it goes on, what has not been measured yet is no cause for alarm.
		for _, verdict := range []Verdict{Broken, NotProven} {
			underWay := &Snapshot{Judgements: got}
			if want := slices.Contains(want[:3], verdict); underWay.Judged(verdict) != want {
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
			Broken, "clients.denied is 50, wanted at most 0 (limit \"no client is denied\")"},
		"unsent": {nil, func(p *logbook.Page) { p.Counts.Unsent = 3 }, Snapshot{}, NotProven,
			"3 messages could not be said"},
		"unsent, and the trial says how many may be": {[]trial.Limit{{Name: "all", Figure: "messages.unsent",
			Rule: trial.AtMost, Value: 2}}, func(p *logbook.Page) { p.Counts.Unsent = 3 }, Snapshot{}, Broken,
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
		"stopped": {nil, func(p *logbook.Page) { p.Check(0, false); p.Health.Waiting = logbook.Stopped },
			Snapshot{}, NotProven, "the process was stopped"},
		"refused, perhaps by the tool": {nil,
			func(p *logbook.Page) { p.Counts.Refused, p.Counts.Doubt.Refused = 3, 3 },
			Snapshot{}, NotProven, "no client is refused: "},
		"refused, one of three by the server": {nil,
			func(p *logbook.Page) {
				p.Counts.Refused, p.Counts.Doubt.Refused = 3, 2
				p.Health.Waiting = logbook.NoCore
			},
			Snapshot{}, Broken, "clients.refused is 3"},
		"an expectation, perhaps by the tool": {nil, func(p *logbook.Page) {
			p.Counts.Missed, p.Counts.WaitsFailed, p.Counts.Doubt = 1, 1, logbook.DoubtCounts{Missed: 1, Failed: 1}
			p.Check(0, false)
		}, Snapshot{}, NotProven, "every expectation is met: "},
		"sent late": {[]trial.Limit{many},
			func(p *logbook.Page) {
				p.Counts.Load = logbook.LoadCounts{OnTime: 94, Late: 6, Planned: 50 * time.Second}
			},
			Snapshot{}, NotProven, "this machine was too busy for this load: the load was 94 % of what was planned " +
				"(6 of 100 messages were said more than a second late); the server nonetheless delivered all 2 that " +
				"were owed"},
		"set out late": {nil,
			func(p *logbook.Page) {
				p.Counts.Load = logbook.LoadCounts{Behind: 25 * time.Second, Planned: 50 * time.Second}
			},
			Snapshot{}, NotProven, "too busy for this load: the load was 50 % of what was planned (clients set out " +
				"late, by 25s"},
		"no answer to connecting": {nil,
			func(p *logbook.Page) {
				p.Counts.Load = logbook.LoadCounts{Waited: 25 * time.Second, Planned: 100 * time.Second}
			},
			Snapshot{}, NotProven, "the load was 75 % of what was planned (clients waited 25s in all for their " +
				"connections"},
		"enough of it": {[]trial.Limit{{Name: "load", Figure: "load.offered", Rule: trial.AtLeast, Value: 90}},
			func(p *logbook.Page) {
				p.Counts.Load = logbook.LoadCounts{OnTime: 91, Late: 9, Planned: 50 * time.Second}
			},
			Snapshot{}, Holds, "limits hold"},
		"late, and denied": {nil,
			func(p *logbook.Page) { p.Counts.Load.Late, p.Counts.Denied = 6, 1 }, Snapshot{}, Broken,
			"clients.denied is 1"},
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
		s := tc.snap
		s.Trial, s.Finished, s.Entries = &trial.Trial{Limits: tc.limits}, true, []*logbook.Entry{p.Entry()}
		evidence, err := Gather(Limits(s.Trial), 0, s.Entries)
		if err != nil {
			t.Fatal(err)
		}
		s.Total = evidence.Total
		s.Judgements = Judge(Limits(s.Trial), evidence)
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
