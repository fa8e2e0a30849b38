package finding

import (
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
)

// run40 are the facts of a run in which 40 clients in one room said 60 messages, each to all of them, and in which
// everything went well; wrong says what became of a delivery instead.
func run40(wrong func(message, sender, to int) ledger.Fate) *Facts {
	const clients, messages = 40, 60
	f := &Facts{Trial: &trial.Trial{Prompt: time.Second, Grace: 2 * time.Second}, Elapsed: 30 * time.Second, Over: true,
		Total: &logbook.Window{Seconds: 30}, Rooms: []string{ledger.EveryoneName, "lock-1"},
		Certain: func(string) bool { return true }, Well: func(time.Duration) bool { return true },
		InCommon: func(string) string { return "" }, Difference: func(uint64, ledger.Client) string { return "" }}
	for c := range clients {
		f.Names = append(f.Names, "pilot-"+string(rune('a'+c%26))+string(rune('a'+c/26)))
		f.Events = append(f.Events, logbook.Event{At: time.Duration(c) * 40 * time.Millisecond, Client: int32(c),
			Room: 1,
			What: logbook.Entered})
	}
	for n := range messages {
		m := ledger.Message{Number: uint64(n), Room: 1, Sender: int32(n % clients), Owed: clients, Nth: 1 + n/clients,
			Sent: mono.Time(2*time.Second + time.Duration(n)*300*time.Millisecond)}
		f.Total.Total.Said++
		for c := range clients {
			fate := wrong(n, n%clients, c)
			m.Outcomes = append(m.Outcomes, ledger.Outcome{Client: int32(c), Fate: fate})
			*f.Total.Total.Of(fate)++
			if f.Total.Total.Owed++; fate == ledger.Lost {
				m.Lost++
			} else {
				m.Reached++
			}
		}
		f.Kept = append(f.Kept, m)
	}
	f.Total.Counts.Sent, f.Total.Counts.Opened, f.Total.Counts.Entries = messages, clients, clients
	return f
}

// slowFirst are facts of a server that takes 20 ms for the quickest of its messages, which have a size, and 1 ms to
// let a client in.
func slowFirst(size int) *Facts {
	f := run40(well)
	for i := range f.Kept {
		f.Kept[i].Size = size
	}
	for range 60 {
		f.Total.First.Record(20 * time.Millisecond)
		f.Total.Times[logbook.ToEnter].Record(time.Millisecond)
	}
	return f
}

func well(int, int, int) ledger.Fate { return ledger.Delivered }

func lostIf(is bool) ledger.Fate {
	if is {
		return ledger.Lost
	}
	return ledger.Delivered
}

// TestRules: what no trial in virtual time shows is found in facts made by hand, and alone; and what is like it, and is
// not it, is called something else.
func TestRules(t *testing.T) {
	nodes := func(f *Facts) *Facts {
		f.Trial.Target.Nodes = []string{"a", "b"}
		return f
	}
	between := func(_, from, to int) ledger.Fate { return lostIf(from%2 != to%2 && to < 20) }
	for name, tc := range map[string]struct {
		facts *Facts
		want  []int
		says  string
	}{
		"all well":         {run40(well), nil, ""},
		"between nodes":    {nodes(run40(between)), []int{25}, "600 deliveries from one node to another"},
		"the same, of one": {run40(between), []int{0}, "600 deliveries were lost"},
		"on one node too": {nodes(run40(func(n, _, to int) ledger.Fate { return lostIf((n+to)%7 == 0) })), []int{0},
			"were lost that nothing explains"},
		"of one sender's own": {run40(func(_, from, to int) ledger.Fate { return lostIf(from == to) }), []int{2},
			"40 senders never got their own message"},
		"the tool may be why": {func() *Facts {
			f := run40(between)
			f.Certain = func(string) bool { return false }
			return f
		}(), nil, ""},
		"slow by itself":  {slowFirst(120), []int{10}, "took 20.0 ms to its first recipient"},
		"slow, and large": {slowFirst(30_000), nil, ""},
		"left over": {func() *Facts {
			f := run40(well)
			f.Total.Server.Over = true
			f.Total.Server.Gauges[logbook.OpenConnections] = logbook.ServerGauge{Known: true, First: 2, Most: 42,
				Last: 9}
			return f
		}(), []int{23}, "counts 7 connections beyond those before"},
		"at the switch": {func() *Facts {
			f := run40(func(n, _, to int) ledger.Fate { return lostIf(to == 7 && n >= 10 && n < 13) })
			f.Events = append(f.Events, logbook.Event{At: 5600 * time.Millisecond, Client: 7, What: logbook.SteppedUp})
			f.Total.Counts.Routes.Up, f.Total.Counts.Routes.LostAt = 1, 3
			return f
		}(), []int{20}, "3 messages were lost"},
		"no route left": {func() *Facts {
			f := run40(well)
			f.Trial.Target.Routes = make([]trial.Route, 2)
			f.Total.Counts.Routes.NoneLeft = 4
			for c := range ledger.Client(4) {
				f.Events = append(f.Events, logbook.Event{At: 20 * time.Second, Client: c, What: logbook.Refused})
			}
			return f
		}(), []int{19}, "4 clients tried all transports that they could take"},
		"no route left, as the server is down": {func() *Facts {
			f := run40(well)
			f.Trial.Target.Routes = make([]trial.Route, 2)
			f.Total.Counts.Routes.NoneLeft = 4
			for c := range ledger.Client(40) {
				f.Events = append(f.Events, logbook.Event{At: 20 * time.Second, Client: c, What: logbook.Broke})
			}
			f.Events = append(f.Events, logbook.Event{At: 22 * time.Second, Client: 3, What: logbook.Refused})
			return f
		}(), nil, ""},
		"not back": {func() *Facts {
			f := run40(well)
			f.Total.Counts.Returns.Broke, f.Total.Counts.Returns.GaveUp = 10, 2
			f.Events = append(f.Events, logbook.Event{At: 20 * time.Second, Client: 3, What: logbook.GaveUp})
			return f
		}(), []int{21}, "1 of 10 connections that broke did not come back"},
		"not back, by the trial": {func() *Facts {
			f := run40(well)
			f.Total.Counts.Returns.Broke, f.Total.Counts.Returns.GaveUp = 10, 2
			f.Events = append(f.Events, logbook.Event{At: 20 * time.Second, Client: 3, What: logbook.GaveUp})
			f.Doings = []Doing{{Do: "unplug", From: 10 * time.Second, To: 21 * time.Second}}
			return f
		}(), nil, ""},
		"refused, and told": {answered(func(m int) bool { return m%10 == 3 }, func(m int) bool { return m%10 == 3 }),
			[]int{0}, "6 messages of 4 clients reached nobody, and the server told them so: 'too fast'"},
		"lost, and all are answered": {answered(func(m int) bool { return m%10 == 3 }, func(int) bool { return true }),
			[]int{0}, "240 deliveries were lost that nothing explains"},
		"too large, and told": {sized(func(f *Facts, m *ledger.Message) {
			f.Events = append(f.Events, logbook.Event{At: time.Duration(m.Sent) + time.Millisecond, Client: m.Sender,
				What: logbook.Broke, Detail: "the server closed with code 1009"})
		}), []int{17}, "messages of 70,000 bytes or more are refused, and who says them is told"},
		"too large, and the machine was busy": {func() *Facts {
			f := sized(func(f *Facts, m *ledger.Message) {
				f.Events = append(f.Events, logbook.Event{At: time.Duration(m.Sent) + time.Millisecond,
					Client: m.Sender,
					What:   logbook.Broke, Detail: "the server closed with code 1009"})
			})
			f.Well = func(time.Duration) bool { return false }
			f.Total.Counts.Broken = 10
			return f
		}(), []int{17}, "10 connections were closed for the size of what their clients said"},
		"too large, and cut off": {sized(func(f *Facts, m *ledger.Message) {
			f.Events = append(f.Events, logbook.Event{At: time.Duration(m.Sent) + time.Millisecond, Client: m.Sender,
				What: logbook.Broke, Detail: "closed by the other side"})
		}), []int{17}, "messages of 70,000 bytes or more end the connection of who says them"},
		"too large, and nothing": {sized(func(*Facts, *ledger.Message) {}), []int{17}, "nobody was told"},
		"cut, and connections end": {func() *Facts {
			f, cut := run40(well), glued(true)
			f.Doings, f.Trial.Prompt = cut.Doings, cut.Trial.Prompt
			for c := range ledger.Client(6) {
				f.Events = append(f.Events, logbook.Event{At: f.Doings[0].From + time.Millisecond, Client: c,
					What: logbook.Broke, Detail: "closed by the other side"})
			}
			f.Total.Counts.Broken = 6
			return f
		}(), []int{40}, "6 connections were ended by the server while the network cut messages"},
		"cut and glued":          {glued(true), []int{40}, "while the network cut messages into pieces"},
		"lost, cut or not":       {glued(false), []int{0}, "were lost that nothing explains"},
		"a crowd returns slowly": {returning(4 * time.Second), []int{21}, "one in ten was back only after 4.00 s"},
		"a crowd returns":        {returning(300 * time.Millisecond), nil, ""},
		"an origin let in": {func() *Facts {
			f := run40(well)
			f.Trial.Checks = []trial.Check{{Name: "an origin", Kind: "origin"}}
			f.Total.Checks = []logbook.CheckCount{{Failed: 2, Held: 1}}
			return f
		}(), []int{18}, "2 of 3 connections with an origin"},
		"two causes": {func() *Facts {
			f := run40(func(_, sender, to int) ledger.Fate { return lostIf(to < 4 || to == sender && sender%2 == 0) })
			return f
		}(), []int{36, 2}, ""},
		"not stored": {func() *Facts {
			f := run40(well)
			f.FinalChecks = []FinalCheck{{Name: "kept", Why: "57 of 60", Failed: true}, {Name: "rooms"}}
			return f
		}(), []int{33}, "1 of 2 questions"},
		"ended": {func() *Facts {
			f := run40(well)
			f.ServerEnded = "exit status 2"
			return f
		}(), []int{42}, "exit status 2"},
		"a crowd of deaf ones": {func() *Facts {
			f := run40(func(_, _, to int) ledger.Fate { return lostIf(to >= 30 && to < 36) })
			for c := 30; c < 40; c++ {
				f.Events[c].At = 1200 * time.Millisecond
			}
			return f
		}(), []int{1}, "6 of 10 entries within 25.0 ms of others"},
	} {
		var found []int
		for _, x := range Of(tc.facts) {
			found = append(found, x.Weakness)
			if !strings.Contains(x.Says, tc.says) || len(x.RuledOut) == 0 || x.Usually == "" || x.Experiment == "" ||
				x.Title == "" || x.Severity == "" {
				t.Errorf("%s: %+v", name, x)
			}
		}
		if !slices.Equal(found, tc.want) {
			t.Errorf("%s: found %v, want %v", name, found, tc.want)
		}
	}
}

// TestCatalogue: each weakness has its number, its words and a question.
func TestCatalogue(t *testing.T) {
	if len(Catalogue) != 42 {
		t.Fatalf("%d weaknesses", len(Catalogue))
	}
	for i, w := range Catalogue {
		if w.Number != i+1 || w.Title == "" || w.Question == "" || !strings.ContainsAny(w.Usually[len(w.Usually)-1:],
			".?") ||
			w.Experiment == "" || strings.Contains(w.Usually, "  ") {
			t.Errorf("%d: %+v", i+1, *w)
		}
	}
}

// TestShare holds intervals and chances against known values.
func TestShare(t *testing.T) {
	s := shareOf(12, 60)
	if math.Abs(s.Low-0.1183) > 1e-3 || math.Abs(s.High-0.3178) > 1e-3 ||
		s.Words() != "12 of 60 (20 %; between 11.8 % and 31.8 % with 95 % certainty)" {
		t.Errorf("%+v %s", s, s.Words())
	}
	if none := shareOf(0, 100); none.Low != 0 || math.Abs(none.High-0.037) > 1e-3 || shareOf(1, 0) != nil {
		t.Errorf("%+v", none)
	}
	for _, c := range []struct {
		k, n int
		p, x float64
	}{{0, 5, 0.3, 1}, {3, 3, 0.1, 0.001}, {2, 3, 0.5, 0.5}, {5, 10, 0, 0}, {60, 100, 0.5, 0.0284}} {
		if got := chance(c.k, c.n, c.p); math.Abs(got-c.x) > 1e-4 {
			t.Errorf("%d of %d at %g: %g, want %g", c.k, c.n, c.p, got, c.x)
		}
	}
	if got := Unseen(93000, "deliveries"); got != "fewer than 1 in 31,000 deliveries, with 95 % certainty" {
		t.Error(got)
	}
	if got := ranks([]float64{1, 2, 3}, []float64{4, 5, 6}); math.Abs(got-1.964) > 1e-2 {
		t.Error(got)
	}
}

// answered is a run in which some messages reach nobody, and some are answered.
func answered(lost, reply func(message int) bool) *Facts {
	f := run40(func(m, _, _ int) ledger.Fate { return lostIf(lost(m)) })
	for i := range f.Kept {
		if m := &f.Kept[i]; reply(int(m.Number)) {
			f.Events = append(f.Events, logbook.Event{At: time.Duration(m.Sent) + 5*time.Millisecond, Client: m.Sender,
				What: logbook.Replied, Detail: "too fast"})
		}
	}
	return f
}

// sized is a run in which the last ten messages are large, and reach nobody.
func sized(then func(*Facts, *ledger.Message)) *Facts {
	f := run40(func(m, _, _ int) ledger.Fate { return lostIf(m >= 50) })
	for i := range f.Kept {
		m := &f.Kept[i]
		if m.Size = 100; m.Number >= 50 {
			m.Size = 70_000
			then(f, m)
		}
	}
	return f
}

// glued is a run in which messages are lost while the network cuts them, or all along.
func glued(while bool) *Facts {
	f := run40(func(m, _, to int) ledger.Fate { return lostIf(to == m%7 && (!while || m >= 20 && m < 40)) })
	first := f.Kept[20]
	f.Doings = []Doing{{Do: trial.Split.String(), From: time.Duration(first.Sent),
		To: time.Duration(f.Kept[39].Sent) + time.Millisecond}}
	f.Trial.Prompt = 100 * time.Millisecond
	return f
}

// returning is a run in which two clients and then all are cut off; the crowd is back after a time.
func returning(after time.Duration) *Facts {
	f := run40(well)
	cut := func(at time.Duration, clients int, back time.Duration) {
		f.Doings = append(f.Doings, Doing{Do: trial.CutClients.String(), From: at, To: at + 100*time.Millisecond})
		for c := range ledger.Client(clients) {
			f.Events = append(f.Events, logbook.Event{At: at, Client: c, What: logbook.Broke},
				logbook.Event{At: at + 100*time.Millisecond + back, Client: c, What: logbook.CameBack})
		}
	}
	cut(10*time.Second, 2, 20*time.Millisecond)
	cut(15*time.Second, 40, after)
	f.Total.Counts.Returns.Broke, f.Total.Counts.Returns.Back = 42, 42
	return f
}
